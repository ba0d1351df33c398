"""What several commands need: the desk option, tables, JSON, colour, and how problems are shown."""

from __future__ import annotations

import os
import shutil
import sys
from collections.abc import Callable, Iterable, Sequence
from itertools import zip_longest
from pathlib import Path
from secrets import token_hex
from typing import Any, NoReturn, TypeVar

import click
import msgspec

from fenko.cli import forget_output
from fenko.core.words import nearest, width
from fenko.desk.descriptions import user_folder
from fenko.desk.load import BROUGHT, Desk, load_desk
from fenko.desk.problems import DeskError, Problem
from fenko.desk.times import days_of
from fenko.system.files import real_path

F = TypeVar("F", bound=Callable[..., Any])


def desk_option(function: F) -> F:
    """`--desk DIR`, with its usual fallbacks."""
    return click.option(
        "--desk",
        "desk_folder",
        metavar="DIR",
        envvar="FENKO_DESK",
        show_envvar=True,
        type=click.Path(path_type=Path),
        help="The desk's folder.",
    )(function)


def format_option(*formats: str) -> Callable[[F], F]:
    """`--format`, the first of `formats` being what people get who do not ask."""
    return click.option(
        "--format",
        "form",
        type=click.Choice(formats),
        default=formats[0],
        show_default=True,
        help="How to print it.",
    )


def goes_with(other: str, there: bool, **options: Any) -> None:
    """Ends as bad use if one of these options was given, which do nothing without another one."""
    for name, value in options.items():
        if value and not there:
            raise click.UsageError(f"--{name.replace('_', '-')} goes with {other}")


def desk_path(folder: Path | None) -> Path:
    """The desk's folder: the one named, or `fenko` in the user's config folder."""
    return folder if folder is not None else user_folder()


def open_desk(folder: Path | None) -> Desk:
    """The desk, or its problems on stderr and exit status 2."""
    say_what_was_brought()
    try:
        return load_desk(desk_path(folder))
    except DeskError as error:
        show_problems(error.problems, err=True)
        sys.exit(2)


def say_what_was_brought() -> None:
    """What is wrong with outputs that others have installed."""
    for problem in BROUGHT:
        note(problem)


def usual_desk(folder: Path | None) -> Desk | None:
    """The desk that was named (or its problems and exit status 2); else the usual one, if it is there and good."""
    if folder is not None:
        return open_desk(folder)
    usual = desk_path(None)
    if not os.path.exists(usual / "desk.toml"):  # which does not raise where the folder may not be entered
        return None
    try:
        return load_desk(usual)
    except DeskError as error:
        note(f"The desk in {usual} has {len(error.problems)} mistakes (`fenko check`); going on without it.")
        return None


def show_problems(problems: Iterable[Problem], err: bool) -> None:
    """Each problem as people read it, a blank line apart."""
    colours = {"error": "bright_red", "warning": "bright_yellow", "hint": "bright_cyan"}
    for number, problem in enumerate(problems):
        if number:
            say("", err=err)
        first, _, rest = problem.render().partition("\n")
        mark = f": {problem.severity}: "
        place, _, message = first.partition(mark)
        say(f"{bold(place, err)}: {colour(problem.severity, colours[problem.severity], err)}: {message}", err=err)
        columns = _columns(err)
        for line in rest.split("\n") if rest else ():
            # The line of the file and its caret stay as they are.
            for part in [line] if columns is None or " | " in line else wrapped(line, columns):
                say(part, err=err)


def shown_path(path: Path) -> str:
    """A path as a person would type it here: without the folder that they are in."""
    try:
        here = Path.cwd()
        return str(real_path(path).relative_to(here)) if here != Path("/") else str(path)
    except (ValueError, OSError):
        return str(path)


_MARK = f"\x01{token_hex(4)}"
"""Stands before our own styles until a text is printed. Nobody can write it into a label or a window's title."""
_COLOURS = ("black", "red", "green", "yellow", "blue", "magenta", "cyan", "white")
_CODES = {"bold": "1", "dim": "2"} | {
    f"{bright}{name}": f"{tens}{number}"
    for bright, tens in (("", 3), ("bright_", 9))
    for number, name in enumerate(_COLOURS)
}
_HARMFUL = dict.fromkeys((*range(9), *range(11, 32), *range(127, 160), *range(8234, 8239), *range(8294, 8298)), "�")
"""Characters by which a text could act on a terminal, or show something else than it says."""


def printed(text: str) -> str:
    """A text as it may reach a terminal: our own styles, and nothing else that acts."""
    first, *rest = text.split(_MARK)
    parts = [first.translate(_HARMFUL)]
    for part in rest:
        code, _, plain = part.partition("m")
        parts.append(f"\x1b[{code}m{plain.translate(_HARMFUL)}")
    return "".join(parts)


def visible_width(text: str) -> int:
    """How many columns a text takes, without our styles."""
    first, *rest = text.split(_MARK)
    return width(first) + sum(width(part.partition("m")[2]) for part in rest)


def wrapped(text: str, columns: int) -> list[str]:
    """A text in lines of at most so many columns, broken between words; later lines are indented like the first."""
    lines: list[str] = []
    for line in text.split("\n"):
        indent = line[: len(line) - len(line.lstrip(" "))]
        if visible_width(line) <= columns or len(indent) >= columns // 2:
            lines.append(line)
            continue
        current = indent
        for word in line.strip(" ").split(" "):
            joined = f"{current} {word}" if current.strip(" ") else f"{indent}{word}"
            if visible_width(joined) > columns and current.strip(" "):
                lines.append(current)
                joined = f"{indent}{word}"
            while visible_width(joined) > columns and _MARK not in joined:
                lines.append(joined[:columns])
                joined = f"{indent}{joined[columns:]}"
            current = joined
        lines.append(current)
    return lines


