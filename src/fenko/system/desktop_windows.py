"""Windows of a Wayland desktop, whichever way it tells of them: one small interface, and one way a family of desktops."""

from __future__ import annotations

from abc import ABC, abstractmethod

import msgspec
from msgspec import Struct

from fenko.core.circumstances import Focus
from fenko.system.processes import program_of
from fenko.system.session import DisplayError

LONGEST_TITLE = 1000
"""Characters of a title that count; what comes after them could only cost time."""
MOST_OWNERS = 8
"""Dialogs of dialogs; a program may say anything."""


class AnotherDesktop(DisplayError):
    """This desktop is not of that family."""


class DesktopWindow(Struct, frozen=True):
    """A window: what the desktop calls it, what it is, and whether it is in front."""

    number: str
    focus: Focus
    front: bool


class SaidWindow(Struct):
    """A window as the scripts say it that desktops run for Fenko."""

    id: str = ""
    app: str = ""
    title: str = ""
    pid: int = 0
    front: bool = False
    passing: bool = False
    owner: SaidWindow | None = None

    def focus(self) -> Focus:
        """It as a profile's `when` names it."""
        owner = self.owner.focus() if self.owner is not None else None
        return Focus(self.app, self.title[:LONGEST_TITLE], *program_of(self.pid), owner=owner)


class WindowList(ABC):
    """The windows of a desktop. Every method raises DisplayError when the desktop is gone; it may wait for it."""

    @abstractmethod
    def all(self) -> list[DesktopWindow]:
        """Every window, from the top to the bottom, or by when it was in front."""

    @abstractmethod
    def bring_to_front(self, window: DesktopWindow) -> None:
        """Asks the desktop for it."""

    @abstractmethod
    def ask_to_close(self, window: DesktopWindow) -> None:
        """Asks its program, through the desktop."""

    @abstractmethod
    def close(self) -> None:
        """Lets go of the desktop."""


class DesktopWindows(WindowList):
    """Follows them."""

    where = ""
    """Who tells, in words."""
    fd: int
    """Becomes readable when something may have changed; then call `read`, which never waits."""

    @abstractmethod
    def read(self) -> bool:
        """Hears what has come; whether the window in front may be another one, or be called otherwise."""

    @abstractmethod
    def front(self) -> Focus:
        """What is in front, as far as has been heard; an empty focus where nothing is."""


class SaidWindows(DesktopWindows):
    """Those of a desktop that runs a script for Fenko, which says in JSON what there is."""

    _front = Focus()

    def _hear(self, text: str | bytes) -> bool:
        """What is in front now, as the script says it, if that can be read; windows that nobody works in change nothing."""
        try:
            said = msgspec.json.decode(text, type=SaidWindow | None)
        except _UNREADABLE:
            return False
        if said is None or not said.passing:
            self._front = said.focus() if said is not None else Focus()
        return True

    def front(self) -> Focus:
        """What is in front; an empty focus where nothing is."""
        return self._front

    def _listed(self, text: str | bytes) -> list[DesktopWindow]:
        """The windows of a list that the script says."""
        try:
            said = msgspec.json.decode(text, type=list[SaidWindow])
        except _UNREADABLE as why:
            raise DisplayError(f"{self.where} says what cannot be read: {why}") from why
        return [DesktopWindow(one.id, one.focus(), one.front) for one in said if not one.passing]


_UNREADABLE = (msgspec.DecodeError, msgspec.ValidationError, RecursionError)
