"""The window in front on a Wayland compositor that tells of its windows."""

from __future__ import annotations

import contextlib
import select

from fenko.core.circumstances import Focus
from fenko.focus.front import FrontWindow, Window
from fenko.system.sway import SwayWindows
from fenko.system.toplevels import Toplevel, Toplevels


class WaylandFront(FrontWindow):
    """Follows the window that is activated; where sway says it, with its program."""

    def __init__(self) -> None:
        self._windows = Toplevels()
        self.where = f"Wayland display {self._windows.line.name}"
        self._poll = select.epoll()
        self.fd = self._poll.fileno()
        self._poll.register(self._windows.line.fd, select.EPOLLIN)
        self._sway: SwayWindows | None = None
        with contextlib.suppress(OSError, ValueError):
            self._sway = SwayWindows()
            self._poll.register(self._sway.fd, select.EPOLLIN)

    def _described(self, window: Toplevel) -> Focus:
        focus = self._windows.described(window)
        return self._sway.completed(focus, window.front) if self._sway is not None else focus

    def current(self) -> Focus:
        """What is in front now; an empty focus where nothing is."""
        window = self._windows.front()
        return self._described(window) if window is not None else Focus()

    def read(self) -> Focus | None:
        """The focus after what has been told; None if none of it can have changed it."""
        changed = self._windows.read()
        if self._sway is not None:
            try:
                changed = self._sway.read() or changed
            except OSError:
                self._forget_sway()
        return self.current() if changed else None

    def windows(self) -> list[Window]:
        """All windows, the one in front first, then by when they were."""
        if self._sway is not None:
            try:
                self._sway.ask()
            except OSError:
                self._forget_sway()
        found = [Window(self._described(window), window.front) for window in self._windows.all()]
        return sorted(found, key=lambda window: not window.front)

    def _forget_sway(self) -> None:
        if self._sway is not None:
            self._poll.unregister(self._sway.fd)
            self._sway.close()
            self._sway = None

    def close(self) -> None:
        """Stops following."""
        self._forget_sway()
        self._poll.close()
        self._windows.close()
