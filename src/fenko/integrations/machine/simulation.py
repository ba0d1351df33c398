"""Simulated machines of a desk."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from fenko.core.changes import Effect
from fenko.integrations.machine.rehearsed import Rehearsal
from fenko.integrations.machine.settings import settings_of
from fenko.integrations.simulation import Simulation
from fenko.integrations.wording import entry


class MachineSimulation(Simulation):
    """A rehearsal of each machine that gets an effect."""

    def __init__(self, tables: Mapping[str, Any]) -> None:
        super().__init__(tables)
        self._machines: dict[str, Rehearsal] = {}

    def take(self, effect: Effect) -> None:
        """Give it to its machine."""
        name = effect[3]
        if name not in self._machines:
            settings = settings_of(name, entry(self.tables, "machine", name))
            self._machines[name] = Rehearsal(settings, self.tables)
        self._machines[name].take((effect,))

    def lines(self) -> Iterator[str]:
        """How far each went, and where it is (mm)."""
        for name, one in self._machines.items():
            one.finish()
            position = one.machine.planner.position
            places = " and ".join(
                f"{axis} {one.settings.shown(axis, round(place, 1))}" for axis, place in position.items()
            )
            yield f"the {name} went {one.machine.way:.0f} mm and is at {places}"
