"""One way by which a surface can be there: how it is opened, heard, answered, and closed."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from math import inf
from typing import Any

from fenko.core.flow import Sent


class Way(ABC):
    """A link of a surface. All methods are called by one thread. `open`, `hear` and `do` raise Away; then it is closed, and
    opened again later."""

    longest_pause = 30.0
    """Seconds before it is opened again, at most."""
    due = inf
    """When `hear` has to be called even if nothing has come (monotonic)."""
    until: float | None = None
    """Until when everything that happened has been heard, where the other end says so."""
    what: dict[str, Any] | None = None
    """What the surface says that it is (`title`, and `controls` with their `sort`s where it knows them) while it is there; another
    object, even an equal one, is a surface that has begun anew."""
    left_out = 0
    """Presses so far that came too late, and were left out."""
    turning: frozenset[str] = frozenset()
    """The controls that say how far they were turned, and not how they stand."""

    def __init__(
        self, link: str, entry: Mapping[str, Any], wake: Callable[[], None], note: Callable[[str], None]
    ) -> None:
        """`entry` is what the desk says of the surface. Must not wait. `wake`, for any thread, has `hear` called soon."""
        self.link = link
        self.entry = entry
        self.wake = wake
        self.note = note

    @abstractmethod
    def open(self) -> None:
        """Opens it; whether anybody is there may show later."""

    @abstractmethod
    def hear(self, now: float) -> list[Sent]:
        """What has come, up to where `what` changes: the rest the next time, which is at once."""

    @abstractmethod
    def do(self, act: str, values: tuple[Any, ...]) -> None:
        """The surface is told something: the act and the values of an effect of `feedback`, without the surface."""

    def dark(self) -> None:  # noqa: B027
        """Every lamp goes out, and nothing rumbles or sounds any more. Must not fail."""

    def close(self) -> None:  # noqa: B027
        """Lets go of it; it may be opened again. Must not fail."""

    def end(self) -> None:  # noqa: B027
        """Nobody will open it again: what waited for it ends. Must not fail."""
