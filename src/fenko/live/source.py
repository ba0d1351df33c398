"""What every source has: something by which changes come to a running desk."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable
from typing import Any

from msgspec import Struct

from fenko.core.lazy import load_named
from fenko.desk.compiled import Compiled
from fenko.live.display import Displays
from fenko.live.inbox import Inbox
from fenko.live.linked import Linked
from fenko.live.loop import Loop
from fenko.live.router import Router


class Surroundings(Struct):
    """What a source works with. `desk` is the one that is in force now. `note` gets a line for everything that a person wants to know; with `share`, devices are
    left to other programs too."""

    desk: Compiled
    loop: Loop
    inbox: Inbox
    router: Router
    displays: Displays
    note: Callable[[str], None]
    linked: Linked
    share: bool = False
    locked: Callable[[bool], None] = lambda locked: None
    """Told when the screen is locked, and when it is not any more."""


class Source(ABC):
    """Puts changes into the inbox from `start` until `close`."""

    @abstractmethod
    def start(self) -> None:
        """Begins; says what it found, or why there is nothing."""

    @property
    def busy(self) -> bool:
        """Whether something is under way that comes by itself."""
        return False

    def raw(self, address: str) -> str:
        """What a device itself says of an input; empty if this source has none that does."""
        return ""

    def pause(self, paused: bool) -> None:  # noqa: B027
        """Fenko stops, or starts again; other programs may have what this source took over."""

    def leave(self, surfaces: frozenset[str]) -> None:  # noqa: B027
        """The active profile leaves these surfaces to the program, and no others."""

    def use_desk(self, before: Compiled) -> None:  # noqa: B027
        """Another desk is in force now, in place of the one `before`."""

    @abstractmethod
    def close(self) -> None:
        """Ends, and gives back what it took over."""


SOURCES = {
    "focus": "fenko.live.focus:FocusSource",
    "keyboard": "fenko.live.keyboard:KeyboardSource",
    "running": "fenko.live.running:RunningSource",
    "lock": "fenko.live.locked:LockSource",
    "devices": "fenko.live.devices:DeviceSource",
}
"""Every source of a running desk, in the order in which they start: its class, of Surroundings."""


def make_source(name: str, around: Surroundings) -> Source:
    """A source, not started yet; only now its module is loaded."""
    make: Callable[[Any], Source] = load_named(SOURCES[name])
    return make(around)
