"""Whatever there is on some desktops one way and on others another: opened as this session has it."""

from __future__ import annotations

import contextlib

from fenko.system.desktop_windows import AnotherDesktop, DesktopWindows, WindowList
from fenko.system.overlay import Overlay, XOverlay
from fenko.system.session import DisplayError, display_name, on_wayland


def open_desktop() -> DesktopWindows:
    """The windows of this Wayland session, by whatever its compositor offers. Raises DisplayError."""
    from fenko.system.gnome import GnomeWindows
    from fenko.system.kwin import KWinWindows
    from fenko.system.toplevels import ToplevelWindows

    ways: tuple[type[DesktopWindows], ...] = (ToplevelWindows, KWinWindows, GnomeWindows)
    reason: DisplayError | None = None
    for way in ways:
        try:
            return way()
        except AnotherDesktop as why:
            reason = reason or why
        except DisplayError as why:
            reason = why
    raise reason or DisplayError("no desktop is known")


def open_windows() -> WindowList:
    """The windows of this desktop, to be asked for. Raises DisplayError."""
    if on_wayland():
        return open_desktop()
    if not display_name():
        raise DisplayError("there is no display, so there are no windows")
    from fenko.system.xwindows import XWindowList

    return XWindowList()


def open_overlay(title: str, solid: bool) -> Overlay:
    """The window of this desktop. Where `solid`, it can be dragged and takes clicks; else the pointer reaches what lies beneath
    it. Raises DisplayError."""
    if on_wayland():
        from fenko.system.layer import LayerOverlay

        with contextlib.suppress(DisplayError):
            return LayerOverlay(solid)
    return XOverlay(title, solid)
