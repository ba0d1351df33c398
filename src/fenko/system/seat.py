"""The keymap that a Wayland compositor has in force, as it tells every program that wants to read keys."""

from __future__ import annotations

from fenko.system.session import DisplayError
from fenko.system.wayland import Wayland, content_of
from fenko.system.xkb import KeyboardMap, NoKeymap

HAS_KEYBOARD = 2
"""In what a seat says that it can."""
XKB = 1
"""The format of keymaps that there is."""


def told_keymap(form: int, fd: int, size: int) -> KeyboardMap | None:
    """What a keyboard's event `keymap` passes on; None where that cannot be read. The descriptor is closed."""
    text = content_of(fd, size)
    try:
        return KeyboardMap.written(text) if form == XKB else None
    except NoKeymap:
        return None


def keymap_in_force() -> KeyboardMap | None:
    """That of the keyboard that was used last; None where nobody tells."""
    try:
        line = Wayland()
    except DisplayError:
        return None
    told: list[KeyboardMap | None] = []
    try:
        seat = line.bind("wl_seat", 5)
        if seat is None:
            return None

        def able(capabilities: int) -> None:
            if capabilities & HAS_KEYBOARD and not told:
                seat.tell("get_keyboard").hears = {"keymap": mapped}

        def mapped(form: int, fd: int, size: int) -> None:
            told.append(told_keymap(form, fd, size))

        seat.hears = {"capabilities": able}
        line.settle()
        line.settle()
        return told[-1] if told else None
    except DisplayError:
        return None
    finally:
        line.close()
