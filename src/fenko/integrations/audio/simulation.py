"""A simulated audio server."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from fenko.core.changes import Effect
from fenko.integrations.simulation import Simulation

_NAMES = {"output": "the volume", "input": "the microphone"}


class AudioSimulation(Simulation):
    """Levels (0 to 1) and mutes; each level begins at 0.5."""

    def __init__(self, tables: Mapping[str, Any]) -> None:
        super().__init__(tables)
        self.levels: dict[str, float] = {}
        self.muted: set[str] = set()

    def take(self, effect: Effect) -> None:
        """Set a level or a mute."""
        _, _, act, of, value = effect
        now = self.levels.setdefault(of, 0.5)
        if isinstance(value, str):
            turned = of not in self.muted if value == "switch" else value == "on"
            (self.muted.add if turned else self.muted.discard)(of)
        elif act == "gain":
            self.levels[of] = min(1.0, now * 10 ** (value / 60))
        else:
            self.levels[of] = min(1.0, max(0.0, value if act == "level" else now + value))

    def lines(self) -> Iterator[str]:
        """Each level."""
        for of, level in self.levels.items():
            name = _NAMES.get(of, f"the volume of {of}")
            yield f"{name} is at {level * 100:.0f}%" + (", muted" if of in self.muted else "")
