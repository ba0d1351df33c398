"""`fenko ready`: whether this machine lets Fenko work, and what helps where it does not."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import click
import msgspec

from fenko.cli.shared import bold, colour, desk_option, dim, fail, format_option, note, say, show_json, usual_desk
from fenko.core.remedies import Remedy, together
from fenko.core.words import reason
from fenko.live.readiness import Fact, facts
from fenko.system.administrator import add_lines, do, missing_lines
from fenko.system.person import ask_as

_COLOURS = {"ready": "bright_green", "missing": "bright_red", "note": "bright_yellow"}


@click.command()
@desk_option
@format_option("table", "json")
@click.option("--fix", is_flag=True, help="Print what an administrator has to do; as root, do it after showing it.")
@click.option("--yes", is_flag=True, help="With --fix, as root, or --extension: do it without asking.")
@click.option(
    "--extension",
    type=click.Choice(["on", "off"]),
    help="Put the extension into its place, or take it out, by which GNOME on Wayland tells Fenko of windows.",
)
@click.option("--for", "person", metavar="USER", help="With --fix, as root: for whom. Default: who called sudo.")
def command(
    desk_folder: Path | None, form: str, fix: bool, yes: bool, extension: str | None, person: str | None
) -> None:
    """Look whether this machine is ready: devices, keys, windows, layout, MIDI, audio; each a fact looked at now.

    A line is `ready`, `missing` (Fenko cannot do its work without it) or a `note` (it can), with exactly what helps.
    The exit status is 1 if anything is missing. Nothing that helps has to be done twice: not at the next login, not
    after a reboot, and no part of Fenko ever runs as root.
    """
    if extension is not None and not (fix or person):
        _extension(extension == "on", yes)
        return
    if extension is not None or ((yes or person) and not fix):
        raise click.UsageError("--yes and --for go with --fix, and --yes with --extension.")
    if fix and os.geteuid() == 0:
        _fix_as_root(desk_folder, person, yes)
        return
    if os.geteuid() == 0:
        note("You are root, who may do everything; ask as yourself to learn what you may do.")
    found = list(facts(usual_desk(desk_folder)))
    if fix:
        _print_fix(together(fact.remedy for fact in found))
    elif form == "json":
        show_json([_as_json(fact) for fact in found])
    else:
        _show(found)
    sys.exit(any(fact.state == "missing" for fact in found))


def _extension(on: bool, yes: bool) -> None:
    """GNOME's extension, on consent."""
    from fenko.system import shell_extension

    folder = shell_extension.extension_folder()
    if not on:
        try:
            there = shell_extension.remove()
        except OSError as why:
            fail(f"{folder} cannot be removed: {reason(why)}")
        shell_extension.enable(False)
        note(
            "The extension is gone; the shell forgets it at the next login." if there else "The extension is not there."
        )
        return
    version = shell_extension.shell_version()
    if not version:
        fail("there is no gnome-shell on this machine, so there is nothing to extend")
    note(
        f"Into {folder} comes an extension that tells Fenko which windows there are, and can bring one to the front, ask one to\n"
        "close, press keys and move the pointer. Whatever runs in your session, and can reach its message bus, can ask it for that."
    )
    if not yes and not click.confirm("Do this?", err=True):
        fail("nothing was done")
    try:
        shell_extension.install(version)
    except OSError as why:
        fail(f"{folder} cannot be written: {reason(why)}")
    if shell_extension.enable(True):
        note("The extension is in its place. Log out and in once; the shell finds it then.")
    else:
        note(
            f"The extension is in its place. Log out and in once, then: gnome-extensions enable {shell_extension.UUID}"
        )


def _as_json(fact: Fact) -> dict[str, object]:
    return {**msgspec.structs.asdict(fact), "commands": fact.remedy.commands()}


def _show(found: list[Fact]) -> None:
    wide = max(len(fact.about) for fact in found)
    for fact in found:
        say(f"{colour(f'{fact.state:7}', _COLOURS[fact.state])}  {bold(f'{fact.about:{wide}}')}  {fact.found}")
        for hint in fact.remedy.hints:
            say(f"{'':{wide + 11}}{dim(hint)}")
    missing = [fact for fact in found if fact.state == "missing"]
    _show_commands("What helps, once and for good", missing)
    _show_commands("What helps with the notes, if you want it", [fact for fact in found if fact.state == "note"])
    if missing:
        note(f"\n{len(missing)} of {len(found)} missing.")
    else:
        note("\nThis machine is ready.")


def _show_commands(title: str, found: list[Fact]) -> None:
    """What an administrator has to do for these facts, in one piece: most of it helps with several of them."""
    remedy = together(fact.remedy for fact in found)
    if remedy.writes:
        say(f"\n{bold(title)} (`sudo fenko ready --fix` does it all):")
        for line in msgspec.structs.replace(remedy, hints=()).commands():
            say(f"    {line}")


def _print_fix(remedy: Remedy) -> None:
    """Everything at once, as a script that a person can read and run."""
    if not remedy.writes:
        note("There is nothing here that an administrator could mend.")
        for line in remedy.hints:
            say(line)
        return
    say("#!/bin/sh")
    say("# Lets you use your devices from now on; nothing of Fenko runs as root, now or later.")
    for line in remedy.commands():
        say(line)


def _fix_as_root(desk_folder: Path | None, person: str | None, yes: bool) -> None:
    person = person or os.environ.get("SUDO_USER")
    if not person or person == "root":
        fail("for whom? Fenko never works as root; name the person with --for USER", 2)
    remedy = _needed_by(person, desk_folder)
    files: dict[str, list[str]] = {}
    try:
        files = {path: lines for path, all_lines in remedy.files().items() if (lines := missing_lines(path, all_lines))}
    except OSError as why:
        fail(f"{why.filename} cannot be read: {reason(why)}")
    if not remedy.writes:
        note(f"Nothing is missing for {person} that could be written here.")
        return
    for action in remedy.before():
        say(f"run:  {' '.join(action)}")
    for path, lines in files.items():
        say(f"into {path}:")
        for line in lines:
            say(f"      {line}")
    for action in remedy.after():
        say(f"run:  {' '.join(action)}")
    if not yes and not click.confirm("Do this?", err=True):
        fail("nothing was done")
    wrong = _done(remedy.before())
    for path, lines in files.items():
        try:
            add_lines(path, lines)
        except OSError as why:
            fail(f"{path} cannot be written: {reason(why)}")
    wrong += _done(remedy.after())
    if wrong:
        fail("\n".join(wrong))
    note("Done." + (f" {remedy.member} logs out and in once, to be in the group." if remedy.member else ""))


def _done(actions: list[list[str]]) -> list[str]:
    """Runs the commands; which of them failed, and why."""
    return [f"{' '.join(action)}: {problem}" for action in actions if (problem := do(action)) is not None]


def _needed_by(person: str, desk_folder: Path | None) -> Remedy:
    """What a person lacks: root lacks nothing, so the looking is done as that person."""
    # What looking loads is loaded before: that person may have no right to read these files.
    import evdev  # noqa: F401
    import platformdirs.unix  # noqa: F401

    def look() -> bytes:
        return msgspec.json.encode([fact.remedy for fact in facts(usual_desk(desk_folder))])

    try:
        return together(msgspec.json.decode(ask_as(person, look), type=list[Remedy]))
    except LookupError as why:
        fail(str(why.args[0]), 2)
    except OSError as why:
        fail(f"{why}; ask as yourself, and run what `fenko ready --fix` prints then")
