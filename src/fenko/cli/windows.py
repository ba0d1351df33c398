"""`fenko windows`: which window is in front, as a profile's `when` names it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click
import msgspec

from fenko.cli.shared import fail, format_option, note, say, say_json, show_json, show_table
from fenko.core.circumstances import FOCUS_FIELDS, Focus
from fenko.core.words import shortened

if TYPE_CHECKING:
    from fenko.focus.front import FrontWindow


_SHOWN = tuple(name for name in FOCUS_FIELDS if name != "path")  # of which the file name is shown


@click.command()
@format_option("table", "json")
@click.option("--follow", is_flag=True, help="Print the `when` of each window that comes to the front, until Ctrl-C.")
def command(form: str, follow: bool) -> None:
    """List the windows, the one in front first, with exactly the text that a profile's `when` takes.

    The window in front is the terminal that you ask in; with --follow, click on the one that you mean.
    """
    from fenko.focus.opening import open_front
    from fenko.system.session import DisplayError

    try:
        focus = open_front()
        if follow:
            _follow(focus, form)
            return
        managed, windows = focus.managed(), focus.windows()
        focus.close()
    except DisplayError as error:
        fail(f"{error}.")
    if form == "json":
        show_json([{"front": window.front, **window.focus.as_data()} for window in windows])
        return
    if not managed:
        note("No window manager tells which window is in front.")
    if not windows:
        note("There are no windows.")
        return
    rows = [
        ("*" if window.front else "", *(shortened(getattr(window.focus, name)) for name in _SHOWN))
        for window in windows
    ]
    show_table(("front", *_SHOWN), rows)
    front = next((window.focus for window in windows if window.front), None)
    if front is not None:
        say(f"\nFor a profile of the window in front:\n    {_when(front)}")
        note("\n`fenko windows --follow` prints this for every window that you click on.")


def _when(focus: Focus) -> str:
    """The line for a profile of this window: by its app id, else by what else is known."""
    name, text = next(((name, text) for name, text in _fields(focus).items() if text), ("title", ""))
    # A JSON string is a TOML string too.
    return f"when = {{ {name} = {msgspec.json.encode(text).decode()} }}"


def _follow(focus: FrontWindow, form: str) -> None:
    from fenko.live.loop import Loop

    last: Focus | None = None

    def hear() -> None:
        while (current := focus.read()) is not None:
            show(current)

    def show(current: Focus) -> None:
        nonlocal last
        if current == last:
            return
        last = current
        if form == "json":
            say_json(current.as_data())
        else:
            title = f'  # "{shortened(current.title)}"' if current.title else ""
            say(f"{_when(current)}{title}" if any(_fields(current).values()) else "# nothing is in front")

    with Loop() as loop:
        loop.add(focus.fd, hear)
        show(focus.current())
        hear()
        loop.run()
    focus.close()


def _fields(focus: Focus) -> dict[str, Any]:
    return {name: getattr(focus, name) for name in FOCUS_FIELDS}
