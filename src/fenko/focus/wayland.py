"""The window in front on a Wayland desktop."""

from __future__ import annotations

from fenko.core.circumstances import Focus
from fenko.focus.front import FrontWindow, Window
from fenko.system.opening import open_desktop


class WaylandFront(FrontWindow):
    """Follows it by whatever this desktop offers."""

    def __init__(self) -> None:
        self._desktop = open_desktop()
        self.fd = self._desktop.fd
        self.where = self._desktop.where

    def current(self) -> Focus:
        """What is in front now; an empty focus where nothing is."""
        return self._desktop.front()

    def read(self) -> Focus | None:
        """The focus after what has been told; None once none of it can have changed it."""
        return self._desktop.front() if self._desktop.read() else None

    def windows(self) -> list[Window]:
        """All windows, the one in front first."""
        found = [Window(window.focus, window.front) for window in self._desktop.all()]
        return sorted(found, key=lambda window: not window.front)

    def close(self) -> None:
        """Stops following."""
        self._desktop.close()
