"""Beside a running desk: looks which of the programs run that the desk asks for, and tells when that changes."""

from __future__ import annotations

import contextlib
import select
import signal
import socket
import sys

from fenko.core.patterns import Pattern, compile_pattern
from fenko.system.packets import Packets, packed
from fenko.system.processes import OFTEN, Processes


def main() -> None:
    """Serves the socket whose descriptor is the first argument, until the other end is gone."""
    for number in (signal.SIGINT, signal.SIGHUP, signal.SIGUSR1, signal.SIGTERM):
        signal.signal(number, signal.SIG_IGN)
    processes, packets = Processes(), Packets()
    patterns: list[Pattern] = []
    told: list[str] | None = None
    with socket.socket(fileno=int(sys.argv[1])) as line:
        while True:
            if select.select([line], [], [], OFTEN if patterns else None)[0]:
                data = line.recv(1 << 16)
                if not data:
                    return
                for texts in packets.of(data):
                    patterns = [compile_pattern(text) for text in texts]
            found = processes.running(patterns)
            if found != told:
                told = found
                line.sendall(packed([found]))


if __name__ == "__main__":
    with contextlib.suppress(ConnectionError):  # who asked is gone
        main()
