"""The child's end of a child process: `serve` runs it, `ParentProcess` is the connection to its parent.

See `fenko.system.child_process` for the parent's end."""

from __future__ import annotations

import contextlib
import os
import select
import signal
import socket
import sys
from collections.abc import Callable, Iterator
from typing import Any

from fenko.system.trouble import described
from fenko.system.wire import VERSION, Failed, Message, MessageReader, pack

OTHER_VERSION = 3
"""Exit status of a child whose messages have another version than its parent's."""
_SIGNALS = (signal.SIGINT, signal.SIGHUP, signal.SIGUSR1, signal.SIGTERM)


class ParentProcess:
    """The connection to the parent. `messages` is the type of what it sends."""

    def __init__(self, line: socket.socket, messages: Any) -> None:
        self._line = line
        self._reader = MessageReader(messages)

    def fileno(self) -> int:
        """Return the descriptor, for `select`."""
        return self._line.fileno()

    def messages(self) -> Iterator[Any]:
        """Yield each message until the parent ends."""
        while (received := self.receive()) is not None:
            yield from received

    def wait(self, seconds: float | None) -> bool:
        """Wait for at most `seconds` (None: without limit); return whether something can be received."""
        return bool(select.select([self._line], [], [], seconds)[0])

    def receive(self) -> list[Any] | None:
        """Wait for data and return the messages that are complete; None when the parent has ended. Raises ValueError for other data."""
        try:
            data = self._line.recv(1 << 16)
        except ConnectionError:
            return None
        if not data:
            return None
        self._reader.add(data)
        return list(self._reader)

    def send(self, message: Message) -> None:
        """Send a message; wait while the parent does not read. Raises OSError when the parent has ended."""
        self._line.sendall(pack(message))


def serve(work: Callable[[ParentProcess], None], messages: Any) -> None:
    """Run `work` as a child process; the arguments of the command are its socket and the version of the messages.

    The child ignores the signals that a terminal sends to all processes: it ends with its parent. An unexpected error is sent to
    the parent."""
    number, version = int(sys.argv[1]), int(sys.argv[2])
    if version != VERSION:
        sys.exit(OTHER_VERSION)
    for one in _SIGNALS:
        signal.signal(one, signal.SIG_IGN)
    with socket.socket(fileno=number) as line, contextlib.suppress(ConnectionError):
        os.set_inheritable(line.fileno(), False)
        parent = ParentProcess(line, messages)
        try:
            work(parent)
        except ConnectionError:
            raise  # the parent has ended
        except Exception as why:  # the parent reports it
            parent.send(Failed(described(why)))
            sys.exit(1)
