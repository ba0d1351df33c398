"""One open event node of a surface: whose it is at the moment, and what it tells."""

from __future__ import annotations

import ctypes
import os
import struct
import time
from collections.abc import Callable
from fcntl import ioctl

from fenko.core.changes import Change
from fenko.core.controls import (
    BUTTON_CODES,
    FINE_TURN_CODES,
    MOTION_CODES,
    SENSOR_CODES,
    TOUCH_CODES,
    TURN_CODES,
    axis_name,
    shape_of,
)
from fenko.core.plan import Surface
from fenko.devices.events import EventReader, State
from fenko.system.kernel import ABS, KEY, REL, keys_down, open_device
from fenko.system.things import Node

_EVIOCSCLOCKID = 0x400445A0
_EVIOCSMASK = 0x40104593
_KEY_BYTES = 96  # KEY_MAX, 0x2ff, in bits
_MASK = struct.Struct("@IIQ")


class OpenNode:
    """An event node that belongs to a surface.

    `exclusive`: the node is taken over as soon as none of its keys is down, and says nothing before that.
    With `only`, the kernel tells of these keys and of nothing else. `motion` gets the raw events of a mouse that only moves, which nothing can be bound to.

    Raises OSError if the node cannot be opened, or another program has taken it over."""

    def __init__(
        self,
        node: Node,
        surface: Surface,
        exclusive: bool,
        motion: Callable[[bytes], None] | None = None,
        only: frozenset[int] | None = None,
    ) -> None:
        self.node = node
        self.surface = surface
        self.wanted = exclusive
        self._exclusive = exclusive
        self.grabbed = False
        self._motion = motion if exclusive and surface.passes and surface.kind == "mouse" else None
        self._device = open_device(node.path)
        self.fd: int = self._device.fd
        try:
            os.set_blocking(self.fd, False)
            # The same clock as everything else here.
            ioctl(self.fd, _EVIOCSCLOCKID, struct.pack("i", time.CLOCK_MONOTONIC))
            addresses = addresses_of(node, surface)
            if only is not None:
                addresses = {
                    (kind, code): name for (kind, code), name in addresses.items() if kind == KEY and code in only
                }
                self._mask(only)
            self._axes = [code for kind, code in addresses if kind == ABS]
            info = {code: self._device.absinfo(code) for code in self._axes}
            ranges = {code: (one.min, one.max) for code, one in info.items()}
            self._events = EventReader(self.fd, addresses, ranges, self._state)
            self._events.stand({code: one.value for code, one in info.items()})
            self.take_over()
        except OSError:
            self._device.close()
            raise

    def _mask(self, only: frozenset[int]) -> None:
        """Asks the kernel to keep everything but some keys to itself (EVIOCSMASK, input.h)."""
        for kind, codes in ((KEY, only), (REL, frozenset[int]()), (ABS, frozenset[int]())):
            bits = bytearray(_KEY_BYTES if kind == KEY else 8)
            for code in codes:
                bits[code // 8] |= 1 << code % 8
            memory = ctypes.create_string_buffer(bytes(bits), len(bits))
            ioctl(self.fd, _EVIOCSMASK, _MASK.pack(kind, len(bits), ctypes.addressof(memory)))

    def _state(self) -> State:
        axes = {code: self._device.absinfo(code).value for code in self._axes}
        return State(keys_down(self.fd), axes)

    @property
    def controls(self) -> list[str]:
        """The controls that this node moves, by the kernel's names."""
        known = self.surface.kernel_name
        return [name for name in self.node.controls if known(self.surface.own_name(name)) is not None]

    def moves(self, address: str) -> bool:
        """Whether this node tells of that input."""
        return self._events.moves(address)

    def raw(self, address: str) -> str:
        """What the kernel says of an input of this node: the code of a button, the value of an axis."""
        return self._events.raw(address)

    def take_over(self) -> bool:
        """Keeps the node from other programs, if that is wanted and none of its keys is down.

        True if all is as it is wanted; False if a key is still down."""
        if not self.wanted or self.grabbed:
            return True
        if keys_down(self.fd):
            return False
        self._device.grab()
        if keys_down(self.fd):
            # A key went down in between: other programs have seen its press and must see its release.
            self._device.ungrab()
            return False
        self.grabbed = True
        self._events.forget()
        return True

    def lend(self) -> None:
        """Lets other programs see the node too, until `take_back`; it goes on telling its changes."""
        self.wanted = False
        if self.grabbed:
            self._device.ungrab()
            self.grabbed = False

    def take_back(self) -> None:
        """Ends `lend`."""
        self.wanted = self._exclusive
        self.take_over()

    def read(self) -> list[Change]:
        """The changes that have come. Raises OSError when the node is gone."""
        data = self._events.read()
        if self.wanted and not self.grabbed:
            # What was pressed before it was wanted may be released now, and its release is known; nothing else of it counts yet.
            changes = self._events.changes(data)
            self.take_over()
            return [change for change in changes if change[2].__class__ is int and not change[2]]
        if self._motion is not None and self.grabbed and self._events.only_motion(data):
            self._motion(data)
            return []
        return self._events.changes(data)

    def close(self) -> None:
        """Closes the node, which gives it back."""
        self._device.close()


def addresses_of(node: Node, surface: Surface) -> dict[tuple[int, int], str]:
    """Which input of the surface each event type and code of a node moves."""
    if node.feels:
        return {(ABS, code): f"{surface.name}.{name}" for code, name in SENSOR_CODES.items() if code in node.axes}
    if node.touched:
        has = {(KEY, code) for code in node.keys} | {(ABS, code) for code in node.axes}
        return {what: f"{surface.name}.{name}" for what, name in TOUCH_CODES.items() if what in has}
    found: dict[tuple[int, int], str] = {}
    fine = {FINE_TURN_CODES[code] for code in node.turns if code in FINE_TURN_CODES}
    axes = {code: name for code in node.axes if (name := axis_name(code)) is not None}
    as_axes = set(axes.values())
    for kind, codes, names in (
        (KEY, node.keys, BUTTON_CODES),
        (REL, node.turns, {**TURN_CODES, **FINE_TURN_CODES, **MOTION_CODES}),
        (ABS, node.axes, axes),
    ):
        for code in codes:
            name = names.get(code)
            # A wheel that counts finely says everything twice; the coarse count is left out.
            if name is None or (kind == REL and code in TURN_CODES and name in fine):
                continue
            # A trigger that is both axis and switch says enough as an axis.
            if kind == KEY and shape_of(name).axes and name in as_axes:
                continue
            control, _, part = name.partition(".")
            own = surface.own_name(control)
            if surface.kernel_name(own) is not None:
                found[kind, code] = f"{surface.name}.{own}.{part}" if part else f"{surface.name}.{own}"
    return found
