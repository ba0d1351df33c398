"""A MIDI controller: heard by a port of Fenko's own, and answered by another."""

from __future__ import annotations

import contextlib
from collections import deque
from collections.abc import Callable, Mapping
from math import inf
from typing import Any

from fenko.core.flow import Sent
from fenko.integrations.midi.incoming import MidiReader, MidiStream
from fenko.integrations.midi.ports import System
from fenko.workers.transport import Way
from fenko.workers.worker import Away

CLIENT = "Fenko surfaces"
_MOST_WAITING = 20_000
_MOST_AT_ONCE = 1000  # messages, before what came of them is told
_ON, _OFF = 127, 0


class MidiWay(Way):
    """`midi PATTERN`: whatever port fits, on ALSA's sequencer, or JACK where there is none."""

    def __init__(
        self, link: str, entry: Mapping[str, Any], wake: Callable[[], None], note: Callable[[str], None]
    ) -> None:
        super().__init__(link, entry, wake, note)
        self._pattern = link.partition(" ")[2]
        controls = entry.get("controls")
        self._controls: Mapping[str, Mapping[str, Any]] = controls if isinstance(controls, Mapping) else {}
        self._own = {str(own): str(kernel) for own, kernel in dict(entry.get("names") or {}).items()}
        self._system: System | None = None
        self._reader = MidiReader(self._controls)
        self._stream = MidiStream()
        self._came: deque[tuple[float, bytes]] = deque(maxlen=_MOST_WAITING)
        self._speaking: list[str] = []
        self._lit: dict[str, int] = {}
        self._looks = True
        self.turning = frozenset(self._reader.turns)

    def open(self) -> None:
        """Makes the ports, on the first system that there is."""
        from fenko.integrations.midi.alsa import AlsaSystem
        from fenko.integrations.midi.jack_client import JackSystem

        reasons = []
        makes: tuple[Callable[..., System], ...] = (AlsaSystem, JackSystem)
        for make in makes:
            try:
                system = make(self._woken, CLIENT)
            except Away as why:
                reasons.append(str(why))
                continue
            self._system = system
            system.hear("in", self._pattern, self._hear)
            system.add("lamps", self._pattern)
            self._looks = True
            return
        raise Away("; ".join(reasons))

    def _woken(self) -> None:
        self._looks = True
        self.wake()

    def _hear(self, t: float, data: bytes) -> None:
        if len(self._came) == _MOST_WAITING - 1:
            self._came.append((t, b""))  # more than anybody can read: what is lost may have been an end
        else:
            self._came.append((t, data))
        self.wake()

    def hear(self, now: float) -> list[Sent]:
        """What it said."""
        assert self._system is not None
        if self._looks and not self._came:
            self._looks = False
            if self._look():
                self.due = now
                return []
        found: list[Sent] = []
        for _ in range(min(len(self._came), _MOST_AT_ONCE)):
            t, data = self._came.popleft()
            if not data:
                found += self._reader.release_all(t)
            for message in self._stream.feed(data):
                found += self._reader.feed(t, message)
        found += self._reader.pass_time(now)
        self.due = now if self._looks or self._came else self._reader.due
        return found

    def _look(self) -> bool:
        """Who is there now; True if that has changed."""
        assert self._system is not None
        self._system.look()
        speaking = self._system.heard("in")
        if speaking == self._speaking:
            return False
        self._speaking = speaking
        self._reader = MidiReader(self._controls)
        self._stream = MidiStream()
        self.what = {"title": ", ".join(speaking)} if speaking else None
        return True

    # --- Answering ---

    def do(self, act: str, values: tuple[Any, ...]) -> None:
        """A lamp, or where a value is, by the same message that the control itself sends."""
        if act == "lamp":
            name, to = values
            self._light(str(name), _OFF if to == "off" else _ON if to == "on" else self._colour(str(to)))
        elif act == "show":
            name, at = values
            self._send(self._own.get(str(name), str(name)), float(at))

    def _colour(self, wanted: str) -> int:
        colours: Mapping[str, int] = self.entry.get("colours") or {}
        return colours[min(colours, key=lambda one: _apart(wanted, one))] if colours else _ON

    def _light(self, name: str, number: int) -> None:
        control = self._own.get(name, name)
        if number:
            self._lit[control] = number
        else:
            self._lit.pop(control, None)
        self._send(control, number / _ON)

    def _send(self, control: str, share: float) -> None:
        data = message_for(control, share, int(self._controls.get(control, {}).get("bits") or 7))
        if self._system is not None and self._speaking:
            for message in data:
                self._system.send("lamps", message)

    def dark(self) -> None:
        """What is lit goes out."""
        with contextlib.suppress(Away):
            for control in list(self._lit):
                self._light(control, _OFF)

    def close(self) -> None:
        """The ports vanish."""
        self.dark()
        system, self._system = self._system, None
        if system is not None:
            system.close()
        self._speaking, self.what, self.due = [], None, inf
        self._came.clear()


def message_for(control: str, share: float, bits: int = 7) -> list[bytes]:
    """The messages by which a control of that name says, or is told, that it is there (0 to 1); none for what has no such."""
    where, channel = control, 0
    if control.startswith("ch"):
        number, _, where = control[2:].partition("-")
        channel = int(number) - 1
    kind, _, number = where.partition("-")
    value = round(share * 127)
    if kind == "note" and number.isdigit():
        return [bytes((0x90 | channel, int(number), value))]
    if kind == "cc" and number.isdigit():
        if bits > 7 and int(number) < 32:
            whole = round(share * 0x3FFF)
            return [
                bytes((0xB0 | channel, int(number), whole >> 7)),
                bytes((0xB0 | channel, int(number) + 32, whole & 0x7F)),
            ]
        return [bytes((0xB0 | channel, int(number), value))]
    if kind == "bend":
        whole = round(share * 0x3FFF)
        return [bytes((0xE0 | channel, whole & 0x7F, whole >> 7))]
    return []


def _apart(one: str, other: str) -> int:
    """How far two colours (#rrggbb) are apart."""
    parts = [(int(one[at : at + 2], 16), int(other[at : at + 2], 16)) for at in (1, 3, 5)]
    return sum((a - b) ** 2 for a, b in parts)
