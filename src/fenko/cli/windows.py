"""`fenko windows`: which window is in front, as a profile's `when` names it."""

from __future__ import annotations

import os
from typing import Any

import click
import msgspec

from fenko.cli.shared import fail, format_option, note, say, show_json, show_table
from fenko.core.plan import FOCUS_FIELDS, Focus


@click.command()
@format_option("table", "json")
def command(form: str) -> None:
    """List the windows, the one in front first, with exactly the text that a profile's `when` takes."""
    from fenko.focus.x11 import X11Focus
    from fenko.system.xserver import DisplayError

    try:
        focus = X11Focus()
        managed, windows = focus.managed(), focus.windows()
        focus.close()
    except DisplayError as error:
        wayland = " On Wayland, windows cannot be read yet." if os.environ.get("WAYLAND_DISPLAY") else ""
        fail(f"{error}.{wayland}")
    if form == "json":
        show_json([{"front": window.front, **_fields(window.focus)} for window in windows])
        return
    if not managed:
        note("No window manager tells which window is in front.")
    if not windows:
        note("There are no windows.")
        return
    rows = [
        ("*" if window.front else "", *(getattr(window.focus, name) for name in FOCUS_FIELDS)) for window in windows
    ]
    show_table(("front", *FOCUS_FIELDS), rows)
    front = next((window.focus for window in windows if window.front), None)
    if front is not None:
        name, text = next(((name, text) for name, text in _fields(front).items() if text), ("title", ""))
        # A JSON string is a TOML string too.
        say(f"\nFor a profile of the window in front:\n    when = {{ {name} = {msgspec.json.encode(text).decode()} }}")


def _fields(focus: Focus) -> dict[str, Any]:
    return {name: getattr(focus, name) for name in FOCUS_FIELDS}
