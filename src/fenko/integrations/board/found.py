"""Serial lines that a board may be at, and whether the lines of a desk can be used. None is opened."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from fenko.core.links import LinkedDevice
from fenko.workers import serial_ready

SERIAL = Path("/dev/serial/by-id")
_TTYS = Path("/sys/class/tty")


def lines() -> list[LinkedDevice]:
    """Every line, by the name that stays the same."""
    found: dict[str, str] = {}
    for device in sorted(_TTYS.glob("tty[AU][CS][MB]*")):
        found[os.path.realpath(f"/dev/{device.name}")] = f"/dev/{device.name}"
    if SERIAL.is_dir():
        for link in sorted(SERIAL.iterdir()):
            found[os.path.realpath(link)] = str(link)
    return [_line(path, real) for real, path in found.items()]


def _line(path: str, real: str) -> LinkedDevice:
    problem = None if os.access(real, os.R_OK | os.W_OK) else f"{real} may not be used by this user"
    return LinkedDevice(Path(path).name, f"serial {path}", "board", problem)


def ready(surface: str, rest: str, tables: Mapping[str, Any]) -> tuple[bool, str, str]:
    """Good or not, what is so, what helps, of a serial line."""
    return serial_ready.fact(surface, rest.partition(" ")[0], "`fenko devices` lists the serial lines that are there")


def ready_tcp(surface: str, rest: str, tables: Mapping[str, Any]) -> tuple[bool, str, str]:
    """The same of an address."""
    return (True, f"{surface}: {rest}, which the running desk opens", "")
