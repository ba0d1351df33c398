"""The event loop: waits for file descriptors and for the one next thing that is due, and for nothing else.

A desk at rest has nothing due, so the process sleeps until the kernel has something to say.
"""

from __future__ import annotations

import os
import select
import signal
import time
from collections.abc import Callable
from functools import partial
from math import inf
from types import FrameType, TracebackType
from typing import Any

from fenko.system.pauses import Pauses

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


def _raised(what: str, why: Exception) -> None:
    """Nobody has asked to be told of errors."""
    raise why


def _nobody(now: float) -> None:
    pass


class Loop:
    """Calls back when a descriptor is readable, and timers when their time has come.

    A callback that raises what nobody expected is reported (`trouble`: what failed, and why), and its descriptor left alone for
    a while; everything else goes on.

    Used as a context it ends on SIGINT, SIGTERM and SIGHUP, between two events and never within one."""

    def __init__(self) -> None:
        # Faster here than epoll: there are few descriptors, and most of the time one of them has something.
        self._poll = select.poll()
        self._readers: dict[int, Callable[[], None]] = {}
        self._writers: dict[int, Callable[[], bool]] = {}
        self._soon: list[Callable[[], None]] = []
        self._rounds: list[Callable[[], None]] = []
        self._before_waits: list[Callable[[], None]] = []
        self._timers: dict[Timer, float] = {}
        self._stopped = False
        self.trouble: Callable[[str, Exception], None] = _raised
        self._pauses: dict[int, Pauses] = {}  # by descriptor, of those that have failed
        self._left_alone: set[int] = set()
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
        self._pauses.pop(fd, None)
        if self._readers.pop(fd, None) is not None and fd not in self._left_alone:
            self._poll.unregister(fd)
        self._left_alone.discard(fd)

    def soon(self, what: Callable[[], None]) -> None:
        """Calls `what` when the event at hand is dealt with."""
        self._soon.append(what)

    def after_each_round(self, what: Callable[[], None]) -> None:
        """Calls `what` before each wait, from now on."""
        self._rounds.append(what)

    def before_each_wait(self, what: Callable[[], None]) -> None:
        """Calls `what` before each wait from now on, when all has been written that is taken: it may stop the loop."""
        self._before_waits.append(what)

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
            if self._soon or self._writers or self._rounds or self._before_waits:
                self._between()
                if self._stopped:
                    break
            timeout = max(0.0, min(timers.values()) - time.monotonic()) * 1000 if timers else None
            for fd, happened in poll(timeout):
                reader = readers.get(fd)
                if reader is not None and happened != select.POLLOUT:
                    try:
                        reader()
                    except Exception as why:  # reported; this source alone ends
                        self._leave_alone(fd, "a source", why)
            if timers:
                now = time.monotonic()
                for timer in [timer for timer, due in timers.items() if due <= now]:
                    timer.set(inf)
                    self._try("a timer", partial(timer.tick, now))

    def _between(self) -> None:
        """What was put off until the events at hand were dealt with; what wants to be written; and, when nothing of that is left,
        what is asked before the wait."""
        self._once()
        while self._soon:  # what came of the writing: it would not be looked at before something else happens
            self._once()
        for what in self._before_waits:
            self._try("a round", what)

    def _try(self, name: str, what: Callable[[], None]) -> None:
        """Calls `what`, and reports an unexpected error under this name."""
        try:
            what()
        except Exception as why:  # reported by its name
            self.trouble(name, why)

    def _once(self) -> None:
        while self._soon:
            self._try("an event", self._soon.pop(0))
        for what in self._rounds:
            self._try("a round", what)
        for fd, writer in list(self._writers.items()):
            if fd not in self._readers or fd in self._left_alone:
                continue
            try:
                more = writer()
            except Exception as why:  # reported; this output alone ends
                self._leave_alone(fd, "an output", why)
                continue
            if fd in self._readers:  # nobody was there any more to write to, otherwise
                self._poll.modify(fd, select.POLLIN | (select.POLLOUT if more else 0))

    def _leave_alone(self, fd: int, what: str, why: Exception) -> None:
        """Reports why a descriptor's callback failed, and does not look at it for a while: it may fail again at once."""
        now = time.monotonic()
        pause = self._pauses.setdefault(fd, Pauses()).next(now)
        self.trouble(what, why)
        reader = self._readers.get(fd)
        if reader is None:
            return  # whoever it belongs to has let go of it
        self._left_alone.add(fd)
        self._poll.unregister(fd)

        def again(now: float) -> None:
            if self._readers.get(fd) is reader and fd in self._left_alone:
                self._left_alone.discard(fd)
                self._poll.register(fd, select.POLLIN)

        self.timer(again).set_in(pause)

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
        self.close()

    def close(self) -> None:
        """Closes the descriptors of the loop itself."""
        os.close(self._wake_read)
        os.close(self._wake_write)
