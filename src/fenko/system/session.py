"""Which desktop this session is, by its environment; and the one error for all that can go wrong with a display."""

from __future__ import annotations

import os


class DisplayError(Exception):
    """There is no display to talk to, or it went away."""


def display_name() -> str:
    """The X display that this session names; empty where there is none."""
    return os.environ.get("DISPLAY", "")


def wayland_name() -> str:
    """The Wayland display that this session names; empty where there is none."""
    return os.environ.get("WAYLAND_DISPLAY", "")


def on_wayland() -> bool:
    """Whether this is a Wayland session: an X server that is there too reaches only some of its programs."""
    return bool(wayland_name()) or os.environ.get("XDG_SESSION_TYPE") == "wayland"


def shown_name() -> str:
    """The display of this session as a message names it."""
    return wayland_name() or display_name()
