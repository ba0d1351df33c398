"""Values that are still what they were when Fenko starts again."""

from __future__ import annotations

import contextlib
import os
import threading
from math import inf
from pathlib import Path

import msgspec

from fenko.core.engine import Engine
from fenko.core.steps import Item
from fenko.live.loop import Loop
from fenko.system.files import whole_file

SOON = 5.0
"""Seconds after a change in which it is written."""
_LARGEST = 1 << 20  # bytes
_MOST = 1e15  # no value is larger


def kept_file(folder: str) -> Path:
    """Where the values of the desk in that folder are kept."""
    import hashlib

    import platformdirs

    name = hashlib.sha256(str(Path(folder).resolve()).encode()).hexdigest()[:16]
    return Path(platformdirs.user_state_dir("fenko")) / "values" / f"{name}.json"


class Keeping:
    """Gives an engine the values that were kept, and writes what becomes of them. A file that cannot be read or written
    keeps nothing, and stops nothing."""

    def __init__(self, engine: Engine, loop: Loop, path: Path) -> None:
        self._engine = engine
        self._path = path
        self._timer = loop.timer(lambda now: self._write_beside())
        self._set = False
        self._writing: threading.Thread | None = None
        self._seen = engine.value_changes
        for name, number in self._read().items():
            value = engine.plan.values.get(("value", name))
            if value is not None and value.keep and isinstance(number, int | float) and abs(number) < _MOST:
                engine.restore(("value", name), float(number))
        self._before = self._kept()
        loop.after_each_round(self._look)

    def _read(self) -> dict[str, object]:
        with contextlib.suppress(OSError, msgspec.DecodeError):
            if self._path.stat().st_size <= _LARGEST:
                found = msgspec.json.decode(self._path.read_bytes())
                return found if isinstance(found, dict) else {}
        return {}

    def _kept(self) -> dict[Item, float]:
        known = self._engine.plan.values
        if not any(value.keep for value in known.values()):
            return {}
        return {item: number for item, number in self._engine.values.items() if item in known and known[item].keep}

    def _look(self) -> None:
        # After every event, so no more than this as long as nothing has changed.
        if self._engine.value_changes != self._seen:
            self._seen = self._engine.value_changes
            if not self._set and self._kept() != self._before:
                self._set = True
                self._timer.set_in(SOON)

    def _write_beside(self) -> None:
        """The same by a thread: a disk may take its time, and no event waits for it."""
        if self._writing is not None and self._writing.is_alive():
            self._timer.set_in(SOON)
            return
        self._set = False
        if (now := self._changed()) is not None:
            self._writing = threading.Thread(target=self._put, args=(now,))
            self._writing.start()

    def write(self) -> None:
        """Writes what the values are now, if that is something else, and waits for it."""
        self._timer.set(inf)
        self._set = False
        if self._writing is not None:
            self._writing.join()
        if (now := self._changed()) is not None:
            self._put(now)

    def _changed(self) -> dict[Item, float] | None:
        """What is to be written; None if that is written already."""
        now = self._kept()
        if now == self._before:
            return None
        self._before = now
        return now

    def _put(self, values: dict[Item, float]) -> None:
        with contextlib.suppress(OSError):
            os.makedirs(self._path.parent, mode=0o700, exist_ok=True)
            with whole_file(self._path, 0o600) as file:
                file.write(msgspec.json.encode({name: number for (_, name), number in values.items()}))
