"""Beside a running desk: writes its journal. A disk that is full, slow or gone is this process's trouble and nobody else's."""

from __future__ import annotations

import contextlib
import signal
import socket
import sys
import time
from pathlib import Path
from typing import Any

import msgspec

from fenko.system.journal import Journal, JournalError, Use
from fenko.system.packets import Packets, packed

_DAY = 86_400


class Writer:
    """Writes what it is told into the journal at a path, and forgets what is older than so many days. `wrong` is why it could not be
    written the last time; empty while all is well."""

    def __init__(self, path: Path, days: float) -> None:
        self.wrong = ""
        self._path = path
        self._days = days
        self._journal: Journal | None = None
        self._tidied = -1

    def write(self, uses: list[Use], now: float) -> None:
        """Writes them; where that fails they are lost, and the next ones are tried again."""
        try:
            if self._journal is None:
                self._journal = Journal(self._path, new=True)
            if now // _DAY != self._tidied:
                self._journal.tidy(now - self._days * _DAY, now)
                self._tidied = int(now // _DAY)
            self._journal.add(uses)
            self.wrong = ""
        except JournalError as why:
            self.wrong = str(why)
            self.close()

    def close(self) -> None:
        """Closes the journal."""
        if self._journal is not None:
            self._journal.close()
            self._journal = None


def main() -> None:
    """Serves the socket whose descriptor is the first argument, until the other end is gone."""
    for number in (signal.SIGINT, signal.SIGHUP, signal.SIGUSR1, signal.SIGTERM):
        signal.signal(number, signal.SIG_IGN)
    packets = Packets()
    writer: Writer | None = None
    told: str | None = None
    with socket.socket(fileno=int(sys.argv[1])) as line:
        while data := line.recv(1 << 16):
            for packet in packets.of(data):
                if isinstance(packet, dict):
                    if writer is not None:
                        writer.close()
                    writer = Writer(Path(packet["path"]), float(packet["days"]))
                elif writer is not None:
                    uses = _uses(packet)
                    writer.write(uses, time.time())
                    if writer.wrong != told:
                        told = writer.wrong
                        line.sendall(packed(told))
        if writer is not None:
            writer.close()


def _uses(packet: Any) -> list[Use]:
    return msgspec.convert(packet, list[Use])


if __name__ == "__main__":
    with contextlib.suppress(ConnectionError):  # who told is gone
        main()
