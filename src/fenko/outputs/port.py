"""What every port has: something through which effects leave Fenko, and which ends what it began."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, NamedTuple

from msgspec import Struct

from fenko.core.changes import Effect
from fenko.core.remedies import Remedy

Memory = bytearray | memoryview
"""Bytes that outlive the process; see `fenko.live.guard`."""


class PortError(Exception):
    """A port that cannot be opened, and what helps, if anything does."""

    def __init__(self, message: str, remedy: Remedy | None = None) -> None:
        super().__init__(message)
        self.remedy = remedy or Remedy()


class PortLost(Exception):
    """The other end of a port is gone; nothing that it began lasts any longer. The message says what is gone."""


class Descriptor(NamedTuple):
    """A file descriptor that a port wants to be told of: `readable` is called when it has something to say, and
    `writable`, where it is given, as long as it takes more and the function says True."""

    fd: int
    readable: Callable[[], None]
    writable: Callable[[], bool] | None = None


class Settings(Struct, frozen=True):
    """What a port is opened with: the desk's tables by name, whom to warn, its part of the guard's page, the desk's folder,
    and what tells whether the person has agreed to something (None: to everything)."""

    tables: Mapping[str, Any]
    warn: Callable[[str], None]
    memory: Memory | None = None
    folder: str = ""
    agreed: Callable[[str], bool] | None = None


class Port(ABC):
    """A way out. `outs` are the outs whose effects it takes; it leaves all others alone.

    Nothing here ever waits for somebody else. What cannot be sent at once is kept, and `wake` is called with the time
    (monotonic seconds) at which `go_on` has to be. Once the other end is gone, every method raises PortLost, and
    nothing else."""

    name: str
    outs: frozenset[str]
    why = ""
    """Why it is this port and no other, in words."""
    returns = False
    """Whether what was lost may come back by itself with the display."""
    wake: Callable[[float], None] = staticmethod(lambda due: None)

    @abstractmethod
    def send(self, effects: Sequence[Effect]) -> None:
        """Sends effects, in order."""

    @property
    def busy(self) -> bool:
        """Whether something waits to be sent."""
        return False

    def go_on(self, now: float) -> None:  # noqa: B027
        """Goes on with what waits."""

    def give_up(self) -> str | None:
        """Forgets what waits to be sent; says what is lost by that, if anything is."""
        return None

    def descriptors(self) -> Iterable[Descriptor]:
        """What the port wants to be told of."""
        return ()

    def pass_motion(self, raw: bytes) -> None:  # noqa: B027
        """Hands on a mouse's moves: raw kernel events, moves and ends of reports and nothing else."""

    def begin_close(self) -> None:  # noqa: B027
        """Sends whatever ends things, and does not wait for it: before any port is closed, all have begun to."""

    @abstractmethod
    def close(self) -> None:
        """Ends everything that the port began, and lets go of it. Never raises."""
