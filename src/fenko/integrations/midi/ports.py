"""What every system of MIDI ports has, and the names that ports go by."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from fnmatch import fnmatchcase
from typing import Protocol

CLIENT = "Fenko"
"""What other programs see Fenko's ports under."""
SEQUENCER = "/dev/snd/seq"


Hear = Callable[[float, bytes], None]
"""Told of what has come: when (monotonic), and its bytes; none where something was lost."""


def is_own(client: str) -> bool:
    """Whether a program's ports are Fenko's own, of whatever part of it."""
    return client == CLIENT or client.startswith((f"{CLIENT} ", f"{CLIENT}-"))


class System(Protocol):
    """One system of MIDI ports. Everything raises Away when it is gone."""

    too_long: int
    """Messages so far that were left out, for no system of that kind could take them."""

    def add(self, name: str, to: str) -> None:
        """A port of that name; with `to`, a pattern, it is connected with all that fit, now and whenever they come."""

    def send(self, name: str, message: bytes) -> None:
        """Sends one message from a port."""

    def hear(self, name: str, whom: str, hear: Hear) -> None:
        """A port of that name that listens to all that fit a pattern, now and whenever they come; `hear` is called by another
        thread."""

    def heard(self, name: str) -> list[str]:
        """Whom a port listens to."""

    def connected(self) -> dict[str, list[str]]:
        """With whom each port is connected."""

    def connect(self, name: str, others: Sequence[str]) -> None:
        """Connects a port with others, as far as they are there."""

    def look(self) -> None:
        """Something has come or gone: connects what is to be connected."""

    def close(self) -> None:
        """All ports vanish. Must not fail."""


def fits(pattern: str, name: str) -> bool:
    """Whether the name of a port, or of its client and its port, is meant by a pattern; case does not matter."""
    wanted = pattern.casefold()
    whole = name.casefold()
    return any(fnmatchcase(one, wanted) for one in (whole, whole.partition(":")[0], whole.rpartition(":")[2]))
