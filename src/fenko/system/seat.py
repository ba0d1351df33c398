"""The keymap that a Wayland compositor has in force, as it tells every program that wants to read keys."""

from __future__ import annotations

from fenko.system.session import DisplayError
from fenko.system.wayland import Wayland, content_of
from fenko.system.xkb import KeyboardMap, NoKeymap

HAS_KEYBOARD = 2
"""In what a seat says that it can."""
XKB = 1
"""The format of keymaps that there is."""


def keymap_in_force() -> KeyboardMap | None:
    """That of the keyboard that was used last; None where nobody tells."""
    try:
        line = Wayland()
    except DisplayError:
        return None
    texts: list[bytes] = []
    try:
        seat = line.bind("wl_seat", 5)
        if seat is None:
            return None

        def able(capabilities: int) -> None:
            if capabilities & HAS_KEYBOARD and not texts:
                seat.tell("get_keyboard").hears = {"keymap": mapped}

        def mapped(form: int, fd: int, size: int) -> None:
            text = content_of(fd, size)
            if form == XKB:
                texts.append(text)

        seat.hears = {"capabilities": able}
        line.settle()
        line.settle()
        return KeyboardMap.written(texts[-1]) if texts else None
    except (DisplayError, NoKeymap):
        return None
    finally:
        line.close()
