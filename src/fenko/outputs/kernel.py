"""Keys and pointer through the kernel: two virtual devices made with uinput.

They vanish with the process that made them, and the kernel lifts what they held down: nothing can stay stuck, however
the process ends.
"""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Callable
from math import trunc
from typing import Protocol

from fenko.core.keys import KERNEL_KEYS
from fenko.core.remedies import uinput_denied, uinput_missing
from fenko.outputs.keys import BUTTONS, KeyPort, Typing
from fenko.outputs.layout import Layout, kernel_layout
from fenko.outputs.port import PortError, Settings
from fenko.system.kernel import EVENT, KEY, OWN_PHYS, REL
from fenko.system.person import group_member

UINPUT = "/dev/uinput"
_REL_X, _REL_Y, _REL_HWHEEL, _REL_WHEEL, _REL_WHEEL_FINE, _REL_HWHEEL_FINE = 0, 1, 6, 8, 11, 12
FINE_PER_LINE = 120


def _event(kind: int, code: int, value: int) -> bytes:
    return EVENT.pack(0, 0, kind, code, value)


_REPORT = _event(0, 0, 0)


def why_not() -> PortError | None:
    """What keeps this user from making virtual devices; None if nothing does."""
    if not os.path.exists(UINPUT):
        return PortError(
            f"{UINPUT} is not there: the kernel's uinput module is not loaded", uinput_missing(group_member())
        )
    if not os.access(UINPUT, os.W_OK):
        return PortError(f"{UINPUT} may not be written by this user", uinput_denied(group_member()))
    return None


class VirtualDevice(Protocol):
    """A device whose events are what is written to `fd`."""

    fd: int

    def close(self) -> None:
        """Takes the device away."""


def make_devices() -> tuple[VirtualDevice, VirtualDevice]:
    """Fenko's keyboard and pointer, made by the kernel. Raises PortError with the remedy."""
    reason = why_not()
    if reason is not None:
        raise reason
    from evdev import UInput, UInputError
    from evdev.ecodes import EV_KEY, EV_REL

    axes = [_REL_X, _REL_Y, _REL_WHEEL, _REL_HWHEEL, _REL_WHEEL_FINE, _REL_HWHEEL_FINE]
    pointer = {EV_KEY: sorted(BUTTONS.values()), EV_REL: axes}
    try:
        return (
            UInput({EV_KEY: sorted(KERNEL_KEYS.values())}, name="Fenko keys", phys=f"{OWN_PHYS}keys"),
            UInput(pointer, name="Fenko pointer", phys=f"{OWN_PHYS}pointer"),
        )
    except (UInputError, OSError) as why:
        raise PortError(f"{UINPUT} refuses to make a device: {why}") from why


class KernelPort(KeyPort):
    """Fenko's own keyboard and mouse, as the rest of the system sees them."""

    name = "the kernel's virtual keyboard"

    def __init__(
        self,
        layout: Layout,
        warn: Callable[[str], None],
        make: Callable[[], tuple[VirtualDevice, VirtualDevice]] | None = None,
    ) -> None:
        super().__init__(warn)
        self._keyboard, self._pointer = (make or make_devices)()
        self._keyboard_fd = self._keyboard.fd
        self._pointer_fd = self._pointer.fd
        self._layout = layout
        self._keys = b""
        self._moves = b""
        # Parts that have not been sent yet: of a fine step, and of a whole line.
        self._fine = dict.fromkeys((_REL_WHEEL, _REL_HWHEEL, _REL_WHEEL_FINE, _REL_HWHEEL_FINE), 0.0)
        self._down_events = {code: _event(KEY, code, 1) + _REPORT for code in KERNEL_KEYS.values()}
        self._up_events = {code: _event(KEY, code, 0) + _REPORT for code in KERNEL_KEYS.values()}

    def _codes(self, key: str) -> tuple[int, ...] | None:
        codes = self._layout.codes(key)
        if codes is not None:
            self._known[key] = codes  # the layout of this output never changes
        return codes

    def _press(self, code: int) -> None:
        self._keys += self._down_events[code]

    def _release(self, code: int) -> None:
        self._keys += self._up_events[code]
        self._released[code] = time.monotonic()

    def _type(self, text: str) -> Typing:
        for character in text:
            codes = self._layout.typed(character)
            if codes is None:
                self._warn_once(
                    character, f"`{character}` cannot be typed by {self.name} with layout {self._layout.name}"
                )
                continue
            yield codes

    def _pass_motion(self, raw: bytes) -> None:
        os.write(self._pointer_fd, raw)

    def _move(self, dx: int, dy: int) -> None:
        for axis, pixels in ((_REL_X, dx), (_REL_Y, dy)):
            if pixels:
                self._moves += _event(REL, axis, pixels)
        self._moves += _REPORT

    def _scroll(self, dx: float, dy: float) -> None:
        # Wheels turn away from the hand in the kernel; lines grow downwards here.
        for axis, fine_axis, lines in ((_REL_WHEEL, _REL_WHEEL_FINE, -dy), (_REL_HWHEEL, _REL_HWHEEL_FINE, dx)):
            if not lines:
                continue
            self._fine[fine_axis] += lines * FINE_PER_LINE
            fine = trunc(round(self._fine[fine_axis], 6))
            if not fine:
                continue
            self._fine[fine_axis] -= fine
            self._moves += _event(REL, fine_axis, fine)
            self._fine[axis] += fine
            whole = trunc(self._fine[axis] / FINE_PER_LINE)
            if whole:
                self._fine[axis] -= whole * FINE_PER_LINE
                self._moves += _event(REL, axis, whole)
        self._moves += _REPORT

    def _button(self, button: str, on: bool) -> None:
        self._moves += _event(KEY, BUTTONS[button], int(on)) + _REPORT

    def _flush(self) -> None:
        if self._keys:
            keys, self._keys = self._keys, b""
            os.write(self._keyboard_fd, keys)
        if self._moves:
            moves, self._moves = self._moves, b""
            os.write(self._pointer_fd, moves)

    def close(self) -> None:
        """Takes the devices away, and with them whatever is still down."""
        for device in (self._keyboard, self._pointer):
            with contextlib.suppress(OSError):
                device.close()


def open_port(settings: Settings) -> KernelPort:
    """The kernel's port with the layout that the desk names, or the system's. Raises PortError."""
    chosen = kernel_layout(settings.tables.get("output", {}).get("layout"))
    port = KernelPort(chosen, settings.warn)
    port.why = f"with layout {chosen.name}, from {chosen.source}"
    return port
