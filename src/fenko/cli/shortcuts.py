"""`fenko shortcuts`: the commands of a program, searched, imported, and compared with what is bound."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from fenko.cli.shared import (
    desk_option,
    desk_path,
    dim,
    fail,
    fail_unknown,
    format_option,
    goes_with,
    note,
    open_desk,
    say,
    show_json,
    show_problems,
    show_table,
    shown_path,
)
from fenko.core.reader import NAME
from fenko.core.words import reason
from fenko.desk.editing import EditError, set_entry, write
from fenko.desk.importing import (
    ImportFailed,
    Table,
    guess_columns,
    imported,
    named_columns,
    read_table,
    sample,
)
from fenko.desk.load import Desk, load_desk
from fenko.desk.problems import DeskError
from fenko.desk.shortcuts import COLUMNS, LARGEST, ShortcutList, list_text
from fenko.desk.usage import Use, unlisted, uses
from fenko.desk.writing import quoted, write_new
from fenko.system.files import read_file
from fenko.system.history import keep


@click.command()
@click.argument("app", required=False)
@click.argument("words", nargs=-1)
@desk_option
@format_option("table", "json")
@click.option("--unbound", is_flag=True, help="Only the commands that no binding uses yet.")
@click.option("--unlisted", "not_listed", is_flag=True, help="The bindings whose keys the list does not know.")
@click.option(
    "--import", "source", metavar="FILE", type=click.Path(path_type=Path),
    help="Make the list from a CSV, TSV or JSON file that the program exports.",
)  # fmt: skip
@click.option("--columns", metavar="command=…,keys=…", help="With --import: which column is what, by title or number.")
@click.option("--yes", is_flag=True, help="With --import: do not ask whether the columns are right.")
def command(
    app: str | None,
    words: tuple[str, ...],
    desk_folder: Path | None,
    form: str,
    unbound: bool,
    not_listed: bool,
    source: Path | None,
    columns: str | None,
    yes: bool,
) -> None:
    """Search the shortcut list of a program, with the controls that each command is bound on.

    APP is a name from the desk's [app.NAME]; without it, all lists are named. Every one of the WORDS has to be found in a
    command, its keys, its group or its note.
    """
    goes_with("--import FILE", source is not None, columns=columns, yes=yes)
    if source is not None:
        if app is None:
            raise click.UsageError("name the program whose list this is: fenko shortcuts APP --import FILE")
        _import(app, source, columns, yes, desk_folder)
        return
    desk = open_desk(desk_folder)
    if app is None:
        _lists(desk, form)
        return
    shortcuts = _list_of(desk, app)
    if not_listed:
        _show_unlisted(desk, shortcuts, form)
        return
    used = uses(desk, shortcuts)
    found = [one for one in shortcuts.search(words) if not (unbound and used.get(one.command))]
    if form == "json":
        show_json(
            [
                {"command": one.command, "keys": one.keys, "group": one.group, "note": one.note,
                 "bound": [use.words for use in used.get(one.command, [])]}
                for one in found
            ]
        )  # fmt: skip
    elif not found:
        note(
            f"{app} has no such command" if words else "every command is bound" if unbound else f"{app}'s list is empty"
        )
    else:
        rows = [(one.command, one.keys, one.group, one.note, _brief(used.get(one.command, []))) for one in found]
        filled = [n for n in range(len(COLUMNS) + 1) if n == 0 or any(row[n] for row in rows)]
        titles = (*COLUMNS, "bound on")
        show_table([titles[n] for n in filled], [[row[n] for n in filled] for row in rows])
    sys.exit(0 if found or unbound else 1)


def _brief(found: list[Use]) -> str:
    more = f", and {len(found) - 2} more" if len(found) > 2 else ""
    return ", ".join(use.words for use in found[:2]) + more


def _lists(desk: Desk, form: str) -> None:
    lists = [app.shortcuts for app in desk.apps.values() if app.shortcuts is not None]
    rows = [(one.app, len(one.shortcuts), len(uses(desk, one)), one.path.name) for one in lists]
    if form == "json":
        show_json([dict(zip(("app", "commands", "bound", "file"), row, strict=True)) for row in rows])
    elif not rows:
        note("This desk has no shortcut list yet. `fenko shortcuts APP --import FILE` makes one.")
    else:
        show_table(("app", "commands", "bound", "file"), [tuple(map(str, row)) for row in rows])


def _list_of(desk: Desk, app: str) -> ShortcutList:
    lists = {name: one.shortcuts for name, one in desk.apps.items() if one.shortcuts is not None}
    if app not in lists:
        names = f" (it has {', '.join(lists)})" if lists else "; `--import FILE` makes one"
        fail_unknown(f"the desk has no shortcut list for `{app}`{names}", app, lists)
    return lists[app]


def _show_unlisted(desk: Desk, shortcuts: ShortcutList, form: str) -> None:
    found = unlisted(desk, shortcuts)
    if form == "json":
        show_json([{"binding": use.words, "keys": use.keys, "label": use.label, "where": use.where} for use in found])
    elif not found:
        say(f"Every binding for {shortcuts.app} uses shortcuts of its list.")
    else:
        rows = [(use.words, use.keys, use.label, use.where) for use in found]
        show_table(("binding", "keys", "label", "stands in"), rows)
        say(
            dim(
                f"These keys stand nowhere in {shortcuts.path.name}: typed wrong, changed since, or missing in the list."
            )
        )
    sys.exit(1 if found else 0)


# --- Import ---


def _import(app: str, source: Path, columns: str | None, yes: bool, desk_folder: Path | None) -> None:
    if NAME.fullmatch(app) is None:
        fail(f"`{app}` cannot be the name of a program: lower-case letters, digits, - and _", 2)
    folder = desk_path(desk_folder)
    try:
        desk = load_desk(folder)
    except DeskError as error:
        lacking = (
            f"there is no file `{app}.csv`",
            f"the desk has no shortcut list `{app}`",
            f"{app}.csv has no command",
        )
        if not all(problem.message.startswith(lacking) for problem in error.problems):
            show_problems(error.problems, err=True)
            sys.exit(2)
        desk = None  # the list that is imported now is all that it lacks
    known = desk.apps.get(app) if desk is not None else None
    path = known.shortcuts.path if known is not None and known.shortcuts is not None else folder / f"{app}.csv"
    try:
        table = read_table(source)
        chosen = named_columns(table, columns) if columns else guess_columns(table)
    except ImportFailed as why:
        fail(str(why), 2)
    if table.remark:
        note(f"{source}: {table.remark}")
    if not columns and not yes:
        chosen = _confirmed(table, chosen)
    elif (
        path.exists()
        and not yes
        and not (sys.stdin.isatty() and click.confirm(f"{path} is already there; replace it?", err=True))
    ):
        fail(f"{path} is already there; --yes replaces it, and keeps the one before", 2)
    if "command" not in chosen or "keys" not in chosen:
        missing = "commands" if "command" not in chosen else "keys"
        fail(
            f"no column looks like {missing}; say which is which: --columns command=…,keys=… ({', '.join(table.titles)})",
            2,
        )
    result = imported(table, chosen)
    if not result.shortcuts:
        fail(f"{source} names no command", 2)
    text = list_text(result.shortcuts)
    if len(text.encode()) > LARGEST:
        fail(
            f"{source} has {len(result.shortcuts):,} commands; a list holds at most {LARGEST // 1_000_000} MB of them",
            2,
        )
    try:
        replaced = path.exists()
        if replaced:
            keep(path, read_file(path))
            path.unlink()
        write_new(path, text)
    except OSError as why:
        fail(f"{path} cannot be written: {reason(why)}")
    for name, why_not in result.left_out[:10]:
        note(f"{name}: {why_not}")
    if len(result.left_out) > 10:
        note(f"… and {len(result.left_out) - 10} more of that kind")
    kept = "; `fenko history` has the list before" if replaced else ""
    say(f"{len(result.shortcuts)} commands of {app} are in {shown_path(path)}{kept}.")
    _mention(open_desk(desk_folder), app, path)


def _mention(desk: Desk, app: str, path: Path) -> None:
    """Writes into the desk that the program has this list."""
    if app in desk.apps and desk.apps[app].shortcuts is not None:
        return
    try:
        edit = set_entry(desk.sources.folder, ("app", app, "shortcuts"), quoted(path.name))
        write(edit)
    except EditError as why:
        fail(str(why))
    except DeskError as error:
        show_problems(error.problems, err=True)
        sys.exit(2)
    say(f"{shown_path(edit.path)}:{edit.line} names it; bindings can say `{app}: COMMAND` now.")


def _confirmed(table: Table, chosen: dict[str, int]) -> dict[str, int]:
    """The columns that a person has seen and agreed to."""
    while True:
        guess = ", ".join(f"{column} = {table.titles[at]}" for column, at in chosen.items())
        note(f"{len(table.rows)} rows. {guess}:")
        for row in sample(table, chosen):
            note("    " + "  |  ".join(row).rstrip(" |"))
        if not sys.stdin.isatty():
            fail("nobody can be asked whether that is right: --yes takes it, --columns says otherwise", 2)
        answer = click.prompt(
            "Enter if that is right, else such as command=1,keys=3", default="", err=True, show_default=False
        )
        if not answer.strip():
            return chosen
        try:
            chosen = named_columns(table, answer)
        except ImportFailed as why:
            note(str(why))
