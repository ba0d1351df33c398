"""What a port has down at the other end, in memory that outlives the process: the guard reads there what it has to lift."""

from __future__ import annotations

from fenko.outputs.port import Memory

A_DAY = 86400.0
"""Seconds that the guard waits for a display which hangs: either it goes on, or it goes."""


class Ledger:
    """A byte for each thing that can be down. It is noted before the other end hears of a press, and struck out when that has dealt
    with the release: a release on its way to an end that hangs is lost when its sender goes. What is sent is counted in batches."""

    def __init__(self, memory: Memory) -> None:
        self.memory = memory
        self._lifted: dict[int, int] = {}

    def begin(self, at: int) -> None:
        """It is being pressed."""
        self.memory[at] = 1
        self._lifted.pop(at, None)

    def end(self, at: int, batch: int) -> None:
        """Its release is in this batch."""
        self._lifted[at] = batch

    def done(self, batch: int) -> None:
        """The other end has dealt with everything up to the end of this batch."""
        for at in [at for at, lifted in self._lifted.items() if lifted <= batch]:
            self.memory[at] = 0
            del self._lifted[at]
