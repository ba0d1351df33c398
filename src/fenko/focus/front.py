"""What tells which window is in front, whatever the desktop."""

from __future__ import annotations

from abc import ABC, abstractmethod

from msgspec import Struct

from fenko.core.circumstances import Focus


class Window(Struct, frozen=True):
    """A window as a profile's `when` names it, and whether it is in front."""

    focus: Focus
    front: bool


class FrontWindow(ABC):
    """Follows the window in front. Every method raises DisplayError when the desktop is gone."""

    where = ""
    """Who tells, in words."""
    fd: int
    """Becomes readable when something may have changed; then call `read` until it returns None."""
    asks = False
    """Whether `read` has to ask somebody, and waits for the answer."""

    def managed(self) -> bool:
        """Whether there is somebody at this moment who knows which window is in front."""
        return True

    @abstractmethod
    def current(self) -> Focus:
        """What is in front now; an empty focus where nothing is."""

    @abstractmethod
    def read(self) -> Focus | None:
        """The focus after what has been told; None once none of it can have changed it."""

    @abstractmethod
    def windows(self) -> list[Window]:
        """All windows, the one in front first, then from the top to the bottom."""

    @abstractmethod
    def close(self) -> None:
        """Stops following."""
