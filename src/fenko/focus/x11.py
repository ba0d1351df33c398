"""The window in front on an X server, told by its window manager (`_NET_ACTIVE_WINDOW`), event by event."""

from __future__ import annotations

from itertools import islice

from msgspec import structs

from fenko.core.circumstances import Focus
from fenko.focus.front import FrontWindow, Window
from fenko.system.xserver import Display, NoWindow, open_display
from fenko.system.xwindows import BELONGING, PASSING, described, in_front, kinds_of, listed

_TELLING = ("_NET_ACTIVE_WINDOW", "_NET_SUPPORTING_WM_CHECK", "_NET_WM_NAME", "WM_NAME", "WM_CLASS")
"""The properties whose change may change what is in front."""
_AT_ONCE = 500
"""Events that are heard before it is looked what is in front: a program that says something without end holds nobody up."""


def _whose(focus: Focus) -> str:
    return focus.program or focus.app


class X11Front(FrontWindow):
    """Follows the active window."""

    asks = True

    def __init__(self) -> None:
        self._display: Display = open_display()
        self.where = f"display {self._display.name}"
        self.fd = self._display.fd
        self._watched = 0
        self._last = self._main = Focus()
        """The last window that counted, and the last one of these that is no dialog."""
        self._manager = 0
        mask = self._display.x.EventMask
        self._mask = mask.PropertyChange | mask.StructureNotify
        self._display.select(self._display.root, mask.PropertyChange)
        self._watch(self._active())

    def managed(self) -> bool:
        """Whether there is a window manager that tells which window is in front."""
        return self._display.window_manager() is not None

    def current(self) -> Focus:
        """What is in front now; an empty focus where nothing is."""
        return self._current(self._active())

    def _current(self, window: int) -> Focus:
        for _ in range(3):
            if not window:
                break
            try:
                return self._seen(window)
            except NoWindow:
                window = self._active()  # it vanished while being read
        return Focus()

    def _seen(self, window: int) -> Focus:
        kinds = kinds_of(self._display, window)
        if kinds & PASSING:
            return self._last
        focus = described(self._display, window)
        if focus.owner is None and kinds & BELONGING and _whose(focus) and _whose(focus) == _whose(self._main):
            focus = structs.replace(focus, owner=self._main)
        elif focus.owner is None:
            self._main = focus
        self._last = focus
        return focus

    def read(self) -> Focus | None:
        """The focus after the events that have come; None once none of them can have changed it.

        Asking the server reads further events in passing, which no descriptor will announce again."""
        if not self._something_happened():
            return None
        window = self._active()
        if window != self._watched:
            self._watch(window)
        return self._current(window)

    def _something_happened(self) -> bool:
        names = {self._display.atom(name) for name in _TELLING}
        events = list(islice(self._display.events(), _AT_ONCE))
        happened = len(events) == _AT_ONCE
        for event in events:
            if isinstance(event, self._display.x.PropertyNotifyEvent):
                happened = happened or event.atom in names
            elif isinstance(event, self._display.x.DestroyNotifyEvent):
                happened = True
        return happened

    def windows(self) -> list[Window]:
        """All windows that the window manager lists, the one in front first, then from the top to the bottom."""
        active = self._active()
        found = []
        display = self._display
        for window in listed(display):
            try:
                found.append(Window(described(display, window), window == active))
            except NoWindow:
                continue
        return sorted(found, key=lambda window: not window.front)

    def close(self) -> None:
        """Stops following."""
        self._display.close()

    def _active(self) -> int:
        """The window in front. A window manager that ended leaves its last answer behind, which is no longer believed."""
        display = self._display
        with display.ahead(display.root, ("_NET_SUPPORTING_WM_CHECK", "_NET_ACTIVE_WINDOW")):
            manager, window = display.manager_window(), in_front(display)
        if manager != self._manager:
            self._manager = manager
            if manager:
                display.select(manager, display.x.EventMask.StructureNotify)
        return window if manager else 0

    def _watch(self, window: int) -> None:
        """Follows the title of this window in place of the one before."""
        if self._watched:
            self._display.select(self._watched, 0)
        if window:
            self._display.select(window, self._mask)
        self._watched = window
