"""A simulated machine that does what a desk would have a real one do: the same driver, in no time."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from fenko.integrations.machine.chosen import Chosen
from fenko.integrations.machine.driver import Driver
from fenko.integrations.machine.settings import MachineSettings
from fenko.integrations.machine.simulated import SimulatedMachine

_STEP = 0.005
"""Seconds from one look at the line to the next."""
_MOST_AFTER = 60.0
"""Seconds that it has to come to rest when nothing is asked of it any more."""


class Rehearsal:
    """One machine of a desk, simulated and homed, at its least places or 0. `notes` are what was refused, with its second."""

    def __init__(self, settings: MachineSettings, tables: Mapping[str, Any]) -> None:
        self.settings = settings
        self.machine = SimulatedMachine(settings.axes, settings.dialect, homing=False)
        self.machine.planner.position.update({axis: max(0.0, one.least) for axis, one in settings.axes.items()})
        self.notes: list[tuple[float, str]] = []
        self.driver = Driver(settings, lambda text: self.notes.append((self.now, text)))
        self.driver.open(0.0)
        self.now = 0.0
        self._chosen = Chosen(tables)

    def take(self, effects: Iterable[tuple[Any, ...]]) -> None:
        """These effects of a desk, in order; those of other outputs and machines are left alone."""
        for t, out, act, *values in effects:
            if out == "machine" and values[0] == self.settings.name:
                self.run(t)
                meant = self._chosen.resolved(act, tuple(values))
                if meant is not None:
                    self.driver.take(self.now, self.now, act, meant[1:])

    def run(self, until: float) -> None:
        """Time passes; the desk is at work."""
        while self.now < until - 1e-9:
            self.now = round(min(until, self.now + _STEP), 6)
            self.driver.alive(self.now)
            self.machine.advance(self.now)
            self.driver.hear(self.now, self.machine.answers())
            self.machine.take(self.driver.tick(self.now))

    def finish(self) -> None:
        """Time passes until it rests."""
        end = self.now + _MOST_AFTER
        self.run(self.now + 0.3)
        while self.now < end and (self.driver.busy or self.machine.planner.moving):
            self.run(self.now + 0.1)
