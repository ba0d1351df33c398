"""A take as a source: its changes come in its own time."""

from __future__ import annotations

import time
from collections.abc import Sequence
from math import inf

from fenko.core.changes import Change
from fenko.live.source import Source, Surroundings


class TakeSource(Source):
    """Plays changes, whose times are seconds from `start`."""

    def __init__(self, around: Surroundings, changes: Sequence[Change]) -> None:
        self._inbox = around.inbox
        self._changes = list(changes)
        self._next = 0
        self._begun = 0.0
        self._timer = around.loop.timer(self._play_on)

    def start(self) -> None:
        """Plays from now on."""
        self._begun = time.monotonic()
        self._timer.set(self._due())

    @property
    def busy(self) -> bool:
        """Whether something is still to come."""
        return self._next < len(self._changes)

    def _due(self) -> float:
        return self._begun + self._changes[self._next][0] if self.busy else inf

    def _play_on(self, now: float) -> None:
        while self._due() <= now:
            t, address, value = self._changes[self._next]
            self._next += 1
            self._inbox.put([(self._begun + t, address, value)])
        self._timer.set(self._due())

    def close(self) -> None:
        """Plays nothing more."""
        self._timer.set(inf)
