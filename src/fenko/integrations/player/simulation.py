"""A simulated media player."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from fenko.core.changes import Effect
from fenko.integrations.simulation import Simulation


class PlayerSimulation(Simulation):
    """A player that plays its first track."""

    def __init__(self, tables: Mapping[str, Any]) -> None:
        super().__init__(tables)
        self.playing = True
        self.track = 1

    def take(self, effect: Effect) -> None:
        """Play, pause, or change the track."""
        act = effect[2]
        if act in ("play-pause", "play", "pause", "stop"):
            self.playing = not self.playing if act == "play-pause" else act == "play"
        elif act in ("next", "previous"):
            self.track = max(1, self.track + (1 if act == "next" else -1))

    def lines(self) -> Iterator[str]:
        """What it does, if that has changed."""
        if self.track != 1 or not self.playing:
            track = f", track {self.track}" if self.track > 1 else ""
            yield f"the player {'plays' if self.playing else 'pauses'}{track}"
