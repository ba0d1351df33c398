"""`fenko set`: tries another setting in the desk that runs, and takes it back by itself unless it is kept."""

from __future__ import annotations

import contextlib
import sys
import tomllib
from pathlib import Path

import click

from fenko.cli.shared import fail, note, show_problems
from fenko.cli.trial import kept, tried
from fenko.core.words import parse_time
from fenko.desk.editing import EditError, NotWritten, alone, set_entry, write
from fenko.desk.locate import KeyPath
from fenko.desk.problems import DeskError
from fenko.desk.writing import quoted
from fenko.system.talking import NobodyThere, Refused, Talk


@click.command()
@click.argument("setting")
@click.argument("value")
@click.option("--for", "time_text", metavar="TIME", default="10s", show_default=True, help="How long it is tried.")
@click.option("--confirm", metavar="SURFACE.CONTROL", default="", help="Pressing this control keeps it too.")
@click.option("--keep", is_flag=True, help="Keep it in any case, and write it into the desk at once.")
def command(setting: str, value: str, time_text: str, confirm: str, keep: bool) -> None:
    """Try a setting in the desk that runs, such as `surface.pad.control.stick-left.dead-zone 0.2`.

    It holds for a while and is then taken back, also when this is ended or its terminal closed: a pointer that ran away is
    never a trap. Enter keeps it, and writes it into the desk's file.
    """
    try:
        seconds = parse_time(time_text)
    except ValueError as why:
        raise click.UsageError(str(why)) from None
    text = _as_toml(value)
    try:
        talk = Talk()
    except NobodyThere as why:
        fail(str(why))
    with contextlib.closing(talk):
        folder = Path(talk.desk["folder"])
        try:
            tried(talk, {setting: text}, seconds)
        except Refused as why:
            note(str(why))
            sys.exit(2)
        except NobodyThere as why:
            fail(str(why))
        if keep or kept(talk, f"{setting} = {text}", seconds, confirm):
            _keep(talk, folder, setting, text)
        else:
            note(f"{setting} is what it was")


def _as_toml(value: str) -> str:
    """The value as TOML; what is none is a text."""
    try:
        tomllib.loads(f"value = {value}")
    except tomllib.TOMLDecodeError:
        return quoted(value)
    return value


def _keep(talk: Talk, folder: Path, setting: str, text: str) -> None:
    path: KeyPath = tuple(setting.split("."))
    try:
        with alone(folder):
            edit = set_entry(folder, path, text)
            write(edit)
        list(talk.ask("keep"))
    except DeskError as error:
        show_problems(error.problems, err=True)
        fail("nothing was written, and it is taken back", 2)
    except NotWritten as why:
        fail(f"{why}; it is taken back")
    except EditError as why:
        fail(f"{why}; it is taken back", 2)
    except Refused:
        fail("it was taken back by then, but it is written: read the desk again with `kill -USR1`")
    note(f"{edit.path}:{edit.line}: {edit.text}")
