"""A simulated synthesiser."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from fenko.core.changes import Effect
from fenko.integrations.midi.spec import CONTROLLER, NOTE_OFF, NOTE_ON, note_name
from fenko.integrations.simulation import Simulation


class MidiSimulation(Simulation):
    """Notes that sound, by port, channel and number, and the values of controllers."""

    def __init__(self, tables: Mapping[str, Any]) -> None:
        super().__init__(tables)
        self.sounding: set[tuple[str, int, int]] = set()
        self.notes = 0
        self.controllers: dict[tuple[str, int, int], int] = {}

    def take(self, effect: Effect) -> None:
        """Receive one message."""
        _, _, _, port, data = effect
        kind, channel = data[0] & 0xF0, data[0] & 0x0F
        if kind == NOTE_ON and data[2]:
            self.sounding.add((port, channel, data[1]))
            self.notes += 1
        elif kind in (NOTE_ON, NOTE_OFF):
            self.sounding.discard((port, channel, data[1]))
        elif kind == CONTROLLER:
            self.controllers[port, channel, data[1]] = data[2]

    def lines(self) -> Iterator[str]:
        """What was played, and where controllers are."""
        if self.notes:
            sounding = ", ".join(note_name(note) for _, _, note in sorted(self.sounding))
            yield f"{self.notes} note{'s were' if self.notes > 1 else ' was'} played, and {sounding or 'none'} still sounds"
        for (port, _, number), value in self.controllers.items():
            yield f"controller {number} of {port} is at {value}"
