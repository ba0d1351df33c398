"""Child processes of Fenko: a module that runs in a process of its own, connected by a socket.

The parent never waits for a child, except in `finish`. Messages that the child has not read are kept, up to a limit. When a child
ends unexpectedly, its owner gets the reason, and Fenko can start it again."""

from __future__ import annotations

import contextlib
import os
import select
import signal
import socket
import sys
import time
from collections.abc import Callable
from math import inf
from typing import Any, Protocol

from fenko.system.parent_process import OTHER_VERSION
from fenko.system.pauses import Pauses
from fenko.system.wire import VERSION, Failed, Message, MessageReader, pack

MOST_WAITING = 1 << 25
"""Bytes that may wait to be read by a child. Fenko ends a child that leaves more unread: it hangs."""
FINISH_WITHIN = 3.0
"""Seconds that a child has to end by itself."""
_UPDATED = "Fenko was updated after this desk had started; start the desk again"


class LoopTimer(Protocol):
    """A timer of a loop."""

    def set(self, due: float) -> None:
        """Set the time (monotonic seconds)."""

    def end(self) -> None:
        """Give the timer up."""


class Watcher(Protocol):
    """What a child process needs of a loop."""

    def add(self, fd: int, reader: Callable[[], None]) -> None:
        """Call `reader` whenever `fd` is readable."""

    def remove(self, fd: int) -> None:
        """Forget `fd`."""

    def timer(self, tick: Callable[[float], None]) -> LoopTimer:
        """Return a timer that calls `tick` with the time."""


