"""A simulated machine by the clock, at the end of a line that other programs open: a terminal of its own (pty), or a TCP port."""

from __future__ import annotations

import contextlib
import os
import pty
import select
import socket
import time
import tty
from collections.abc import Callable

from fenko.integrations.machine.simulated import SimulatedMachine

_LOOKS = 0.004  # seconds between two steps while something moves
_RESTS = 0.05
_LONGEST = 0.25
"""Seconds that are made up for at once; a computer that slept does not make the machine jump."""


class End:
    """Where other programs find the machine."""

    def __init__(self, port: int | None) -> None:
        """A TCP port of this computer (0: a free one), or, for None, a terminal. Raises OSError."""
        self._listening: socket.socket | None = None
        self._line: socket.socket | None = None
        self._master = self._slave = -1
        if port is None:
            self._master, self._slave = pty.openpty()
            tty.setraw(self._slave)
            os.set_blocking(self._master, False)
            self.name = f"serial {os.ttyname(self._slave)}"
        else:
            self._listening = socket.create_server(("127.0.0.1", port))
            self._listening.setblocking(False)
            self.name = f"tcp 127.0.0.1:{self._listening.getsockname()[1]}"

    def wait(self, seconds: float) -> bytes:
        """What comes within so many seconds; a program that comes later takes the place of the one before."""
        waiting = [one for one in (self._listening, self._line) if one is not None]
        ready = select.select([self._master] if self._master >= 0 else waiting, [], [], max(0.0, seconds))[0]
        if self._listening in ready and self._listening is not None:
            with contextlib.suppress(OSError):
                line, _ = self._listening.accept()
                line.setblocking(False)
                self.cut()
                self._line = line
            return b""
        if not ready:
            return b""
        try:
            if self._master >= 0:
                return os.read(self._master, 4096)
            data = self._line.recv(4096) if self._line is not None else b""
        except BlockingIOError:
            return b""
        except OSError:
            data = b""
        if not data and self._line is not None:
            self.cut()
        return data

    def send(self, data: bytes) -> None:
        """Sends this; what nobody takes is lost, as on a real line."""
        with contextlib.suppress(OSError):
            if self._master >= 0:
                os.write(self._master, data)
            elif self._line is not None:
                self._line.send(data)

    def cut(self) -> None:
        """Whoever is at the other end is gone (of a terminal: what waits there is)."""
        line, self._line = self._line, None
        if line is not None:
            line.close()

    def close(self) -> None:
        """Nobody finds the machine any more."""
        self.cut()
        if self._listening is not None:
            self._listening.close()
        for fd in (self._master, self._slave):
            if fd >= 0:
                os.close(fd)


def serve(machine: SimulatedMachine, end: End, seconds: float, told: Callable[[str], None]) -> None:
    """Lets the machine run for so long; `told` hears of each change of its state."""
    began = before = time.monotonic()
    state = ""
    while (now := time.monotonic()) - began < seconds:
        machine.advance(machine.now + min(now - before, _LONGEST))
        before = now
        if machine.state != state:
            state = machine.state
            told(state)
        if machine.cut:
            machine.cut = False
            end.cut()
        if answers := machine.answers():
            end.send(answers)
        moves = machine.planner.blocks or machine.state == "Home" or machine.next_answer is not None
        data = end.wait(min(_LOOKS if moves else _RESTS, began + seconds - now))
        if data:
            machine.take(data)
