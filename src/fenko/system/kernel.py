"""The kernel's input events as bytes, and how Fenko's own virtual devices are told from real ones."""

from __future__ import annotations

import errno
import os
import struct
from fcntl import ioctl
from typing import Any

EVENT = struct.Struct("@llHHi")
"""An input event: seconds, microseconds, type, code, value."""

SYN, KEY, REL, ABS = 0, 1, 2, 3
SYN_REPORT, SYN_DROPPED = 0, 3

OWN_PHYS = "fenko/"
"""Where Fenko's own virtual devices say they sit, so that Fenko leaves them alone."""

_KEY_BYTES = 96  # of a bit for each key up to KEY_MAX, 0x2ff
_EVIOCGKEY = 0x80000000 | _KEY_BYTES << 16 | 0x45 << 8 | 0x18


def keys_down(fd: int) -> frozenset[int]:
    """The keys of an event node that are down now. Raises OSError when it is gone (where evdev's own way fails with an error
    that nobody expects)."""
    bits = ioctl(fd, _EVIOCGKEY, bytes(_KEY_BYTES))
    return frozenset(8 * byte + bit for byte, value in enumerate(bits) if value for bit in range(8) if value >> bit & 1)


def open_device(path: str) -> Any:
    """An event node, as evdev opens it. Raises OSError, also when it goes while it is asked what it can: evdev fails then
    with a SystemError."""
    from evdev import InputDevice

    try:
        return InputDevice(path)
    except SystemError as why:
        raise OSError(errno.ENODEV, os.strerror(errno.ENODEV), path) from why
