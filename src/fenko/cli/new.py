"""`fenko new`: a first desk."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import click

from fenko.cli.describe import known_as, links_of
from fenko.cli.shared import desk_option, desk_path, fail, note, say
from fenko.core.circumstances import Focus
from fenko.core.controls import KINDS
from fenko.core.plan import Surface
from fenko.core.words import reason
from fenko.desk.descriptions import Catalogue, kind_description
from fenko.desk.sources import MAIN_FILE
from fenko.desk.starting import Found, starting_desk, surface_name
from fenko.desk.writing import write_new
from fenko.system.things import Thing, list_things, looks_like_surface

_IN_WORDS = {"midi": "a MIDI controller", "board": "a board of one's own", "other": "any other thing"}
"""Kinds that need an article or more of their own."""


@click.command()
@click.argument("kinds", nargs=-1, type=click.Choice(list(KINDS)), metavar="[KIND]…")
@desk_option
@click.option("--name", metavar="TEXT", default="My desk", show_default=True, help="What the desk is called.")
def command(kinds: tuple[str, ...], desk_folder: Path | None, name: str) -> None:
    """Make a first desk from what is plugged in now, or from the kinds of surface that you name.

    It has the surfaces, a base profile, and an example profile for the window that was in front; a comment on every
    line says what it is. Nothing is ever overwritten.
    """
    folder = desk_path(desk_folder)
    path = folder / MAIN_FILE
    if os.path.lexists(path):
        fail(f"{path} is already there; nothing was written. Name another folder with --desk", 2)
    found = _of_kinds(kinds) if kinds else _plugged_in()
    if not any(one.used for one in found):
        fail(
            "nothing that is plugged in looks like a surface, so nothing was written. Plug one in, or name kinds: "
            f"fenko new gamepad dial ({', '.join(KINDS)})"
        )
    focus = window_in_front()
    try:
        write_new(path, starting_desk(name, found, focus))
    except OSError as why:
        fail(f"{path} cannot be written: {reason(why)}")
    say(f"{path} is a desk with {', '.join(one.surface.name for one in found if one.used)}.")
    if focus is not None and focus.app:
        say(f"Its example is for {focus.app}, the window that was in front.")
    note(
        "\nRead it; change it by hand or with `fenko learn`; `fenko check` it, `fenko try` it, `fenko run` it."
        + _with_desk(desk_folder)
    )


def _with_desk(folder: Path | None) -> str:
    return f" All with --desk {folder}." if folder is not None and not os.environ.get("FENKO_DESK") else ""


def _of_kinds(kinds: tuple[str, ...]) -> list[Found]:
    found: list[Found] = []
    for kind in kinds:
        surface = Surface(surface_name(kind, [one.surface.name for one in found]), kind)
        controls = tuple(spot.control for spot in kind_description(kind).spots)
        found.append(Found(_IN_WORDS.get(kind, f"a {kind}"), surface, controls=controls))
    return found


def _plugged_in() -> list[Found]:
    """What is plugged in: first what looks like a surface, then what could be one."""
    catalogue = Catalogue.usual()
    found: list[Found] = []
    things = [(thing, known_as(thing, catalogue)) for thing in list_things()]
    for used in (True, False):
        for thing, known in things:
            if (known is not None or looks_like_surface(thing)) is used and (used or _could_be(thing)):
                described = known[1] if known else None
                kind = described.kind if described else thing.kind
                taken = [one.surface.name for one in found]
                surface = Surface(surface_name(kind, taken), kind, names=described.names if described else {})
                controls = tuple(thing.controls)
                found.append(
                    Found(thing.name, surface, links_of(thing, described), known[0] if known else None, controls, used)
                )
    return found


def _could_be(thing: Thing) -> bool:
    """An ordinary keyboard or mouse, and nothing that the machine itself has in its case."""
    return thing.kind in ("keyboard", "mouse") and thing.link.startswith(("usb", "bluetooth"))


def window_in_front() -> Focus | None:
    """The window in front; asked in a terminal, the one behind it, for nobody means the terminal."""
    from fenko.focus.opening import open_front
    from fenko.system.session import DisplayError

    try:
        source = open_front()
        windows = source.windows()
        source.close()
    except DisplayError:
        return None
    if len(windows) > 1 and windows[0].front and sys.stdin.isatty():
        return windows[1].focus
    return windows[0].focus if windows else None
