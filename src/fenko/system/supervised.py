"""What a desk owes to a service manager that keeps it running (`sd_notify` of systemd: a datagram to a socket that the environment
names), and how long it waits before it begins anew after it failed."""

from __future__ import annotations

import contextlib
import os
import socket
import time
from pathlib import Path

SHORTEST, LONGEST = 1.0, 60.0
"""Seconds that are waited before the second start in a row that follows a failure, and, doubled each time, at most."""
STEADY = 120.0
"""Seconds after which a desk that ran counts as one that works."""


class Supervisor:
    """Whoever started this process and wants to hear of it. Without one nothing is told. Programs that are started from here
    have none."""

    def __init__(self) -> None:
        address = os.environ.pop("NOTIFY_SOCKET", "")
        os.environ.pop("WATCHDOG_PID", None)
        wanted = os.environ.pop("WATCHDOG_USEC", "")
        self._address = f"\0{address[1:]}" if address.startswith("@") else address
        self._line = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM | socket.SOCK_NONBLOCK) if address else None
        self.every = int(wanted) / 2e6 if address and wanted.isdecimal() else 0.0
        """Seconds from one sign of life to the next that are wanted; 0 for none."""

    def __bool__(self) -> bool:
        return self._line is not None

    def tell(self, **what: str | int) -> None:
        """Tells how things stand, such as READY=1; nobody is waited for."""
        if self._line is not None:
            lines = "\n".join(f"{name}={text}" for name, text in what.items())
            with contextlib.suppress(OSError):
                self._line.sendto(lines.encode(), self._address)

    def close(self) -> None:
        """Nothing is told any more."""
        if self._line is not None:
            self._line.close()
            self._line = None


class Failures:
    """How often in a row a desk has ended without a word, kept in a file from one start to the next."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._began = time.time()
        self.before = self._read()
        """Failures in a row before this start."""
        # Taken back when it ends as it should.
        self._write(self.before + 1)

    @property
    def pause(self) -> float:
        """Seconds to wait before this start."""
        return min(LONGEST, SHORTEST * 2 ** (self.before - 2)) if self.before > 1 else 0.0

    def _read(self) -> int:
        with contextlib.suppress(OSError, ValueError):
            number, _, began = self._path.read_text().partition(" ")
            ran = self._path.stat().st_mtime - float(began)
            return 1 if ran > STEADY else min(int(number), 64)
        return 0

    def _write(self, number: int) -> None:
        with contextlib.suppress(OSError):
            self._path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
            self._path.write_text(f"{number} {self._began}")

    def alive(self) -> None:
        """It still runs, which is seen by the time of the file."""
        with contextlib.suppress(OSError):
            os.utime(self._path)

    def clear(self) -> None:
        """It ended as it should."""
        self._path.unlink(missing_ok=True)
