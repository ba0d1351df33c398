"""Windows of a Wayland compositor that tells of them (wlr-foreign-toplevel-management): which there are, which is in front."""

from __future__ import annotations

import contextlib
import select
from typing import Any

from fenko.core.circumstances import Focus
from fenko.system.desktop_windows import LONGEST_TITLE, MOST_OWNERS, DesktopWindow, DesktopWindows
from fenko.system.session import DisplayError
from fenko.system.sway import SwayWindows
from fenko.system.wayland import Object, Wayland

MANAGER = "zwlr_foreign_toplevel_manager_v1"
_ACTIVATED = 2
_MOST = 2000
"""Windows; a compositor that tells of more is asked no further."""


class Toplevel:
    """One window. What it says of itself counts once it has said that this is all (`told`)."""

    __slots__ = ("_next", "app", "front", "handle", "owner", "title", "told")

    def __init__(self, handle: Object) -> None:
        self.handle = handle
        self.app = self.title = ""
        self.front = self.told = False
        self.owner = 0
        self._next: dict[str, Any] = {}

    def hear(self, what: str, value: Any) -> None:
        """Something of it changes, together with all that comes before the next `settle`."""
        self._next[what] = value

    def settle(self) -> None:
        """All that has changed is true now."""
        for what, value in self._next.items():
            setattr(self, what, value)
        self._next.clear()
        self.told = True


class Toplevels:
    """Follows every window. Every method raises DisplayError when the compositor is gone."""

    def __init__(self) -> None:
        self.line = Wayland()
        self._windows: dict[int, Toplevel] = {}  # the one that was in front last stands last
        self._changed = False
        self._seat = self.line.bind("wl_seat", 1)
        manager = self.line.bind(MANAGER, 3)
        if manager is None or self._seat is None:
            self.line.close()
            raise DisplayError(f"the compositor of {self.line.name} tells nobody which window is in front")
        manager.hears = {"toplevel": self._appeared, "finished": self._ended}
        try:
            self.line.settle()
        except DisplayError:
            self.line.close()
            raise

    def _appeared(self, handle: Object) -> None:
        if len(self._windows) >= _MOST:
            return
        window = self._windows[handle.number] = Toplevel(handle)
        handle.hears = {
            "title": lambda title: window.hear("title", title[:LONGEST_TITLE]),
            "app_id": lambda app: window.hear("app", app),
            "state": lambda raw: window.hear("front", _ACTIVATED in memoryview(raw[: len(raw) // 4 * 4]).cast("I")),
            "parent": lambda owner: window.hear("owner", owner),
            "done": lambda: self._settled(window),
            "closed": lambda: self._closed(window),
        }

    def _settled(self, window: Toplevel) -> None:
        was = window.front
        window.settle()
        number = window.handle.number
        if window.front and not was and number in self._windows:
            self._windows[number] = self._windows.pop(number)
        self._changed = True

    def _closed(self, window: Toplevel) -> None:
        self._windows.pop(window.handle.number, None)
        window.handle.forget()
        self._changed = True

    def _ended(self) -> None:
        raise DisplayError(f"the compositor of {self.line.name} tells of no windows any more")

    def read(self) -> bool:
        """Hears what has come; whether any window is another than before."""
        self.line.read()
        self.line.flush()
        changed, self._changed = self._changed, False
        return changed

    def all(self) -> list[Toplevel]:
        """Every window, the one that was in front last first."""
        return [window for window in reversed(self._windows.values()) if window.told]

    def of(self, number: str) -> Toplevel | None:
        """The window of that number, if it is still there."""
        return next((window for window in self._windows.values() if str(window.handle.number) == number), None)

    def front(self) -> Toplevel | None:
        """The window in front."""
        return next((window for window in reversed(self._windows.values()) if window.front), None)

    def owner_of(self, window: Toplevel) -> Toplevel | None:
        """The window that a dialog belongs to, and that one's, up to the last."""
        found: Toplevel | None = None
        for _ in range(MOST_OWNERS):
            owner = self._windows.get((found or window).owner)
            if owner is None or owner is window:
                break
            found = owner
        return found

    def described(self, window: Toplevel) -> Focus:
        """A window as a profile's `when` names it, and the one that it is a dialog of."""
        owner = self.owner_of(window)
        return Focus(window.app, window.title, owner=Focus(owner.app, owner.title) if owner is not None else None)

    def bring_to_front(self, window: Toplevel) -> None:
        """Asks the compositor for it."""
        window.handle.tell("activate", self._seat)
        self.line.settle()

    def ask_to_close(self, window: Toplevel) -> None:
        """Asks its program, through the compositor."""
        window.handle.tell("close")
        self.line.settle()

    def close(self) -> None:
        """Stops following."""
        self.line.close()


class ToplevelWindows(DesktopWindows):
    """Windows of such a compositor; where sway says it, with their programs."""

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

    def read(self) -> bool:
        """Hears what has come; whether any window is another than before."""
        changed = self._windows.read()
        if self._sway is not None:
            try:
                changed = self._sway.read() or changed
            except OSError:
                self._forget_sway()
        return changed

    def front(self) -> Focus:
        """What is in front; an empty focus where nothing is."""
        window = self._windows.front()
        return self._described(window) if window is not None else Focus()

    def all(self) -> list[DesktopWindow]:
        """Every window, the one that was in front last first."""
        self._windows.line.settle()
        if self._sway is not None:
            try:
                self._sway.ask()
            except OSError:
                self._forget_sway()
        return [
            DesktopWindow(str(window.handle.number), self._described(window), window.front)
            for window in self._windows.all()
        ]

    def bring_to_front(self, window: DesktopWindow) -> None:
        """Asks the compositor."""
        if found := self._windows.of(window.number):
            self._windows.bring_to_front(found)

    def ask_to_close(self, window: DesktopWindow) -> None:
        """Asks its program, through the compositor."""
        if found := self._windows.of(window.number):
            self._windows.ask_to_close(found)

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
