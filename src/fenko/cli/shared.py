"""What several commands need: the desk option, tables, JSON, colour, and how problems are shown."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import Any, NoReturn, TypeVar

import click
import msgspec

from fenko.core.words import nearest
from fenko.desk.descriptions import user_folder
from fenko.desk.load import Desk, load_desk
from fenko.desk.problems import DeskError, Problem, width

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


def desk_path(folder: Path | None) -> Path:
    """The desk's folder: the one named, or `fenko` in the user's config folder."""
    return folder if folder is not None else user_folder()


def open_desk(folder: Path | None) -> Desk:
    """The desk, or its problems on stderr and exit status 2."""
    try:
        return load_desk(desk_path(folder))
    except DeskError as error:
        show_problems(error.problems, err=True)
        sys.exit(2)


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
        if rest:
            say(rest, err=err)


def shown_path(path: Path) -> str:
    """A path as a person would type it here: without the folder that they are in."""
    try:
        return str(path.resolve().relative_to(Path.cwd()))
    except (ValueError, OSError):
        return str(path)


def say(text: str, err: bool = False) -> None:
    """One line of result, or of message on stderr."""
    click.echo(text, err=err)


def note(text: str) -> None:
    """One line of message."""
    click.echo(text, err=True)


def fail(text: str, status: int = 1) -> NoReturn:
    """Says what went wrong and ends."""
    click.echo(f"{colour('fenko', 'bright_red', True)}: {text}", err=True)
    sys.exit(status)


def _colours(err: bool) -> bool:
    stream = sys.stderr if err else sys.stdout
    return stream.isatty() and not os.environ.get("NO_COLOR")


def fail_unknown(text: str, word: str, known: Iterable[str]) -> NoReturn:
    """Says that a word names nothing, with the nearest one that does, and ends as bad use."""
    hint = nearest(word, known)
    fail(text + (f"; did you mean `{hint}`?" if hint else ""), 2)


def colour(text: str, name: str, err: bool = False) -> str:
    """The text in a colour, on a terminal whose owner did not ask for none."""
    return click.style(text, fg=name) if _colours(err) else text


def bold(text: str, err: bool = False) -> str:
    """The text in bold, under the same conditions."""
    return click.style(text, bold=True) if _colours(err) else text


def dim(text: str, err: bool = False) -> str:
    """The text faint, under the same conditions."""
    return click.style(text, dim=True) if _colours(err) else text


def show_json(value: Any) -> None:
    """A value as indented JSON."""
    say(msgspec.json.format(msgspec.json.encode(value), indent=2).decode())


def show_table(titles: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
    """Rows in columns as wide as they need to be."""
    widths = [max(width(cell) for cell in column) for column in zip(titles, *rows, strict=True)]
    say(bold(_row(titles, widths)))
    for row in rows:
        say(_row(row, widths))


def _row(cells: Sequence[str], widths: Sequence[int]) -> str:
    return "  ".join(cell + " " * (space - width(cell)) for cell, space in zip(cells, widths, strict=True)).rstrip()
