"""The line to a machine: a serial one, or a TCP port. Nothing that is written to it waits, and nothing that was not sent comes late."""

from __future__ import annotations

import contextlib
import os
import select
import socket
import struct
from typing import Any

from fenko.system.trouble import ignore_errors

WITHIN = 2.0
"""Seconds in which a TCP port has to answer."""
USUAL_SPEED = 115200
_MOST = 4096
_NOW = struct.pack("ii", 1, 0)  # of SO_LINGER: what has not been taken is thrown away when the line closes
_ORDERLY = struct.pack("ii", 0, 0)


class Link:
    """One line. Raises OSError where it cannot be opened, and whenever it is gone."""

    def __init__(self, where: str) -> None:
        """`serial DEVICE [SPEED]`, or `tcp HOST:PORT`."""
        kind, _, rest = where.partition(" ")
        self._serial: Any = None
        self._socket: socket.socket | None = None
        if kind == "tcp":
            host, _, port = rest.rpartition(":")
            line = self._socket = socket.create_connection((host.strip("[]"), int(port)), WITHIN)
            line.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            # Also if this process is killed.
            line.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, _NOW)
            line.setblocking(False)
            self._fd = line.fileno()
        else:
            self._serial = _serial(*rest.split())
            self._fd = self._serial.fileno()
        self._ends, self._end = os.pipe()

    def wait(self) -> bool:
        """Waits until something has come, for a thread of its own; False when the line is closed."""
        ready, _, _ = select.select([self._fd, self._ends], [], [])
        return self._ends not in ready

    def read(self) -> bytes:
        """What has come; empty if nothing has. Raises OSError when the line is gone."""
        found = b""
        while len(found) < _MOST:
            try:
                data = os.read(self._fd, _MOST)
            except BlockingIOError:
                break
            if not data:
                if self._serial is not None and not _hung_up(self._fd):
                    break  # a terminal with nothing to say
                raise OSError("it has hung up")
            found += data
        return found

    def send(self, data: bytes) -> None:
        """Sends this at once, whole. Raises OSError where nobody takes it."""
        if os.write(self._fd, data) < len(data):
            raise OSError("it takes nothing any more")

    def drop(self) -> None:
        """Whatever has not been taken is thrown away; a TCP line does that by itself when it closes."""
        if self._serial is not None:
            ignore_errors(self._serial.reset_output_buffer)

    def orderly(self) -> None:
        """What was sent last is to arrive, though the line is closed."""
        if self._socket is not None:
            with contextlib.suppress(OSError):
                self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, _ORDERLY)

    def stop_waiting(self) -> None:
        """Whoever waits does so no longer."""
        with contextlib.suppress(OSError):
            os.write(self._end, b".")

    def close(self) -> None:
        """Lets go of it; nobody may wait any more."""
        for line in (self._serial, self._socket):
            if line is not None:
                ignore_errors(line.close)
        os.close(self._ends)
        os.close(self._end)


def _hung_up(fd: int) -> bool:
    poll = select.poll()
    poll.register(fd, select.POLLIN)
    return any(happened & (select.POLLHUP | select.POLLERR) for _, happened in poll.poll(0))


def _serial(device: str, speed: str = str(USUAL_SPEED)) -> Any:
    import termios

    import serial

    try:
        line = serial.Serial(device, int(speed), timeout=0, write_timeout=0, exclusive=True)
    except serial.SerialException as why:
        raise OSError(why.errno or 0, why.strerror or str(why)) from None
    # Many boards start anew when the line is closed and opened again, and would forget where they are.
    with contextlib.suppress(termios.error):
        attributes = termios.tcgetattr(line.fileno())
        attributes[2] &= ~termios.HUPCL
        termios.tcsetattr(line.fileno(), termios.TCSANOW, attributes)
    return line