def _columns(err: bool) -> int | None:
    """The columns of the terminal that is written to; None if it is none."""
    stream = sys.stderr if err else sys.stdout
    return shutil.get_terminal_size().columns if stream.isatty() else None


def _write(text: str, err: bool = False) -> None:
    """Writes a line. A reader that has gone ends the command here: it is no fault of the file that is being read just then."""
    try:
        click.echo(text, err=err)
    except BrokenPipeError:
        if err:
            return  # a message without a reader
        forget_output()
        sys.exit(1)


def say(text: str, err: bool = False) -> None:
    """One line of result, or of message on stderr."""
    _write(printed(text), err)


def say_json(value: Any) -> None:
    """A value as one line of JSON."""
    _write(_ascii_controls(msgspec.json.encode(value).decode()))


def _ascii_controls(text: str) -> str:
    """JSON in which no character acts on a terminal."""
    return "".join(f"\\u{ord(one):04x}" if 127 <= ord(one) < 160 else one for one in text)


def note(text: str) -> None:
    """A message, on a terminal broken between words. Lines that are indented deeply are to be copied, and stay whole."""
    columns = _columns(True)
    if columns is not None:
        text = "\n".join(
            part
            for line in text.split("\n")
            for part in ([line] if line.startswith("    ") else wrapped(line, columns))
        )
    say(text, err=True)


def fail(text: str, status: int = 1) -> NoReturn:
    """Says what went wrong and ends."""
    note(f"{colour('fenko', 'bright_red', True)}: {text}")
    sys.exit(status)


def check_ending(path: Path | None, endings: Iterable[str]) -> None:
    """Ends as bad use where a file's name does not end as what can be written."""
    if path is not None and path.suffix[1:].lower() not in endings:
        fail(f"{path} should end in {', '.join(f'.{ending}' for ending in endings)}", 2)


def days_said(text: str) -> float:
    """How many days a person says (`30 days`, `1 year`), or bad use."""
    days = days_of(text)
    if not days:
        fail(f"`{text}` is no time; write it like 30 days, 2 weeks, 6 months or 1 year", 2)
    return days


def agreed(question: str) -> bool:
    """Whether the person at the terminal says yes; nobody does where there is none."""
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        return False
    try:
        return click.confirm(question, default=False, err=True)
    except click.Abort:
        note("")
        return False


def _colours(err: bool) -> bool:
    stream = sys.stderr if err else sys.stdout
    return stream.isatty() and not os.environ.get("NO_COLOR")


def fail_unknown(text: str, word: str, known: Iterable[str]) -> NoReturn:
    """Says that a word names nothing, with the nearest one that does, and ends as bad use."""
    hint = nearest(word, known)
    fail(text + (f"; did you mean `{hint}`?" if hint else ""), 2)


def _styled(text: str, style: str, err: bool) -> str:
    return f"{_MARK}{_CODES[style]}m{text}{_MARK}0m" if _colours(err) else text


def colour(text: str, name: str, err: bool = False) -> str:
    """The text in a colour, on a terminal whose owner did not ask for none."""
    return _styled(text, name, err)


def bold(text: str, err: bool = False) -> str:
    """The text in bold, under the same conditions."""
    return _styled(text, "bold", err)


def dim(text: str, err: bool = False) -> str:
    """The text faint, under the same conditions."""
    return _styled(text, "dim", err)


def tinted(text: str, tint: str, pressed: bool = False) -> str:
    """The text in a colour of its own (`#rrggbb`, or a name), the other way round while something is pressed."""
    if not _colours(False):
        return text
    code = (
        ";".join(("38", "2", *(str(int(tint[at : at + 2], 16)) for at in (1, 3, 5))))
        if tint[:1] == "#"
        else _CODES[tint]
    )
    return f"{_MARK}{code}m{_MARK}7m{text}{_MARK}0m" if pressed else f"{_MARK}{code}m{text}{_MARK}0m"


def show_json(value: Any) -> None:
    """A value as indented JSON."""
    _write(_ascii_controls(msgspec.json.format(msgspec.json.encode(value), indent=2).decode()))


def show_table(titles: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
    """Rows in columns as wide as they need to be; on a narrow terminal the widest are broken between words."""
    widths = [max(visible_width(cell) for cell in column) for column in zip(titles, *rows, strict=True)]
    columns = _columns(False)
    while columns is not None and sum(widths) + 2 * (len(widths) - 1) > columns and max(widths) > _NARROWEST:
        widths[widths.index(max(widths))] -= 1
    say(bold(_row(titles, widths)))
    for row in rows:
        cells = [wrapped(cell, space) for cell, space in zip(row, widths, strict=True)]
        for line in zip_longest(*cells, fillvalue=""):
            say(_row(line, widths))


_NARROWEST = 12
"""Columns below which no column of a table is made narrower."""


def _row(cells: Sequence[str], widths: Sequence[int]) -> str:
    return "  ".join(
        cell + " " * max(0, space - visible_width(cell)) for cell, space in zip(cells, widths, strict=True)
    ).rstrip()
