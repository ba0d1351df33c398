"""What a MIDI controller says, message by message, as changes of its controls.

Controls are called as the messages are (MIDI 1.0): ``note-60`` and ``note-60-pressure``, ``cc-7``, ``nrpn-258``, ``bend``,
``pressure``, ``program-1``, ``play``, ``stop``, ``continue``; on other channels than the first ``ch2-cc-7``. Numbers are those of the
messages (programs from 1).

A controller of 14 bits sends two messages, the upper half first.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from math import inf
from typing import Any, NamedTuple

from fenko.core.endless import EndlessReader
from fenko.core.flow import Sent
from fenko.core.inputs import Raw

STRUCK = 0.02
"""Seconds for which what has no release (a program, the transport) is pressed."""
_HALVES_APART = 0.005  # s; the lower half of a number comes within this, or it has not changed
_FULL = 14
_NOTE_OFF, _NOTE_ON, _KEY_PRESSURE, _CONTROLLER, _PROGRAM, _PRESSURE, _BEND = range(0x80, 0xF0, 0x10)
_LENGTHS = {_NOTE_OFF: 3, _NOTE_ON: 3, _KEY_PRESSURE: 3, _CONTROLLER: 3, _PROGRAM: 2, _PRESSURE: 2, _BEND: 3}
_REAL_TIME = {0xFA: "play", 0xFB: "continue", 0xFC: "stop"}
_BANK_FINE = range(0x20, 0x40)
_DATA, _DATA_FINE, _PARAMETER_FINE, _PARAMETER, _RPN_FINE, _RPN = 6, 38, 98, 99, 100, 101
_SOUND_OFF, _NOTES_OFF = 120, 123
_BEND_MIDDLE = 0x2000


class _Half(NamedTuple):
    """The upper half of a number, and until when the lower one may come."""

    upper: int
    until: float


class MidiStream:
    """Whole messages out of bytes as they come: with running status, with real-time messages between any two bytes, and with what
    is no message left out."""

    def __init__(self) -> None:
        self._status = 0
        self._data = bytearray()

    def feed(self, data: bytes) -> Iterator[bytes]:
        """The messages that are whole with these bytes; system messages other than those of real time are left out."""
        for byte in data:
            if byte >= 0xF8:
                yield bytes((byte,))
            elif byte >= 0x80:
                self._status = byte if byte < 0xF0 else 0
                self._data.clear()
            elif self._status:
                self._data.append(byte)
                if len(self._data) == _LENGTHS[self._status & 0xF0] - 1:
                    yield bytes((self._status, *self._data))
                    self._data.clear()


class MidiReader:
    """Reads what one controller sends. `controls` says, of those of which it matters, their `sort`, their `coding` and their
    `bits`. `due` is when something comes by itself, if `pass_time` is called then."""

    def __init__(self, controls: Mapping[str, Mapping[str, Any]]) -> None:
        self._controls = controls
        self.turns = {
            name: EndlessReader(str(entry.get("coding") or ""))
            for name, entry in controls.items()
            if entry.get("sort") == "dial"
        }
        """The endless controls, with what is known of their codings."""
        self._down: dict[str, None] = {}
        self._struck: dict[str, float] = {}
        self._halves: dict[str, _Half] = {}
        self._upper: dict[str, int] = {}
        self._lower: dict[str, int] = {}
        self._parameter: dict[int, list[int]] = {}
        self._kinds: dict[int, Callable[[float, str, int, bytes], Iterator[Sent]]] = {
            _NOTE_OFF: self._note_off, _NOTE_ON: self._note_on, _KEY_PRESSURE: self._key_pressure,
            _CONTROLLER: self._controller, _PROGRAM: self._program, _PRESSURE: self._pressure, _BEND: self._bend,
        }  # fmt: skip

    @property
    def due(self) -> float:
        """When something comes by itself; inf if nothing does."""
        return min((*self._struck.values(), *(half.until for half in self._halves.values())), default=inf)

    def feed(self, t: float, message: bytes) -> list[Sent]:
        """The changes that one whole message tells of; none for what is no message of a control."""
        found = self.pass_time(t)
        status = message[0] if message else 0
        if status in _REAL_TIME and len(message) == 1:
            found += self._strike(t, _REAL_TIME[status])
        kind = status & 0xF0
        if len(message) != _LENGTHS.get(kind, 0) or any(byte > 0x7F for byte in message[1:]):
            return found
        channel = status & 0x0F
        found += self._kinds[kind](t, f"ch{channel + 1}-" if channel else "", channel, message)
        return found

    def pass_time(self, now: float) -> list[Sent]:
        """What came by itself until now."""
        found: list[Sent] = []
        for name in [name for name, until in self._struck.items() if until <= now]:
            found.append((self._struck.pop(name), name, 0))
        for name in [name for name, half in self._halves.items() if half.until <= now]:
            half = self._halves.pop(name)
            found.append((half.until, name, self._whole(name, half.upper, self._lower.get(name, 0))))
        return sorted(found, key=lambda sent: sent[0])

    def release_all(self, t: float) -> list[Sent]:
        """Whatever is down comes up: nobody will say so any more."""
        found = self.pass_time(inf)
        found = [(t, name, value) for _, name, value in found]
        found += [(t, name, self._amount(name, 0)) for name in self._down]
        self._down.clear()
        self._parameter.clear()
        return found

    # --- One kind of message each ---

    def _note_on(self, t: float, where: str, channel: int, message: bytes) -> Iterator[Sent]:
        name, loud = f"{where}note-{message[1]}", message[2]
        if not loud:
            yield from self._note_off(t, where, channel, message)
            return
        if name in self._down:
            yield (t, name, self._amount(name, 0))
        self._down[name] = None
        yield (t, name, self._amount(name, loud))

    def _note_off(self, t: float, where: str, channel: int, message: bytes) -> Iterator[Sent]:
        name = f"{where}note-{message[1]}"
        if name in self._down:
            del self._down[name]
            yield (t, name, self._amount(name, 0))
        if (pressed := f"{name}-pressure") in self._down:
            del self._down[pressed]
            yield (t, pressed, Raw(0, 0, 127))

    def _key_pressure(self, t: float, where: str, channel: int, message: bytes) -> Iterator[Sent]:
        yield self._pushed(t, f"{where}note-{message[1]}-pressure", message[2])

    def _pressure(self, t: float, where: str, channel: int, message: bytes) -> Iterator[Sent]:
        yield self._pushed(t, f"{where}pressure", message[1])

    def _pushed(self, t: float, name: str, value: int) -> Sent:
        """So much pressure is on it now; none is its end."""
        if value:
            self._down[name] = None
        else:
            self._down.pop(name, None)
        return (t, name, Raw(value, 0, 127))

    def _bend(self, t: float, where: str, channel: int, message: bytes) -> Iterator[Sent]:
        bent = (message[1] | message[2] << 7) - _BEND_MIDDLE
        yield (t, f"{where}bend", Raw(bent, -_BEND_MIDDLE, _BEND_MIDDLE - 1))

    def _program(self, t: float, where: str, channel: int, message: bytes) -> Iterator[Sent]:
        yield from self._strike(t, f"{where}program-{message[1] + 1}")

    def _strike(self, t: float, name: str) -> Iterator[Sent]:
        """Something without a release is pressed, for a moment."""
        if name in self._struck:
            yield (t, name, 0)
        self._struck[name] = t + STRUCK
        yield (t, name, 1)

    def _controller(self, t: float, where: str, channel: int, message: bytes) -> Iterator[Sent]:
        number, value = message[1], message[2]
        name = f"{where}cc-{number}"
        if number in (_NOTES_OFF, _SOUND_OFF):
            yield from self._notes_off(t, where)
            return
        if number in (_PARAMETER, _PARAMETER_FINE):
            chosen = self._parameter.setdefault(channel, [-1, -1])
            chosen[number == _PARAMETER_FINE] = value
            if name not in self._controls:
                return
        elif number in (_RPN, _RPN_FINE):
            self._parameter.pop(channel, None)
        elif number in (_DATA, _DATA_FINE) and min(chosen := self._parameter.get(channel, [-1, -1])) >= 0:
            whole = f"{where}nrpn-{chosen[0] << 7 | chosen[1]}"
            yield from self._halved(t, whole, value, number == _DATA)
            return
        if name in self.turns:
            detents = self.turns[name].turn(value)
            if detents:
                yield (t, name, detents)
        elif number in _BANK_FINE and self._bits(f"{where}cc-{number - 32}") == _FULL:
            yield from self._halved(t, f"{where}cc-{number - 32}", value, False)
        elif self._bits(name) == _FULL:
            yield from self._halved(t, name, value, True)
        else:
            yield (t, name, self._amount(name, value))

    def _halved(self, t: float, name: str, value: int, upper: bool) -> Iterator[Sent]:
        """One half of a number of 14 bits. The upper one, which comes first, waits for the other for a moment."""
        if upper:
            if name in self._halves:
                yield (t, name, self._whole(name, self._halves[name].upper, 0))
            self._halves[name] = _Half(value, t + _HALVES_APART)
            self._upper[name], self._lower[name] = value, 0
            return
        self._halves.pop(name, None)
        self._lower[name] = value
        yield (t, name, self._whole(name, self._upper.get(name, 0), value))

    def _whole(self, name: str, upper: int, lower: int) -> Any:
        number = upper << 7 | lower
        return int(number >= 0x2000) if self._sort(name) == "button" else Raw(number, 0, 0x3FFF)

    def _notes_off(self, t: float, where: str) -> Iterator[Sent]:
        for name in [name for name in self._down if name.startswith(f"{where}note-")]:
            del self._down[name]
            yield (t, name, self._amount(name, 0))

    def _bits(self, name: str) -> int:
        return int(self._controls.get(name, {}).get("bits") or 7)

    def _sort(self, name: str) -> str:
        return str(self._controls.get(name, {}).get("sort") or "")

    def _amount(self, name: str, value: int) -> Any:
        if self._sort(name) == "button":
            return int(value >= 64) if "cc-" in name else int(value > 0)
        return Raw(value, 0, 127)
