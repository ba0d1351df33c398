"""How long a thread of this process may be at work before another one has its turn."""

from __future__ import annotations

import sys

_TURN = 0.0005
"""Seconds. Python's own 5 ms are what a press would wait for each thread that it passes."""


def short_turns() -> None:
    """Threads of this process take short turns from now on."""
    sys.setswitchinterval(_TURN)
