"""A simulated sound output."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from fenko.core.changes import Effect
from fenko.integrations.simulation import Simulation


class SoundSimulation(Simulation):
    """Counts the sounds that are played."""

    def __init__(self, tables: Mapping[str, Any]) -> None:
        super().__init__(tables)
        self.played = 0

    def take(self, effect: Effect) -> None:
        """Play, or something else."""
        self.played += effect[2] == "play"

    def lines(self) -> Iterator[str]:
        """How many."""
        if self.played:
            yield f"{self.played} sound{'s were' if self.played > 1 else ' was'} played"
