"""A process of Fenko's own beside a running desk, which hears it in its loop and never waits for it."""

from __future__ import annotations

import contextlib
import os
import signal
import socket
from collections.abc import Callable

from fenko.live.loop import Loop
from fenko.system.beside import started

_MOMENT = 2.0  # s
_LOOK_EVERY = 0.05  # s


class Beside:
    """Runs a module beside the desk from `start` until `close`. `heard` gets what it says; `ended` is called when it has ended by
    itself, and is closed by then."""

    def __init__(self, loop: Loop, module: str, heard: Callable[[bytes], None], ended: Callable[[], None]) -> None:
        self._loop = loop
        self._module = module
        self._heard = heard
        self._ended = ended
        self._line: socket.socket | None = None
        self.pid = 0

    @property
    def there(self) -> bool:
        """Whether it has been started."""
        return self._line is not None

    def start(self) -> None:
        """Starts it. Raises OSError."""
        self.pid, self._line = started(self._module)
        self._loop.add(self._line.fileno(), self._readable)

    def send(self, data: bytes) -> None:
        """Says something small, which the other end reads at once. Raises OSError where it does not."""
        assert self._line is not None
        self._line.sendall(data)

    def send_some(self, data: bytes | bytearray) -> int:
        """How many bytes of this were taken, now. Raises OSError."""
        assert self._line is not None
        try:
            return self._line.send(data)
        except BlockingIOError:
            return 0

    def finish(self, last: bytes) -> None:
        """Lets it end by itself, when it has dealt with all that it was told, and with this. That is waited for, but for a moment only."""
        if self._line is None:
            return
        ended = False
        with contextlib.suppress(OSError):
            self._line.settimeout(_MOMENT)
            self._line.sendall(last)
            self._line.shutdown(socket.SHUT_WR)
            while self._line.recv(1 << 16):
                pass
            ended = True
        self._let_go()
        os.waitpid(self.pid, 0 if ended else os.WNOHANG)

    def leave(self, last: bytes) -> None:
        """The same without waiting for it: the loop notices when it has ended. Of what it does not take at once the rest is lost."""
        if self._line is None:
            return
        line, pid, loop = self._line, self.pid, self._loop
        self._line = None

        def gone() -> None:
            with contextlib.suppress(BlockingIOError):
                try:
                    if line.recv(1 << 16):
                        return
                except ConnectionError:
                    pass
                loop.remove(line.fileno())
                line.close()
                looking.set_in(0.0)

        def look(now: float) -> None:
            if os.waitpid(pid, os.WNOHANG) == (0, 0):
                looking.set_in(_LOOK_EVERY)
            else:
                looking.end()

        looking = loop.timer(look)
        with contextlib.suppress(OSError):
            line.send(last)
        with contextlib.suppress(OSError):
            line.shutdown(socket.SHUT_WR)  # also where it took nothing, or it would never end
        loop.remove(line.fileno())
        loop.add(line.fileno(), gone)

    def _readable(self) -> None:
        assert self._line is not None
        try:
            data = self._line.recv(1 << 16)
        except BlockingIOError:
            return
        except OSError:
            data = b""
        if data:
            self._heard(data)
        else:
            self.close()
            self._ended()

    def close(self) -> None:
        """Ends it."""
        if self._line is not None:
            self._let_go()
            os.kill(self.pid, signal.SIGKILL)  # it has nothing that it would have to put in order
            os.waitpid(self.pid, 0)

    def _let_go(self) -> None:
        assert self._line is not None
        self._loop.remove(self._line.fileno())
        self._line.close()
        self._line = None
