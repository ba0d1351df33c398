"""What tells which window is in front, on the desktop that this session is."""

from __future__ import annotations

from fenko.focus.front import FrontWindow
from fenko.system.session import DisplayError, display_name, on_wayland


def open_front() -> FrontWindow:
    """What this desktop offers. Raises DisplayError where that is nothing."""
    if on_wayland():
        from fenko.focus.wayland import WaylandFront

        return WaylandFront()
    if not display_name():
        raise DisplayError("neither DISPLAY nor WAYLAND_DISPLAY is set: there is no desktop to talk to")
    from fenko.focus.x11 import X11Front

    return X11Front()
