"""One connection to an X server: properties, the active window, events, and one error for all that can go wrong."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

SOCKETS = Path("/tmp/.X11-unix")
_ANY_TYPE = 0
_LONGEST = 4096  # a property is read up to this many 32-bit units


class DisplayError(Exception):
    """There is no X server to talk to, or it went away."""


class NoWindow(Exception):
    """The window that was asked about is gone."""


def display_name() -> str:
    """The display that this session names; empty where there is none."""
    return os.environ.get("DISPLAY", "")


def socket_name(display: str) -> str | None:
    """The name of a local display's socket in `SOCKETS`; None for a display elsewhere."""
    found = re.fullmatch(r"(?:unix)?:(\d+)(?:\.\d+)?", display)
    return f"X{found[1]}" if found else None


class Display:
    """A connection to the X server. Every method raises DisplayError when the server is gone."""

    def __init__(self, name: str) -> None:
        try:
            import xcffib
            import xcffib.xproto
        except (ImportError, OSError) as why:
            raise DisplayError(f"the X11 library (libxcb) is not on this machine: {why}") from why
        self.name = name
        self.x = xcffib.xproto
        self._gone = xcffib.XcffibException
        self._refused = xcffib.Error  # a subclass of the one above: catch it first
        try:
            self.connection = xcffib.connect(name)
        except xcffib.XcffibException as why:
            raise DisplayError(f"display {name} cannot be opened") from why
        screen = self.connection.get_setup().roots[self.connection.pref_screen]
        self.root: int = screen.root
        self.fd: int = self.connection.get_file_descriptor()
        self._atoms: dict[str, int] = {}

    def ask(self, cookie: Any) -> Any:
        """The reply to a request. Raises NoWindow where the server refuses (the window has gone)."""
        try:
            return cookie.reply()
        except self._refused as why:
            raise NoWindow from why
        except self._gone as why:
            raise DisplayError(f"display {self.name} is gone") from why

    def atom(self, name: str) -> int:
        """The server's number for a name."""
        if name not in self._atoms:
            self._atoms[name] = self.ask(self.connection.core.InternAtom(False, len(name), name)).atom
        return self._atoms[name]

    def property(self, window: int, name: str) -> bytes:
        """A property's bytes; empty where the window does not have it."""
        cookie = self.connection.core.GetProperty(False, window, self.atom(name), _ANY_TYPE, 0, _LONGEST)
        value: bytes = self.ask(cookie).value.buf()
        return value

    def text_property(self, window: int, name: str) -> str:
        """A property's text."""
        return self.property(window, name).decode("utf-8", "replace")

    def numbers_property(self, window: int, name: str) -> list[int]:
        """A property's 32-bit numbers."""
        raw = self.property(window, name)
        whole = len(raw) // 4 * 4
        return list(memoryview(raw[:whole]).cast("I"))

    def select(self, window: int, mask: int) -> None:
        """Asks for events of a window; no matter if it has just gone."""
        self.connection.core.ChangeWindowAttributes(window, self.x.CW.EventMask, [mask])
        self.flush()

    def flush(self) -> None:
        """Sends all requests now."""
        try:
            self.connection.flush()
        except self._gone as why:
            raise DisplayError(f"display {self.name} is gone") from why

    def events(self) -> Iterator[Any]:
        """The events that have come. Requests that the server refused are left out: their windows are gone."""
        while True:
            try:
                event = self.connection.poll_for_event()
            except self._refused:
                continue
            except self._gone as why:
                raise DisplayError(f"display {self.name} is gone") from why
            if event is None:
                return
            yield event

    def close(self) -> None:
        """Closes the connection."""
        with contextlib.suppress(self._gone):
            self.connection.disconnect()


def open_display(name: str | None = None) -> Display:
    """A connection to the display, by default the session's. Raises DisplayError."""
    name = display_name() if name is None else name
    if not name:
        raise DisplayError("DISPLAY is not set: there is no X server to talk to")
    return Display(name)
