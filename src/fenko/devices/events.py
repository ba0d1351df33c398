"""Reads raw kernel events from a descriptor and says which controls changed.

Events are unpacked here, from the bytes of one read: a library object an event would cost more than everything that is
done with it.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from typing import NamedTuple

from fenko.core.changes import Change
from fenko.core.controls import FINE_TURN_CODES
from fenko.core.inputs import Raw
from fenko.system.kernel import ABS, EVENT, KEY, REL, SYN, SYN_DROPPED, SYN_REPORT

_AUTOREPEAT = 2
_EVENTS_AT_ONCE = 64
_FINE_PER_DETENT = 120
_MICROSECOND = 1e-6
# Where the low bytes of type and code stand in an event; the high bytes of motion and report ends are 0.
_TYPE_AT, _CODE_AT = EVENT.size - 8, EVENT.size - 6


class State(NamedTuple):
    """How everything stands on a node: the keys that are down and the raw value of each axis, by their codes."""

    down: frozenset[int]
    axes: Mapping[int, int]


class EventReader:
    """Turns the events of one node into changes. Of an axis they tell what the device says (`Raw`).

    `addresses` maps (type, code) to the input that it moves, `ranges` the code of an axis to its least and most raw
    value. `ask` is called after the kernel's buffer has overflowed, and says how everything stands."""

    def __init__(
        self,
        fd: int,
        addresses: dict[tuple[int, int], str],
        ranges: dict[int, tuple[int, int]],
        ask: Callable[[], State],
    ) -> None:
        self.fd = fd
        self._addresses = addresses
        self._inputs = {address: place for place, address in addresses.items()}
        self._ranges = ranges
        self._ask = ask
        self._down: set[int] = set()
        self._raw: dict[int, int] = {}
        self._dropping = False

    def stand(self, axes: Mapping[int, int]) -> None:
        """The axes stand like this now; nobody is told."""
        self._raw.update(axes)

    def forget(self) -> None:
        """All keys are known to be up."""
        self._down.clear()

    def raw(self, address: str) -> str:
        """What the kernel says of an input: the code of a button, the last value of an axis."""
        kind, code = self._inputs.get(address, (REL, 0))
        if kind == REL:
            return ""
        return f"code {code}" if kind == KEY else str(self._raw.get(code, ""))

    def moves(self, address: str) -> bool:
        """Whether this node tells of that input."""
        return address in self._inputs

    def read(self) -> bytes:
        """The raw events that have come; empty if none have. Raises OSError when the node is gone."""
        try:
            return os.read(self.fd, EVENT.size * _EVENTS_AT_ONCE)
        except BlockingIOError:
            return b""

    def only_motion(self, data: bytes) -> bool:
        """Whether these events are a mouse's moves and ends of reports, and nothing else."""
        return not (
            self._dropping or data[_TYPE_AT :: EVENT.size].strip(b"\0\2") or data[_CODE_AT :: EVENT.size].strip(b"\0\1")
        )

    def changes(self, data: bytes) -> list[Change]:
        """The changes that these events tell of."""
        found: list[Change] = []
        addresses = self._addresses
        known_now = False
        for seconds, micros, kind, code, value in EVENT.iter_unpack(data):
            if self._dropping:
                if kind == SYN and code == SYN_REPORT:
                    self._dropping = False
                    known_now = True
                    self._resynchronise(seconds + micros * _MICROSECOND, found)
                continue
            if kind == SYN:
                self._dropping = code == SYN_DROPPED
                continue
            address = addresses.get((kind, code))
            # What was read together with an overflow is older than the state that was asked for since.
            if address is None or (known_now and kind != REL):
                continue
            if kind == KEY:
                if value == _AUTOREPEAT:
                    continue
                (self._down.add if value else self._down.discard)(code)
                found.append((seconds + micros * _MICROSECOND, address, value))
            elif kind == REL:
                turned = value / _FINE_PER_DETENT if code in FINE_TURN_CODES else value
                found.append((seconds + micros * _MICROSECOND, address, turned))
            else:
                found.append((seconds + micros * _MICROSECOND, address, self._note(code, value)))
        return found

    def _note(self, code: int, value: int) -> Raw:
        """Notes where an axis stands, as the device says it."""
        self._raw[code] = value
        return Raw(value, *self._ranges[code])

    def _resynchronise(self, t: float, found: list[Change]) -> None:
        """Tells what is different from what was known before the overflow."""
        down, axes = self._ask()
        for codes, value in ((self._down - down, 0), (down - self._down, 1)):
            found.extend(
                (t, self._addresses[KEY, code], value) for code in sorted(codes) if (KEY, code) in self._addresses
            )
        self._down = set(down)
        for code, raw in axes.items():
            before = self._raw.get(code)
            if raw != before:
                found.append((t, self._addresses[ABS, code], self._note(code, raw)))
