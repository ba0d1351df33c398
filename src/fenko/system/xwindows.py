"""Windows of an X server as its window manager tells of them (EWMH): which there are, which is in front, and what they are."""

from __future__ import annotations

import contextlib
import socket

from msgspec import structs

from fenko.core.circumstances import Focus
from fenko.system.desktop_windows import LONGEST_TITLE, MOST_OWNERS, DesktopWindow, WindowList
from fenko.system.processes import program_of
from fenko.system.session import DisplayError
from fenko.system.xserver import Display, NoWindow, open_display

_FROM_A_PAGER = 2
"""Says to the window manager that the person asks for it, so that it does not hold it back."""


_JAVA_S_FOCUS = "Focus-Proxy-Window"
"""The name of a window that Java's toolkit puts into each window of a program, to have the keyboard there."""
_DESCRIBING = ("WM_CLASS", "_NET_WM_NAME", "_NET_WM_PID", "WM_CLIENT_MACHINE", "WM_TRANSIENT_FOR")
"""What a window is known by, as far as most windows need."""


def described(display: Display, window: int) -> Focus:
    """A window as a profile's `when` names it, and the one that it is a dialog of. Raises NoWindow."""
    with display.ahead(window, _DESCRIBING):
        focus = _alone(display, window)
        owner = owner_of(display, window)
    try:
        return structs.replace(focus, owner=_alone(display, owner)) if owner else focus
    except NoWindow:
        return focus


def _alone(display: Display, window: int) -> Focus:
    parts = display.text_property(window, "WM_CLASS").split("\0")
    app = parts[1] if len(parts) > 1 and parts[1] else parts[0]
    return Focus(app, display.title(window)[:LONGEST_TITLE], *_program(display, window))


def _program(display: Display, window: int) -> tuple[str, str, str]:
    """The file name of the window's program, where that is, and its arguments; empty if it does not run on this machine or
    may not be looked at."""
    numbers = display.numbers_property(window, "_NET_WM_PID")
    machine = display.text_property(window, "WM_CLIENT_MACHINE")
    if not numbers or machine not in ("", "localhost", socket.gethostname()):
        return "", "", ""
    return program_of(numbers[0])


def owner_of(display: Display, window: int) -> int:
    """The window that a dialog belongs to, and that one's, up to the last; 0 if it says of none. Raises NoWindow."""
    seen = [window]
    for _ in range(MOST_OWNERS):
        found = display.numbers_property(seen[-1], "WM_TRANSIENT_FOR")
        if not found or found[0] in (0, display.root, *seen):
            break
        seen.append(found[0])
    return seen[-1] if len(seen) > 1 else 0


def takes_halves(display: Display, window: int) -> bool:
    """Whether a window is of a Java program, whose keyboard code has 16 bits for a character: one beyond these has to come as
    the two halves that UTF-16 has for it."""
    if not window:
        return False
    with contextlib.suppress(NoWindow):
        inner = display.ask(display.connection.core.QueryTree, window).children
        return any(display.text_property(one, "WM_CLASS").startswith(_JAVA_S_FOCUS) for one in (window, *inner))
    return False


def kinds_of(display: Display, window: int) -> frozenset[str]:
    """What sort of window it is, such as `DIALOG`, as far as it says. Raises NoWindow."""
    atoms = display.numbers_property(window, "_NET_WM_WINDOW_TYPE")
    return frozenset(kind for kind in _KINDS if display.atom(f"_NET_WM_WINDOW_TYPE_{kind}") in atoms)


PASSING = frozenset(("DOCK", "NOTIFICATION", "TOOLTIP", "MENU", "POPUP_MENU", "DROPDOWN_MENU", "COMBO", "DND"))
"""Kinds of windows that nobody works in."""
BELONGING = frozenset(("DIALOG", "UTILITY", "TOOLBAR", "SPLASH"))
"""Kinds of windows that belong to another, also if they do not say to which."""
_KINDS = PASSING | BELONGING


def listed(display: Display) -> list[int]:
    """All windows that the window manager lists, from the top to the bottom."""
    found = display.numbers_property(display.root, "_NET_CLIENT_LIST_STACKING")
    return (found or display.numbers_property(display.root, "_NET_CLIENT_LIST"))[::-1]


def in_front(display: Display) -> int:
    """The window that the window manager says is in front; 0 for none."""
    numbers = display.numbers_property(display.root, "_NET_ACTIVE_WINDOW")
    return numbers[0] if numbers else 0


def bring_to_front(display: Display, window: int) -> None:
    """Asks the window manager for it."""
    display.ask_manager(window, "_NET_ACTIVE_WINDOW", _FROM_A_PAGER, 0, 0)


def ask_to_close(display: Display, window: int) -> None:
    """Asks the window manager to have the program close it, which may ask the person first."""
    display.ask_manager(window, "_NET_CLOSE_WINDOW", 0, _FROM_A_PAGER)


class XWindowList(WindowList):
    """Those of an X server with a window manager."""

    def __init__(self) -> None:
        self._display = open_display()

    def _managed(self) -> Display:
        if not self._display.manager_window():
            raise DisplayError("there is no window manager that could be asked for windows")
        return self._display

    def all(self) -> list[DesktopWindow]:
        """Every window, from the top to the bottom."""
        display = self._managed()
        found = []
        front = in_front(display)
        for number in listed(display):
            try:
                found.append(DesktopWindow(str(number), described(display, number), number == front))
            except NoWindow:
                continue  # it has just gone
        return found

    def bring_to_front(self, window: DesktopWindow) -> None:
        """Asks the window manager."""
        bring_to_front(self._managed(), int(window.number))

    def ask_to_close(self, window: DesktopWindow) -> None:
        """Asks the window manager."""
        ask_to_close(self._managed(), int(window.number))

    def close(self) -> None:
        """Lets go of the display, once it has dealt with everything: of somebody who has hung up it reads nothing more."""
        with contextlib.suppress(DisplayError):
            self._display.ask(self._display.connection.core.GetInputFocus)
        self._display.close()
