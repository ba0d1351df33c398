"""`fenko journal`: whether it is remembered what is used, and what is."""

from __future__ import annotations

import csv
import sys
import time
from collections.abc import Iterator
from contextlib import closing
from datetime import datetime
from pathlib import Path
from typing import Any

import click

from fenko.cli.shared import (
    days_said,
    desk_option,
    dim,
    fail,
    format_option,
    note,
    open_desk,
    say,
    say_json,
    show_json,
    show_problems,
    shown_path,
)
from fenko.desk.editing import EditError, NotWritten, alone, set_entry, write
from fenko.desk.load import Desk
from fenko.desk.problems import DeskError
from fenko.desk.times import days_of
from fenko.desk.writing import quoted
from fenko.system.journal import USE, Journal, JournalError, Use, journal_file, unpacked

_USUAL = "90 days"
_COLUMNS = ("at", "program", "profile", "level", "control", "gesture", "does", "count", "lasted")


@click.command()
@click.argument("what", required=False, type=click.Choice(["on", "off", "clear", "export"]))
@desk_option
@format_option("table", "json")
@click.option("--keep", metavar="TIME", help=f"With on: for how long, such as 30 days or 1 year.  [default: {_USUAL}]")
@click.option("--yes", is_flag=True, help="With clear: without asking.")
def command(what: str | None, desk_folder: Path | None, form: str, keep: str | None, yes: bool) -> None:
    """Say whether a journal of what is used is kept, and what is in it; have it kept (`on`) or not (`off`), emptied (`clear`),
    or printed (`export`: CSV, or with --format json one JSON object a line).

    It is off unless you turn it on, and stays on this computer. In it is which binding was used when, with which gesture, in which
    profile and program; how long presses took where `hold`, `double` and `chord` judge that. Never what was typed, no window's title, no
    key that no binding has. `fenko usage` reads it.
    """
    if keep is not None and what != "on":
        raise click.UsageError("--keep goes with on")
    if yes and what != "clear":
        raise click.UsageError("--yes goes with clear")
    desk = open_desk(desk_folder)
    path = journal_file(desk.folder)
    try:
        if what in ("on", "off"):
            _write(desk, (keep or _USUAL) if what == "on" else "nothing", path)
        elif what == "clear":
            _clear(path, yes)
        elif what == "export":
            _export(path, form)
        else:
            _show(desk, path, form)
    except JournalError as why:
        fail(str(why))


def kept(desk: Desk) -> str:
    """For how long the desk's journal is kept."""
    return str(desk.sources.data.get("journal", {}).get("keep", "nothing"))


def _show(desk: Desk, path: Path, form: str) -> None:
    uses, first, last, size = 0, 0, 0, 0
    if path.exists():
        with closing(Journal(path)) as journal:
            uses, first, last = journal.extent()
        size = sum(one.stat().st_size for one in path.parent.glob(f"{path.name}*"))
    if form == "json":
        show_json({"keep": kept(desk), "file": str(path), "records": uses, "first": first, "last": last, "bytes": size})
        return
    if days_of(kept(desk)):
        say(
            f"A journal is kept for {kept(desk)} ([journal] in {shown_path(desk.folder)}); `fenko journal off` ends that."
        )
    else:
        say("No journal is kept; `fenko journal on` has one kept.")
    if uses:
        days = " to ".join(time.strftime("%Y-%m-%d", time.localtime(one)) for one in (first, last))
        say(f"{uses} records from {days}, {size / 1e6:.1f} MB  {dim(str(path))}")
        note("`fenko usage` tells what they say, `fenko journal export` prints them, `fenko journal clear` empties it.")
    else:
        say("There is nothing in it.")


def _write(desk: Desk, keep: str, path: Path) -> None:
    if keep != "nothing":
        days_said(keep)
    if keep == "nothing" == kept(desk):
        note("no journal is kept; nothing has changed")
        return
    try:
        with alone(desk.folder):
            edit = set_entry(desk.folder, ("journal", "keep"), quoted(keep))
            write(edit)
    except DeskError as error:
        show_problems(error.problems, err=True)
        fail("nothing was written", 2)
    except EditError as why:
        fail(str(why), 1 if isinstance(why, NotWritten) else 2)
    say(f"{shown_path(edit.path)}: {edit.text}")
    if keep != "nothing":
        note("A desk that runs begins now. What stands in it: `fenko journal export`.")
    elif path.exists():
        note("No more is written. What was written is still there; `fenko journal clear` empties it.")


def _clear(path: Path, yes: bool) -> None:
    if not path.exists():
        note("there is no journal, so nothing had to be cleared")
        return
    try:
        if not yes and not click.confirm("Forget all that is in the journal?", default=False, err=True):
            note("nothing was forgotten")
            return
    except click.Abort:
        fail("nothing was forgotten; --yes clears it without asking")
    try:
        with closing(Journal(path)) as journal:
            journal.clear()
    except JournalError:
        for one in path.parent.glob(f"{path.name}*"):  # a damaged one goes as a whole
            one.unlink()
    say("The journal is empty.")


def _export(path: Path, form: str) -> None:
    with closing(Journal(path)) as journal:
        if form == "json":
            for row in _rows(journal):
                say_json(row)
        else:
            table = csv.DictWriter(sys.stdout, _COLUMNS, lineterminator="\n")
            table.writeheader()
            table.writerows(_rows(journal))


def _rows(journal: Journal) -> Iterator[dict[str, Any]]:
    bindings, names = journal.bindings(), journal.names()
    for batch in journal.batches():
        for raw in USE.iter_unpack(batch):
            use: Use = unpacked(raw, bindings, names)
            one = use.binding
            yield dict(
                zip(
                    _COLUMNS,
                    (
                        datetime.fromtimestamp(use.at).astimezone().isoformat(timespec="milliseconds"),
                        use.program, use.profile, one.level, one.control, one.gesture, one.does, use.count,
                        round(use.lasted, 3) if use.lasted >= 0 else None,
                    ),
                    strict=True,
                )
            )  # fmt: skip
