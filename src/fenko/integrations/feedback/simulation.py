"""Simulated surfaces that show lamps and answer."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from typing import Any

from fenko.core.changes import Effect
from fenko.integrations.simulation import Simulation

_COUNTED = {"rumble": "rumble", "tone": "tone", "text": "text on a display"}


class FeedbackSimulation(Simulation):
    """Lamps that are on, and how many answers there were."""

    def __init__(self, tables: Mapping[str, Any]) -> None:
        super().__init__(tables)
        self.lamps: dict[tuple[str, str], str] = {}
        self.lit = 0
        self.counts: Counter[str] = Counter()

    def take(self, effect: Effect) -> None:
        """Light a lamp, or answer."""
        _, _, act, surface, *values = effect
        if act == "lamp":
            name, to = values
            self.lit += to != "off"
            self.lamps[surface, name] = to
        elif act in _COUNTED:
            self.counts[act] += 1

    def lines(self) -> Iterator[str]:
        """Lamps and answers in one line."""
        if self.lamps or self.counts:
            on = ", ".join(f"{name} of {surface}" for (surface, name), to in self.lamps.items() if to != "off")
            answers = [f"{count} {_COUNTED[act]}{'s' if count > 1 else ''}" for act, count in self.counts.items()]
            yield "; ".join((f"lamps were lit {self.lit} times, still on: {on or 'none'}", *answers))
