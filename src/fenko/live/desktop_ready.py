"""What a desktop gives Fenko: who its compositor is, how keys can be sent through it, and whether it tells of windows."""

from __future__ import annotations

import contextlib

from msgspec import Struct

from fenko.outputs.kwin import FAKE_INPUT
from fenko.outputs.pasting import MANAGER as CLIPBOARD
from fenko.outputs.port import PortError
from fenko.outputs.wayland import KEYBOARDS
from fenko.outputs.x11 import xtest_of
from fenko.system.bus import open_bus
from fenko.system.gnome import check
from fenko.system.opening import open_desktop
from fenko.system.session import DisplayError, on_wayland, wayland_name
from fenko.system.wayland import Wayland
from fenko.system.xserver import Display, open_display


class Offered(Struct, frozen=True):
    """What was found. Empty where there is nothing of the kind."""

    name: str
    problem: str = ""
    """Why the compositor cannot be reached."""
    compositor: str = ""
    """The name of its program."""
    keys: str = ""
    """Through what keys can be sent."""
    texts: str = ""
    """What can be typed that way."""
    front: str = ""
    """Who tells which window is in front."""
    no_front: str = ""
    """Why nobody does."""


def offered() -> Offered:
    """Looks now."""
    name = wayland_name()
    try:
        line = Wayland()
    except DisplayError as why:
        return Offered(name, str(why))
    try:
        keys, texts = _keys(line)
        front, no_front = _front()
        return Offered(name, "", line.compositor(), keys, texts, front, no_front)
    finally:
        line.close()


def _keys(line: Wayland) -> tuple[str, str]:
    if KEYBOARDS in line.globals:
        return "a keyboard that the compositor makes for Fenko", "any text"
    if FAKE_INPUT in line.globals:
        pasted = (
            "any text; what no key makes is pasted" if CLIPBOARD in line.globals else "what the layout in force has"
        )
        return "KWin, which lets Fenko send them", pasted
    try:
        bus = open_bus()
    except DisplayError:
        return "", ""
    try:
        check(bus)
        return "Fenko's extension of GNOME", "any text"
    except DisplayError:
        return "", ""
    finally:
        bus.close()


def takes_keys() -> bool:
    """Whether this session's desktop takes keys from Fenko, so that they need not go through the kernel."""
    if on_wayland():
        return bool(offered().keys)
    try:
        with contextlib.closing(open_display()) as display:
            return has_xtest(display)
    except DisplayError:
        return False


def has_xtest(display: Display) -> bool:
    """Whether keys can be sent through this X server."""
    try:
        xtest_of(display)
    except PortError:
        return False
    return True


def _front() -> tuple[str, str]:
    try:
        desktop = open_desktop()
    except DisplayError as why:
        return "", str(why)
    desktop.close()
    return desktop.where, ""
