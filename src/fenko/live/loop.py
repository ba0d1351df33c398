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
from typing import Any

_SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


class Timer:
    """Something that happens by itself at a time; while none is set it costs nothing."""

    __slots__ = ("_set", "tick")

    def __init__(self, timers: dict[Timer, float], tick: Callable[[float], None]) -> None:
        self._set = timers
        self.tick = tick

    def set(self, due: float) -> None:
        """Calls `tick` at `due` (monotonic seconds); `inf` is never."""
        if due == inf:
            self._set.pop(self, None)
        else:
            self._set[self] = due

    def set_in(self, seconds: float) -> None:
        """Calls `tick` after so many seconds."""
        self.set(time.monotonic() + seconds)

    def end(self) -> None:
        """Calls nobody any more, and refers to nobody."""
        self.set(inf)
        self.tick = _nobody


def _nobody(now: float) -> None:
    pass


class Loop:
    """Calls back when a descriptor is readable, and timers when their time has come.

    Used as a context it ends on SIGINT, SIGTERM and SIGHUP, between two events and never within one."""

    def __init__(self) -> None:
        # Faster here than epoll: there are few descriptors, and most of the time one of them has something.
        self._poll = select.poll()
        self._readers: dict[int, Callable[[], None]] = {}
        self._writers: dict[int, Callable[[], bool]] = {}
        self._soon: list[Callable[[], None]] = []
        self._rounds: list[Callable[[], None]] = []
        self._timers: dict[Timer, float] = {}
        self._stopped = False
        self._on_signal: dict[int, Callable[[], None]] = {}
        self._before: dict[int, Any] = {}
        self._wake_read, self._wake_write = os.pipe2(os.O_NONBLOCK | os.O_CLOEXEC)
        self.add(self._wake_read, self._drain)

    def add(self, fd: int, reader: Callable[[], None], writer: Callable[[], bool] | None = None) -> None:
        """Calls `reader` whenever `fd` has something to read, or is at its end. `writer` is called after each round, and
        whenever `fd` takes more while it says that it has more to write."""
        self._readers[fd] = reader
        if writer is not None:
            self._writers[fd] = writer
        self._poll.register(fd, select.POLLIN)

    def remove(self, fd: int) -> None:
        """Forgets a descriptor. Call it before the descriptor is closed."""
        self._writers.pop(fd, None)
        if self._readers.pop(fd, None) is not None:
            self._poll.unregister(fd)

    def soon(self, what: Callable[[], None]) -> None:
        """Calls `what` when the event at hand is dealt with."""
        self._soon.append(what)

    def after_each_round(self, what: Callable[[], None]) -> None:
        """Calls `what` before each wait, from now on."""
        self._rounds.append(what)

    def timer(self, tick: Callable[[float], None]) -> Timer:
        """A timer, not set yet. `tick` is called once with the time when it is due."""
        return Timer(self._timers, tick)

    def on_signal(self, number: int, what: Callable[[], None]) -> None:
        """Calls `what` between two events when that signal has come, as long as the loop is used as a context."""
        self._on_signal[number] = what
        if number not in self._before:
            self._before[number] = signal.signal(number, self._noted)

    def _noted(self, number: int, frame: FrameType | None) -> None:
        self.soon(self._on_signal.get(number, self.stop))

    def stop(self) -> None:
        """Ends `run` after the events at hand."""
        self._stopped = True

    def run(self) -> None:
        """Runs until `stop` or a signal. What was read before a deadline is handled before the deadline."""
        poll, readers, timers = self._poll.poll, self._readers, self._timers
        while not self._stopped:
            if self._soon or self._writers or self._rounds:
                self._between()
                if self._stopped:
                    break
            timeout = max(0.0, min(timers.values()) - time.monotonic()) * 1000 if timers else None
            for fd, happened in poll(timeout):
                reader = readers.get(fd)
                if reader is not None and happened != select.POLLOUT:
                    reader()
            if timers:
                now = time.monotonic()
                for timer in [timer for timer, due in timers.items() if due <= now]:
                    timer.set(inf)
                    timer.tick(now)

    def _between(self) -> None:
        """What was put off until the events at hand were dealt with; and what wants to be written."""
        while self._soon:
            self._soon.pop(0)()
        for what in self._rounds:
            what()
        for fd, writer in list(self._writers.items()):
            if fd not in self._readers:
                continue
            more = writer()
            if fd in self._readers:  # nobody was there any more to write to, otherwise
                self._poll.modify(fd, select.POLLIN | (select.POLLOUT if more else 0))

    def _stopping(self, number: int, frame: FrameType | None) -> None:
        self.stop()

    def _drain(self) -> None:
        os.read(self._wake_read, 64)

    def __enter__(self) -> Loop:
        self._wakeup_before = signal.set_wakeup_fd(self._wake_write, warn_on_full_buffer=False)
        self._before = {number: signal.signal(number, self._stopping) for number in _SIGNALS}
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for number, handler in self._before.items():
            signal.signal(number, handler)
        signal.set_wakeup_fd(self._wakeup_before)
        os.close(self._wake_read)
        os.close(self._wake_write)
