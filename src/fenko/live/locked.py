"""The lock of the screen as a source: while it is locked nothing is sent, for it would go to whatever asks for the password."""

from __future__ import annotations

from fenko.live.aside import Aside
from fenko.live.source import Source, Surroundings
from fenko.system.screenlock import ScreenLock
from fenko.system.session import DisplayError


class LockSource(Source):
    """Tells of the lock, where the desktop says anything of it."""

    def __init__(self, around: Surroundings) -> None:
        self._around = around
        self._lock: Aside[bool] | None = None

    def start(self) -> None:
        """Follows it from now on."""
        self._lock = Aside(ScreenLock())
        self._around.loop.add(self._lock.fd, self._readable)

    def _readable(self) -> None:
        assert self._lock is not None
        try:
            while (locked := self._lock.read()) is not None:
                self._around.locked(locked)
        except DisplayError:
            self.close()  # this session has no bus, or the bus is gone: nobody tells of a lock
            self._around.locked(False)

    def close(self) -> None:
        """Follows it no more."""
        if self._lock is not None:
            self._around.loop.remove(self._lock.fd)
            self._lock.close()
            self._lock = None
