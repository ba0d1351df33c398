"""`fenko service`: the desk at login, kept running."""

from __future__ import annotations

import os
import shutil
import sys
from pathlib import Path
from typing import Any

import click

from fenko.cli.shared import desk_option, fail, format_option, note, open_desk, say, show_json
from fenko.client import NobodyThere, RunningDesk
from fenko.desk.compiled import compiled
from fenko.system import session_service as system
from fenko.system.files import whole_file


@click.group()
def command() -> None:
    """Start the desk with the session, and keep it running: on, off, status, log.

    With systemd it is a service of your own, bound to the graphical session: started again, with growing pauses, when it fails,
    and when it gives no sign of life any more; what it says is in the journal. Elsewhere it is an entry of the desktop's autostart.
    Nothing of it needs root.
    """


@command.command()
@desk_option
def on(desk_folder: Path | None) -> None:
    """Start the desk now, and with every session from now on."""
    desk = open_desk(desk_folder)
    starts = "program" in compiled(desk).outs
    try:
        if not system.has_manager():
            _write(system.autostart_path(), system.entry_text(desk.folder))
            note(f"there is no systemd of yours here, so the desk starts with your desktop ({system.autostart_path()})")
            note("to start it now: fenko run")
            return
        ours = system.facts("ActiveState").get("ActiveState") in ("active", "activating", "reloading")
        if not ours and (other := _running()):
            fail(f"a desk of yours runs already, by hand: {other}; `fenko stop` ends it, then say this again")
        _write(system.unit_path(), system.unit_text(desk.folder, starts))
        system.autostart_path().unlink(missing_ok=True)
        system.share_environment()
        system.told("daemon-reload")
        system.told("enable", "--quiet", system.UNIT)
        system.told("restart", system.UNIT)
    except OSError as why:
        fail(f"{why.filename}: {(why.strerror or str(why)).lower()}")
    except system.ServiceError as why:
        fail(f"{why}\n`fenko service log` shows what it said")
    note(f"{desk.name} runs, and starts with every session")
    if starts:
        note(
            "it starts programs, which would be bound by what a service can be forbidden; so nothing is forbidden to it"
        )
    if system.asked("is-active", "--quiet", system.TARGET).returncode:
        note(
            f"this session has not started {system.TARGET}, as desktops do; then put `systemctl --user start fenko` into its start script"
        )


@command.command()
def off() -> None:
    """End it, and start it no more."""
    was = [path for path in (system.unit_path(), system.autostart_path()) if path.exists()]
    try:
        if system.unit_path().exists() and system.has_manager():
            system.told("disable", "--quiet", "--now", system.UNIT)
        for path in was:
            path.unlink()
        if was and system.has_manager():
            system.told("daemon-reload")
    except OSError as why:
        fail(f"{why.filename}: {(why.strerror or str(why)).lower()}")
    except system.ServiceError as why:
        fail(str(why))
    note("the desk does not start by itself any more" if was else "it was off")


@command.command()
@format_option("text", "json")
def status(form: str) -> None:
    """Print whether it is on, and whether it runs. Exit status 1 if it does not run."""
    found = _status()
    if form == "json":
        show_json(found)
    else:
        say(f"{found['starts']}; {found['state']}")
        if found["restarts"]:
            say(f"started again {found['restarts']} times after it had failed")
        if found["desk"]:
            say(f"desk {found['desk']}")
    sys.exit(0 if found["runs"] else 1)


def _status() -> dict[str, Any]:
    unit, entry = system.unit_path().exists(), system.autostart_path().exists()
    try:
        known = unit and system.has_manager()
        facts = system.facts("ActiveState", "SubState", "Result", "NRestarts") if known else {}
    except system.ServiceError as why:
        fail(str(why))
    state = facts.get("ActiveState", "")
    desk = _running()
    runs = state in ("active", "reloading") if known else bool(entry and desk)
    words = {
        "active": "it runs", "reloading": "it runs", "activating": "it is being started", "failed": "it failed",
        "deactivating": "it is ending", "inactive": "it does not run",
    }  # fmt: skip
    return {
        "on": unit or entry,
        "starts": "on, as a systemd service of yours" if unit else "on, with the desktop" if entry else "off",
        "runs": runs,
        "state": words.get(state, "it runs" if runs else "it does not run")
        + (f" ({facts['Result']})" if facts.get("Result", "success") != "success" else ""),
        "restarts": int(facts.get("NRestarts") or 0),
        "desk": desk,
    }


@command.command()
@click.option("--lines", default=50, show_default=True, type=click.IntRange(1, 100_000), help="How many of the last.")
@click.option("--follow", is_flag=True, help="Go on with what comes, until Ctrl-C.")
def log(lines: int, follow: bool) -> None:
    """Print what it has said, from the journal."""
    if not system.unit_path().exists() or shutil.which("journalctl") is None:
        fail("there is no journal of it: without systemd, what it says goes where your session keeps such things; `fenko status` "
             "has its last words")  # fmt: skip
    words = [
        "journalctl",
        "--user",
        "--unit",
        system.UNIT,
        "--lines",
        str(lines),
        "--output",
        "short-iso",
        "--no-pager",
    ]
    sys.stdout.flush()
    os.execvp(words[0], [*words, *(["--follow"] if follow else [])])


def _running() -> str:
    """The desk that runs, in words; empty if none does."""
    try:
        with RunningDesk(2.0) as desk:
            return f"{desk.name} ({desk.folder}), process {desk.process}"
    except NobodyThere:
        return ""


def _write(path: Path, text: str) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    with whole_file(path, 0o644) as file:
        file.write(text.encode())
