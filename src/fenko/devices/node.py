"""One open event node: raw kernel events in, changes of the surface's controls out.

Events are read from the file descriptor and unpacked here; a library object an event would cost more than everything
that is done with it.
"""

from __future__ import annotations

import os
import struct
import time
from collections.abc import Callable
from fcntl import ioctl
from typing import Any

from fenko.core.changes import Change
from fenko.core.controls import AXIS_CODES, BUTTON_CODES, FINE_TURN_CODES, MOTION_CODES, TURN_CODES, shape_of
from fenko.core.plan import Surface
from fenko.devices.things import Node
from fenko.system.kernel import ABS, EVENT, KEY, REL, SYN, SYN_DROPPED, SYN_REPORT

_AUTOREPEAT = 2
_EVENTS_AT_ONCE = 64
_EVIOCSCLOCKID = 0x400445A0
_FINE_PER_DETENT = 120
_MICROSECOND = 1e-6
# Where the low bytes of type and code stand in an event; the high bytes of motion and report ends are 0.
_TYPE_AT, _CODE_AT = EVENT.size - 8, EVENT.size - 6


class OpenNode:
    """An event node that belongs to a surface.

    `exclusive`: the node is taken over as soon as none of its keys is down, and says nothing before that.
    `motion` gets the raw events of a mouse that only moves, which nothing can be bound to.

    Raises OSError if the node cannot be opened, or another program has taken it over."""

    def __init__(
        self,
        node: Node,
        surface: Surface,
        exclusive: bool,
        motion: Callable[[bytes], None] | None = None,
    ) -> None:
        from evdev import InputDevice

        self.node = node
        self.surface = surface
        self.wanted = exclusive
        self.grabbed = False
        self._lent = False
        self._motion = motion if exclusive and surface.passes and surface.kind == "mouse" else None
        self._down: set[int] = set()
        self._dropping = False
        self._addresses: dict[tuple[int, int], str] = {}
        self._ranges: dict[int, tuple[float, float]] = {}
        self._values: dict[int, float] = {}
        self._device: Any = InputDevice(node.path)
        self.fd: int = self._device.fd
        try:
            os.set_blocking(self.fd, False)
            ioctl(self.fd, _EVIOCSCLOCKID, struct.pack("i", time.CLOCK_MONOTONIC))
            self._map_controls()
            self.take_over()
        except OSError:
            self._device.close()
            raise

    def _map_controls(self) -> None:
        prefix = f"{self.surface.name}."
        fine = {FINE_TURN_CODES[code] for code in self.node.turns if code in FINE_TURN_CODES}
        for kind, codes, names in (
            (KEY, self.node.keys, BUTTON_CODES),
            (REL, self.node.turns, {**TURN_CODES, **FINE_TURN_CODES, **MOTION_CODES}),
            (ABS, self.node.axes, AXIS_CODES),
        ):
            for code in codes:
                name = names.get(code)
                # A wheel that counts finely says everything twice; the coarse count is left out.
                if name is None or (kind == REL and code in TURN_CODES and name in fine):
                    continue
                control, _, part = name.partition(".")
                if self.surface.kernel_name(self.surface.own_name(control)) is None:
                    continue
                if kind == KEY and self._has_axis(name):
                    continue  # a trigger that is both axis and switch says enough as an axis
                own = self.surface.own_name(control)
                self._addresses[kind, code] = f"{prefix}{own}.{part}" if part else f"{prefix}{own}"
        for code in self.node.axes:
            if (ABS, code) in self._addresses:
                info = self._device.absinfo(code)
                self._ranges[code] = (info.min, info.max)

    def _has_axis(self, name: str) -> bool:
        return bool(shape_of(name).axes) and name in {AXIS_CODES.get(code) for code in self.node.axes}

    def take_over(self) -> bool:
        """Keeps the node from other programs, if that is wanted and none of its keys is down.

        True if all is as it is wanted; False if a key is still down."""
        if not self.wanted or self.grabbed:
            return True
        if self._device.active_keys():
            return False
        self._device.grab()
        if self._device.active_keys():
            # A key went down in between: other programs have seen its press and must see its release.
            self._device.ungrab()
            return False
        self.grabbed = True
        self._down.clear()
        return True

    def lend(self) -> None:
        """Lets other programs see the node too, until `take_back`; it goes on telling its changes."""
        self._lent, self.wanted = self.wanted, False
        if self.grabbed:
            self._device.ungrab()
            self.grabbed = False

    def take_back(self) -> None:
        """Ends `lend`."""
        self.wanted = self._lent
        self.take_over()

    def read(self) -> list[Change]:
        """The changes that have come. Raises OSError when the node is gone."""
        try:
            data = os.read(self.fd, EVENT.size * _EVENTS_AT_ONCE)
        except BlockingIOError:
            return []
        if self.wanted and not self.grabbed:
            self.take_over()
            return []
        if (
            self._motion is not None
            and self.grabbed
            and not data[_TYPE_AT :: EVENT.size].strip(b"\0\2")
            and not data[_CODE_AT :: EVENT.size].strip(b"\0\1")
            and not self._dropping
        ):
            self._motion(data)
            return []
        changes: list[Change] = []
        known_now = False
        for seconds, micros, kind, code, value in EVENT.iter_unpack(data):
            if self._dropping:
                if kind == SYN and code == SYN_REPORT:
                    self._dropping = False
                    self._resynchronise(seconds + micros * _MICROSECOND, changes)
                    known_now = True
                continue
            if kind == SYN:
                self._dropping = code == SYN_DROPPED
                continue
            address = self._addresses.get((kind, code))
            # What was read together with the overflow is older than the state that was asked for since.
            if address is None or (kind == KEY and value == _AUTOREPEAT) or (known_now and kind != REL):
                continue
            changes.append((seconds + micros * _MICROSECOND, address, self._convert(kind, code, value)))
        return changes

    def _convert(self, kind: int, code: int, value: int) -> float:
        if kind == KEY:
            (self._down.add if value else self._down.discard)(code)
            return value
        if kind == REL:
            return value / _FINE_PER_DETENT if code in FINE_TURN_CODES else value
        share = self._share(code, value)
        self._values[code] = share
        return share

    def _share(self, code: int, value: int) -> float:
        """An axis's value as a share: 0 to 1 for triggers, -1 to 1 for all others."""
        least, most = self._ranges[code]
        if most <= least:
            return 0.0
        share = max(0.0, min(1.0, (value - least) / (most - least)))
        name = AXIS_CODES[code]
        ends = shape_of(name.partition(".")[0]).axes[name.partition(".")[2]]
        if ends[0] is None:
            return share
        # The middle of an odd range (0 to 255) lies between two values; both are the centre.
        middle = (least + most) / 2
        return 0.0 if abs(value - middle) < 1 and most - least > 8 else 2 * share - 1

    def _resynchronise(self, t: float, changes: list[Change]) -> None:
        """The kernel's buffer overflowed: asks how everything stands now and tells what is different."""
        down = set(self._device.active_keys())
        for code in sorted(self._down - down):
            self._tell_key(t, code, 0, changes)
        for code in sorted(down - self._down):
            self._tell_key(t, code, 1, changes)
        self._down = down
        for code in self._ranges:
            share = self._share(code, self._device.absinfo(code).value)
            if share != self._values.get(code, 0.0):
                self._values[code] = share
                changes.append((t, self._addresses[ABS, code], share))

    def _tell_key(self, t: float, code: int, value: int, changes: list[Change]) -> None:
        address = self._addresses.get((KEY, code))
        if address is not None:
            changes.append((t, address, value))

    def close(self) -> None:
        """Closes the node, which gives it back."""
        self._device.close()
