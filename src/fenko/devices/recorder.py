"""Writes takes: every change as the device said it, one JSON object a line."""

from __future__ import annotations

import errno
import os
from pathlib import Path
from typing import Any

import msgspec

from fenko.core.changes import FOCUS, KEYBOARD, MACHINES, PLUG, RUNNING, UNPLUG, Change
from fenko.core.circumstances import Focus
from fenko.core.inputs import Raw
from fenko.devices.take import VERSION

_RECORDED = ("app", "title", "program")
"""Of a window. Where a program lies and what it was started with may say more of a person than they mean to give away."""


def _focus(focus: Focus) -> dict[str, Any]:
    said: dict[str, Any] = {name: text for name in _RECORDED if (text := getattr(focus, name))}
    said |= {"also": list(focus.also)} if focus.also else {}
    return said | ({"owner": _focus(focus.owner)} if focus.owner is not None else {})


def take_line(change: Change, start: float = 0.0) -> dict[str, Any]:
    """A change as a take's line writes it, its time counted from `start`."""
    t, address, value = change
    entry: dict[str, Any] = {"t": round(max(0.0, t - start), 6)}
    if isinstance(value, Focus):
        return entry | {FOCUS: _focus(value)}
    if address in (RUNNING, MACHINES):
        return entry | {address: sorted(value)}
    if address in (UNPLUG, PLUG):
        return entry | {address: value}
    if address == KEYBOARD:
        return entry | {KEYBOARD: list(value)}
    surface, _, control = address.partition(".")
    entry |= {"surface": surface, "control": control}
    if isinstance(value, Raw):
        return entry | {"raw": value.value, "range": [value.least, value.most]}
    return entry | {"value": round(value, 6)}


class TakeWriter:
    """A take on its way to a file that is the user's alone; each change is in it at once. Raises FileExistsError rather than
    overwrite one, and OSError where it cannot be written."""

    def __init__(self, path: Path, name: str, note: str | None, surfaces: dict[str, str], start: float) -> None:
        self._start = start
        self._last = 0.0
        self._encoder = msgspec.json.Encoder()
        self._file = os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb", buffering=0)
        head: dict[str, Any] = {"take": VERSION, "name": name, "surfaces": surfaces}
        try:
            self._write(head | ({"note": note} if note else {}))
        except OSError:
            self._file.close()
            os.unlink(path)
            raise

    def _write(self, entry: dict[str, Any]) -> None:
        line = self._encoder.encode(entry) + b"\n"
        if self._file.write(line) != len(line):
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    def add(self, change: Change) -> None:
        """Writes a change. Devices may tell of one a little late; its time is never before the one that came first."""
        entry = take_line(change, self._start)
        self._last = entry["t"] = max(self._last, entry["t"])
        self._write(entry)

    def close(self) -> None:
        """Everything is in the file."""
        self._file.close()
