"""MIDI at work: ports of Fenko's own or of others, on ALSA's sequencer or JACK, with every note ended in every case."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from fenko.core.changes import Effect
from fenko.core.remedies import Remedy
from fenko.integrations.midi.found import SYSTEMS, ports_of, remedy
from fenko.integrations.midi.ports import System
from fenko.integrations.midi.spec import (
    BEND,
    CONTROLLER,
    NOTE_OFF,
    NOTE_ON,
    SUSTAIN,
    USUAL_PORT,
    messages,
)
from fenko.workers.worker import Away, Desk, Worker

_ALL_NOTES_OFF = 123
_MIDDLE = [0x00, 0x40]  # of the bend


def ready(tables: Mapping[str, Any], folder: Path) -> list[tuple[bool, str, str | Remedy]]:
    """How things stand: good or not, what is so, what helps."""
    found: list[tuple[bool, str, str | Remedy]] = []
    for name in SYSTEMS:
        try:
            ports = ports_of(name)
        except Away as why:
            found.append((False, f"{name}: {why}", ""))
        else:
            found.append(
                (True, f"{name}: {', '.join(ports) if ports else 'no port of another program that takes MIDI'}", "")
            )
    if any(good for good, _, _ in found):
        return [one for one in found if one[0]]
    return [(False, "; ".join(what for _, what, _ in found), remedy())]


def offers(tables: Mapping[str, Any], folder: Path) -> list[tuple[str, str]]:
    """Phrases for the desk's ports, and the ports of others that are there."""
    table = tables.get("midi")
    own = list(table) if isinstance(table, dict) and table else [USUAL_PORT]
    found = []
    for name in own:
        to = f" to {name}" if name != USUAL_PORT else ""
        found += [(f"midi note c4{to}", "a port of the desk"), (f"midi cc 1 follow{to}", "a port of the desk")]
    for system in SYSTEMS:
        with contextlib.suppress(Away):
            found += [
                ("midi note c4 to other", f'is there; first give the desk a [midi.other] with `port = "{port}"`')
                for port in ports_of(system)
            ]
    return found


class MidiWorker(Worker):
    """All ports of a desk. What sounds is known by port, channel and note."""

    eager = True

    def __init__(self, tables: Mapping[str, Any], folder: Path, desk: Desk) -> None:
        super().__init__(tables, folder, desk)
        table = tables.get("midi")
        self._wanted: dict[str, dict[str, Any]] = table if isinstance(table, dict) and table else {USUAL_PORT: {}}
        self._systems: dict[str, System] = {}
        self._through: dict[str, System] = {}
        self._sounding: dict[tuple[str, int, int], bool] = {}
        self._bent: set[tuple[str, int]] = set()
        self._sustained: set[tuple[str, int]] = set()
        self._told: dict[str, list[str]] = {}
        self._too_long = 0

    def open(self) -> None:
        """Makes the ports."""
        try:
            for name, entry in self._wanted.items():
                system = self._system(str(entry.get("through", "auto")))
                system.add(name, str(entry.get("port", "")))
                self._through[name] = system
        except Away:
            self.close()
            raise
        self.watch()

    def _system(self, through: str) -> System:
        from fenko.integrations.midi.alsa import AlsaSystem
        from fenko.integrations.midi.jack_client import JackSystem

        makes: dict[str, Callable[[Callable[[], None]], System]] = {"alsa": AlsaSystem, "jack": JackSystem}
        reasons = []
        for name in makes if through == "auto" else (through,):
            if name not in self._systems:
                try:
                    self._systems[name] = makes[name](self.wake)
                except Away as why:
                    reasons.append(str(why))
                    continue
            return self._systems[name]
        raise Away("; ".join(reasons))

    def send(self, effects: Sequence[Effect]) -> None:
        """Sends messages, in order."""
        for _, _, _, port, data in effects:
            system = self._through.get(port)
            if system is not None:
                for message in messages(bytes(data)):
                    system.send(port, message)
                    self._note(port, message)

    def _note(self, port: str, message: bytes) -> None:
        """Remembers what has to be ended."""
        kind, channel = message[0] & 0xF0, message[0] & 0x0F
        if kind == NOTE_ON and message[2]:
            self._sounding[port, channel, message[1]] = True
        elif kind in (NOTE_ON, NOTE_OFF):
            self._sounding.pop((port, channel, message[1]), None)
        elif kind == CONTROLLER and message[1] == SUSTAIN:
            (self._sustained.add if message[2] else self._sustained.discard)((port, channel))
        elif kind == BEND:
            (self._bent.discard if list(message[1:]) == _MIDDLE else self._bent.add)((port, channel))

    def watch(self) -> float | None:
        """Connects who has come, and tells with whom each port is connected."""
        now: dict[str, list[str]] = {}
        for system in self._systems.values():
            system.look()
            now |= system.connected()
        for name, others in now.items():
            if self._told.get(name) != others:
                self.desk.fact(name, {"to": others})
        self._told = now
        too_long = sum(system.too_long for system in self._systems.values())
        if too_long > self._too_long:
            self.desk.note(
                f"MIDI: {too_long - self._too_long} messages are longer than the server takes, and were left out"
            )
        self._too_long = too_long
        return None

    def left_over(self, begun: Sequence[Effect], facts: Mapping[str, Any]) -> None:
        """Connects the ports as they were, and ends the notes."""
        for name, fact in facts.items():
            if name in self._through:
                self._through[name].connect(name, [str(one) for one in fact.get("to", ())])
        for _, _, _, port, data in begun:
            if port in self._through:
                self._through[port].send(port, bytes([NOTE_OFF | data[0] & 0x0F, data[1], 0]))

    def release(self) -> None:
        """Every note ends, pedals come up, and what is bent is straight again."""
        ending = [(port, [NOTE_OFF | channel, note, 0]) for port, channel, note in self._sounding]
        ending += [(port, [CONTROLLER | channel, SUSTAIN, 0]) for port, channel in self._sustained]
        ending += [(port, [BEND | channel, *_MIDDLE]) for port, channel in self._bent]
        ending += [
            (port, [CONTROLLER | channel, _ALL_NOTES_OFF, 0])
            for port, channel in dict.fromkeys((port, channel) for port, channel, _ in self._sounding)
        ]
        with contextlib.suppress(Away):
            for port, data in ending:
                self._through[port].send(port, bytes(data))
        self._sounding.clear()
        self._sustained.clear()
        self._bent.clear()

    def close(self) -> None:
        """The same, and the ports vanish."""
        self.release()
        for system in self._systems.values():
            system.close()
        self._systems.clear()
        self._through.clear()
        for name in self._told:
            self.desk.fact(name, None)
        self._told = {}
