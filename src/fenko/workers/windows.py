"""Windows of programs, whatever the desktop: found, brought to the front, asked to close."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable
from typing import NamedTuple

from fenko.core.circumstances import Focus
from fenko.system.desktop_windows import DesktopWindow, DesktopWindows, open_desktop
from fenko.system.session import DisplayError, display_name, on_wayland
from fenko.system.xserver import Display, NoWindow, open_display
from fenko.system.xwindows import ask_to_close, bring_to_front, described, in_front, listed
from fenko.workers.worker import Away


class Window(NamedTuple):
    """A window: its number on this desktop, what it is, and whether it is in front."""

    number: int
    focus: Focus
    front: bool


class Windows(ABC):
    """The windows of a desktop. Everything raises Away when there is none."""

    @abstractmethod
    def all(self) -> list[Window]:
        """Every window, from the top to the bottom."""

    @abstractmethod
    def bring_to_front(self, window: Window) -> None:
        """Asks for it."""

    @abstractmethod
    def ask_to_close(self, window: Window) -> None:
        """Asks its program to."""


class X11Windows(Windows):
    """Those of an X server with a window manager."""

    def __init__(self) -> None:
        self._display: Display | None = None

    def _open(self) -> Display:
        try:
            if self._display is None:
                self._display = open_display()
            if not self._display.manager_window():
                raise Away("there is no window manager that could be asked for windows")
            return self._display
        except DisplayError as why:
            self.close()
            raise Away(str(why)) from None

    def all(self) -> list[Window]:
        """Every window, from the top to the bottom."""
        display = self._open()
        found = []
        try:
            front = in_front(display)
            for number in listed(display):
                try:
                    found.append(Window(number, described(display, number), number == front))
                except NoWindow:
                    continue  # it has just gone
        except DisplayError as why:
            self.close()
            raise Away(str(why)) from None
        return found

    def bring_to_front(self, window: Window) -> None:
        """Asks the window manager."""
        bring_to_front(self._open(), window.number)

    def ask_to_close(self, window: Window) -> None:
        """Asks the window manager."""
        ask_to_close(self._open(), window.number)

    def close(self) -> None:
        """Lets go of the display."""
        if self._display is not None:
            self._display.close()
            self._display = None


class WaylandWindows(Windows):
    """Those of a Wayland desktop that tells of them."""

    def __init__(self) -> None:
        self._desktop: DesktopWindows | None = None
        self._listed: list[DesktopWindow] = []

    def all(self) -> list[Window]:
        """Every window, the one that was in front last first."""
        try:
            if self._desktop is None:
                self._desktop = open_desktop()
            self._listed = self._desktop.all()
        except DisplayError as why:
            self.close()
            raise Away(str(why)) from None
        return [Window(number, window.focus, window.front) for number, window in enumerate(self._listed)]

    def bring_to_front(self, window: Window) -> None:
        """Asks the desktop."""
        self._ask(lambda desktop, meant: desktop.bring_to_front(meant), window)

    def ask_to_close(self, window: Window) -> None:
        """Asks the desktop."""
        self._ask(lambda desktop, meant: desktop.ask_to_close(meant), window)

    def _ask(self, what: Callable[[DesktopWindows, DesktopWindow], None], meant: Window) -> None:
        try:
            if self._desktop is not None:
                what(self._desktop, self._listed[meant.number])
        except DisplayError as why:
            self.close()
            raise Away(str(why)) from None

    def close(self) -> None:
        """Lets go of the desktop."""
        if self._desktop is not None:
            self._desktop.close()
            self._desktop = None


def open_windows() -> Windows:
    """The windows of this desktop. Raises Away."""
    if on_wayland():
        return WaylandWindows()
    if not display_name():
        raise Away("there is no display, so there are no windows")
    return X11Windows()
