"""`fenko report`: what somebody who is to find a mistake has to know, and nothing else."""

from __future__ import annotations

import importlib.metadata
import os
import platform
import re
from collections.abc import Iterator
from pathlib import Path

import click

from fenko import __version__
from fenko.cli.shared import agreed, desk_option, desk_path, fail, note, say
from fenko.client import NobodyThere, RunningDesk
from fenko.core.words import reason
from fenko.desk.masked import HIDDEN, hidden, masked, without_serials
from fenko.desk.problems import DeskError
from fenko.desk.sources import Sources

_SESSION = ("XDG_SESSION_TYPE", "XDG_CURRENT_DESKTOP", "LANG")
_QUOTED = re.compile(r"\"[^\"]*\"|“[^”]*”")


@click.command()
@desk_option
@click.option("--out", metavar="FILE", type=click.Path(path_type=Path), help="Write it there, after it was shown.")
@click.option("--yes", is_flag=True, help="With --out: without asking.")
def command(desk_folder: Path | None, out: Path | None, yes: bool) -> None:
    """Print what a report of a mistake needs: versions, what `fenko ready` finds, what the running desk has said, and the desk without texts,
    labels, titles, comments, addresses and secrets.

    Nothing is sent anywhere. With --out it is written into a file, after you have seen it and agreed.
    """
    if yes and out is None:
        raise click.UsageError("--yes goes with --out")
    sources = Sources(desk_path(desk_folder))
    sources.read()
    text = "\n".join((*_about(desk_folder), "\n# The desk\n", *_problems(desk_folder)))
    for one in hidden(sources.data):
        text = text.replace(one, HIDDEN)
    text = "\n".join((without_serials(text), *masked(sources.data)))
    say(text)
    if out is None:
        return
    if not yes and not agreed(f"Write this into {out}?"):
        fail("nothing was written; --yes writes it without asking")
    try:
        out.write_text(text + "\n", encoding="utf-8")
    except OSError as why:
        fail(f"{out} cannot be written: {reason(why)}")
    note(f"{out} has it")


def _about(folder: Path | None) -> Iterator[str]:
    yield "# Versions\n"
    yield f"fenko {__version__}, Python {platform.python_version()}, {platform.system()} {platform.release()} {platform.machine()}"
    yield _system()
    yield "session: " + ", ".join(f"{name}={os.environ.get(name, '')}" for name in _SESSION)
    yield from _libraries()
    yield "\n# Ready\n"
    yield from _ready(folder)
    yield "\n# The desk that runs\n"
    yield from _running()


def _system() -> str:
    try:
        return f"system: {platform.freedesktop_os_release().get('PRETTY_NAME', 'unknown')}"
    except OSError:
        return "system: unknown"


def _libraries() -> Iterator[str]:
    needed = importlib.metadata.requires("fenko") or []
    names = sorted({re.split(r"[<>=!~;\[ ]", one)[0] for one in needed if "extra" not in one})
    found = []
    for name in names:
        try:
            found.append(f"{name} {importlib.metadata.version(name)}")
        except importlib.metadata.PackageNotFoundError:
            found.append(f"{name} missing")
    yield f"libraries: {', '.join(found)}"


def _ready(folder: Path | None) -> Iterator[str]:
    from fenko.cli.shared import usual_desk
    from fenko.live.readiness import facts

    try:
        desk = usual_desk(folder)
    except SystemExit:
        desk = None
    for fact in facts(desk):
        yield _without_home(f"{fact.state:8} {fact.about}: {fact.found}")


def _running() -> Iterator[str]:
    try:
        with RunningDesk(2.0) as desk:
            now = desk.status()
    except NobodyThere:
        yield "none"
        return
    except (OSError, ValueError) as wrong:
        yield f"does not answer: {wrong}"
        return
    yield f"profile {now['profile']}, layers {', '.join(now['layers']) or 'none'}, holds {', '.join(now['held']) or 'nothing'}"
    for name, one in now["surfaces"].items():
        yield f"surface {name}, {one['kind']}: {'here' if one['there'] else 'not here'}"
    for name, why in now["outputs"].items():
        yield f"output {name}: {why}"
    for one in now["said"]:
        yield _without_home(_QUOTED.sub('"…"', f"said: {one['text']}"))


def _problems(folder: Path | None) -> Iterator[str]:
    from fenko.desk.load import load_desk

    try:
        load_desk(desk_path(folder))
    except DeskError as error:
        for problem in error.problems:
            yield _without_home(_QUOTED.sub('"…"', problem.render().partition("\n")[0]))


def _without_home(text: str) -> str:
    home = str(Path.home())
    return text.replace(home, "~") if len(home) > 1 else text
