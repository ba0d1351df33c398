"""The kernel's input events as bytes, and how Fenko's own virtual devices are told from real ones."""

from __future__ import annotations

import struct

EVENT = struct.Struct("@llHHi")
"""An input event: seconds, microseconds, type, code, value."""

SYN, KEY, REL, ABS = 0, 1, 2, 3
SYN_REPORT, SYN_DROPPED = 0, 3

OWN_PHYS = "fenko/"
"""Where Fenko's own virtual devices say they sit, so that Fenko leaves them alone."""
