"""The desk that a benchmark runs beside its bare loop: the whole wiring, with a pipe in place of the kernel's device."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from pathlib import Path

from fenko.desk.compiled import compiled
from fenko.desk.load import load_desk
from fenko.devices.events import EventReader, State
from fenko.live.loop import Loop
from fenko.live.session import Session
from fenko.outputs.kernel import KernelPort
from fenko.outputs.layout import us_layout
from fenko.outputs.port import Port, Settings
from fenko.outputs.workers_port import WorkersPort
from fenko.system.kernel import EVENT, KEY


def serve(
    folder: str,
    addresses: dict[tuple[int, int], str],
    open_port: Callable[[], Port],
    ranges: dict[int, tuple[int, int]] | None = None,
    listens: bool = False,
) -> None:
    """Runs the desk in that folder on the kernel events that come on standard input, with its workers if it has any; says
    `r` when it is ready. With `listens`, values and its journal are kept."""
    desk = compiled(load_desk(Path(folder)))
    os.set_blocking(0, False)
    with Loop() as loop:
        ports = [open_port()]
        if desk.far:
            ports.append(WorkersPort(desk.far, Settings(desk.tables, lambda line: None, None, desk.folder)))
        session = Session(desk, loop, lambda desk, open_now: ports, lambda line: None)
        reader = EventReader(0, addresses, ranges or {}, lambda: State(frozenset(), {}))

        def readable() -> None:
            changes = reader.changes(reader.read())
            if changes:
                session.inbox.put(changes)

        loop.add(0, readable)
        if listens:
            session.listen(None)
        os.write(1, b"r")
        loop.run()
        session.close()


class Pipe:
    """An end of a pipe in place of a virtual device."""

    def __init__(self, fd: int) -> None:
        self.fd = fd

    def close(self) -> None:
        """The process closes it."""


def piped_port(moves: bool = False) -> KernelPort:
    """The kernel's port, whose keys, or whose `moves`, go to standard output, and the others nowhere."""
    nowhere = os.open(os.devnull, os.O_WRONLY)
    ends = (nowhere, 1) if moves else (1, nowhere)
    return KernelPort(us_layout("us"), print, lambda: (Pipe(ends[0]), Pipe(ends[1])))


def key_report(code: int, value: int) -> bytes:
    """A key that changes now, and the end of the report, as the kernel says it."""
    return report((KEY, code, value))


def report(*changes: tuple[int, int, int]) -> bytes:
    """Changes (type, code, value) that come now, in one report."""
    seconds, micros = divmod(round(time.monotonic() * 1e6), 1_000_000)
    return b"".join(EVENT.pack(seconds, micros, *change) for change in (*changes, (0, 0, 0)))