class ChildProcess:
    """A child process that runs `module`. Its messages have the type `messages`.

    - `on_message` gets each message. With `paced` the loop handles other events between two of them.
    - `on_start` is called after each start, to send what the child needs first.
    - `on_exit` gets the reason (may be empty) when the child has ended without being asked to, or could not be started again.
    - With `pauses` the child is started again after that.

    Without a `loop`, the owner must watch `fd` (the same for the object's whole life), call `readable` when it is readable, and
    call `go_on` at the time that `wake` was last called with."""

    def __init__(
        self,
        module: str,
        messages: Any,
        on_message: Callable[[Any], None],
        on_exit: Callable[[str], None],
        *,
        loop: Watcher | None = None,
        on_start: Callable[[], None] = lambda: None,
        pauses: Pauses | None = None,
        paced: bool = False,
    ) -> None:
        self.pid = 0
        self.wake: Callable[[float], None] = lambda due: None
        self._module = module
        self._messages = messages | Failed
        self._on_message = on_message
        self._on_exit = on_exit
        self._on_start = on_start
        self._pauses = pauses
        self._paced = paced
        self._line: socket.socket | None = None
        self._pidfd = -1  # until the process has been waited for
        self._reader = MessageReader(self._messages)
        self._unsent = bytearray()
        self._wanted = 0  # the events of the socket that the epoll descriptor reports
        self._finishing = self._leaving = False
        self._reason = ""
        self._starts_at = inf
        # One descriptor for everything that happens to the child, so that the owner's loop need not know about restarts.
        self._epoll = select.epoll()
        self.fd = self._epoll.fileno()
        self._loop = loop
        self._timer: LoopTimer | None = None
        if loop is not None:
            self._timer = loop.timer(self.go_on)
            self.wake = self._timer.set
            loop.add(self.fd, self.readable)

    @property
    def running(self) -> bool:
        """Whether the child can receive messages."""
        return self._line is not None and not self._finishing

    @property
    def restarts(self) -> bool:
        """Whether the child has ended and will be started again."""
        return self._starts_at < inf

    @property
    def unsent(self) -> int:
        """Bytes that the child has not taken yet."""
        return len(self._unsent)

    # --- Start ---

    def start(self) -> None:
        """Start the child unless it runs. Raises OSError."""
        self._starts_at = inf
        if self._pidfd >= 0:
            return
        self.pid, self._line = _spawn(self._module)
        self._pidfd = os.pidfd_open(self.pid)
        self._wanted = select.EPOLLIN
        self._epoll.register(self._line, self._wanted)
        self._epoll.register(self._pidfd, select.EPOLLIN)
        self._reader = MessageReader(self._messages)
        self._unsent.clear()
        self._reason = ""
        self._on_start()

    def try_start(self) -> None:
        """Start the child; report a failure like an unexpected end."""
        try:
            self.start()
        except OSError as why:
            self._exited(f"it cannot be started: {why.strerror or why}")

    def go_on(self, now: float) -> None:
        """Start the child again, or handle the next message, when either is due."""
        if now >= self._starts_at:
            self.try_start()
        elif self._paced and self._line is not None:
            self._handle_messages()

    # --- Sending ---

    def send(self, message: Message) -> None:
        """Send a message, or keep it until the child reads; drop it if no child runs. Raises as `pack` does."""
        if self.running:
            self._unsent += pack(message)
            self.flush()
            if len(self._unsent) > MOST_WAITING:
                self._fail("it does not read its messages")

    def flush(self) -> None:
        """Send what the child takes now."""
        if self._line is None:
            return
        wanted = select.EPOLLIN
        try:
            while self._unsent:
                del self._unsent[: self._line.send(self._unsent)]
            if self._finishing:
                self._line.shutdown(socket.SHUT_WR)
        except BlockingIOError:
            wanted |= select.EPOLLOUT
        except OSError:
            return  # the next read finds the end
        if wanted != self._wanted:
            self._wanted = wanted
            self._epoll.modify(self._line, wanted)

    # --- Receiving ---

    def readable(self) -> None:
        """Handle what has happened: the child sent messages, takes more, or has ended."""
        if self._line is not None and self._receive():
            if self._unsent:
                self.flush()
            return
        for fd, _ in self._epoll.poll(0):
            if fd == self._pidfd:
                self._handle_exit()
            elif self._unsent:
                self.flush()

    def _receive(self) -> bool:
        """Handle received messages; return whether there may be more."""
        assert self._line is not None
        try:
            data = self._line.recv(1 << 16)
        except BlockingIOError:
            return False
        except OSError:
            data = b""
        if not data:
            self._disconnect()
            return False
        if (
            not self._finishing
        ):  # whoever ends it wants to hear nothing more, and may have closed what messages would go to
            self._reader.add(data)
            self._handle_messages()
        return self._line is not None

    def _handle_messages(self) -> None:
        while self._line is not None:
            try:
                if not self._reader.complete:
                    return
                message = self._reader.next()
            except ValueError as why:
                self._fail(f"it sends what cannot be read: {why}")
                return
            if isinstance(message, Failed):
                self._reason = message.reason
            else:
                self._on_message(message)
            if self._paced:
                self.wake(0.0 if self._reader.complete else inf)
                return

    # --- End ---

    def _fail(self, reason: str) -> None:
        """End the child for this reason."""
        self._reason = reason
        self._disconnect()

    def _disconnect(self, kill: bool = True) -> None:
        """Close the socket and make sure that the process ends; its exit follows as an event."""
        line, self._line = self._line, None
        if line is not None:
            self._epoll.unregister(line)
            line.close()
            if kill:
                os.kill(self.pid, signal.SIGKILL)  # most often it has ended already

    def _handle_exit(self) -> None:
        while self._line is not None and self._receive():
            pass  # its last messages
        self._disconnect()
        status = self._reap()
        if self._leaving:
            self.close()
        elif self._finishing:
            self._finishing = False
        else:
            if not self._reason and status < 0:
                self._reason = signal.Signals(-status).name if -status in {*signal.Signals} else f"signal {-status}"
            self._exited(_UPDATED if status == OTHER_VERSION else self._reason)

    def _exited(self, reason: str) -> None:
        """Plan the next start, and notify the owner."""
        if self._pauses is not None and reason != _UPDATED:
            now = time.monotonic()
            self._starts_at = now + self._pauses.next(now)
            self.wake(self._starts_at)
        self._on_exit(reason)

    def _reap(self) -> int:
        """Wait for the process, which is ending, and return its exit status; negative for a signal."""
        self._forget_process()
        with contextlib.suppress(ChildProcessError):
            return os.waitstatus_to_exitcode(os.waitpid(self.pid, 0)[1])
        return 0

    def _forget_process(self) -> None:
        self._epoll.unregister(self._pidfd)
        os.close(self._pidfd)
        self._pidfd = -1

    def begin_finish(self) -> None:
        """Ask the child to end when it has read all messages; do not wait for it. What it sends from now on is dropped."""
        if self._pidfd >= 0 and not self._finishing:
            self._finishing = True
            self.flush()

    def leave(self) -> None:
        """Do the same, and close this object when the child has ended."""
        if self._pidfd < 0:
            self.close()
        else:
            self._leaving = True
            self.begin_finish()

    def finish(self, seconds: float = FINISH_WITHIN, kill: bool = True) -> None:
        """Ask the child to end, wait for it for at most `seconds`, and close this object. A child that still runs is ended, or, without
        `kill`, left to end later."""
        self.begin_finish()
        until = time.monotonic() + seconds
        while self._finishing and (left := until - time.monotonic()) > 0:
            self._epoll.poll(left)
            self.readable()
        if self._finishing and not kill:
            self._disconnect(kill=False)
            self._forget_process()
        self.close()

    def stop(self) -> None:
        """End the child at once. It can be started again."""
        self._starts_at = inf
        self.wake(inf)
        self._disconnect()
        self._finishing = False
        if self._pidfd >= 0:
            self._reap()

    def close(self) -> None:
        """End the child at once and close this object."""
        if self.fd < 0:
            return
        if self._loop is not None and self._timer is not None:
            self._loop.remove(self.fd)
            self._timer.end()
        self.stop()
        self._epoll.close()
        self.fd = -1


def ended(title: str, reason: str) -> str:
    """Return the sentence that this child has ended, for the user; `reason` is what `on_exit` gets."""
    return f"{title} has ended{f' ({reason})' if reason else ''}"


def _spawn(module: str) -> tuple[int, socket.socket]:
    """Start a process that runs a module; return its number and our end of the socket, which never blocks. Raises OSError."""
    ours, theirs = socket.socketpair()
    os.set_inheritable(theirs.fileno(), True)
    # -P: a module in the folder that Fenko was started from must not replace one of Fenko's.
    command = [sys.executable, "-P", "-m", module, str(theirs.fileno()), str(VERSION)]
    with theirs:
        try:
            # A session of its own: Ctrl-C in the terminal reaches the desk alone, which ends its children in order.
            pid = os.posix_spawn(sys.executable, command, os.environ, setsid=True)
        except OSError:
            ours.close()
            raise
    ours.setblocking(False)
    return pid, ours
