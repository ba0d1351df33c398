"""The event loop: waits for file descriptors and for the one next thing that is due, and for nothing else.

A desk at rest has nothing due, so the process sleeps until the kernel has something to say.
"""

from __future__ import annotations

import os
import select
import signal
import time
from collections.abc import Callable
from math import inf
from types import FrameType, TracebackType

_SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


class Loop:
    """Calls back when a descriptor is readable, and each `tick` when its time has come.

    Used as a context it ends on SIGINT, SIGTERM and SIGHUP, between two events and never within one."""

    def __init__(self) -> None:
        self._epoll = select.epoll()
        self._readers: dict[int, Callable[[], None]] = {}
        self._ticks: list[tuple[Callable[[], float], Callable[[float], None]]] = []
        self._stopped = False
        self._wake_read, self._wake_write = os.pipe2(os.O_NONBLOCK | os.O_CLOEXEC)
        self.add(self._wake_read, self._drain)

    def add(self, fd: int, reader: Callable[[], None]) -> None:
        """Calls `reader` whenever `fd` has something to read, or is at its end."""
        self._readers[fd] = reader
        self._epoll.register(fd, select.EPOLLIN)

    def remove(self, fd: int) -> None:
        """Forgets a descriptor. Call it before the descriptor is closed."""
        if self._readers.pop(fd, None) is not None:
            try:
                self._epoll.unregister(fd)
            except (OSError, ValueError):
                return  # the kernel forgets closed descriptors by itself

    def on_time(self, deadline: Callable[[], float], tick: Callable[[float], None]) -> None:
        """Calls `tick` with the time once `deadline()` has come (`inf`: never)."""
        self._ticks.append((deadline, tick))

    def stop(self) -> None:
        """Ends `run` after the events at hand."""
        self._stopped = True

    def run(self) -> None:
        """Runs until `stop` or a signal. What was read before a deadline is handled before the deadline."""
        poll, readers, ticks = self._epoll.poll, self._readers, self._ticks
        while not self._stopped:
            due = min([deadline() for deadline, _ in ticks], default=inf)
            timeout = None if due == inf else max(0.0, due - time.monotonic())
            for fd, _ in poll(timeout):
                reader = readers.get(fd)
                if reader is not None:
                    reader()
            for deadline, tick in ticks:
                if deadline() != inf:
                    now = time.monotonic()
                    if deadline() <= now:
                        tick(now)

    def _drain(self) -> None:
        os.read(self._wake_read, 64)

    def __enter__(self) -> Loop:
        def on_signal(number: int, frame: FrameType | None) -> None:
            self.stop()

        self._wakeup_before = signal.set_wakeup_fd(self._wake_write, warn_on_full_buffer=False)
        self._before = {number: signal.signal(number, on_signal) for number in _SIGNALS}
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for number, handler in self._before.items():
            signal.signal(number, handler)
        signal.set_wakeup_fd(self._wakeup_before)
        self._epoll.close()
        os.close(self._wake_read)
        os.close(self._wake_write)
