"""The guard: a small process that outlives a killed Fenko and lifts what it left down on the X server.

The two share a page of memory (the ledger) and a pipe. The guard sleeps on the pipe; it wakes when the other end is
gone, however that happened. The kernel's virtual devices need no guard: they vanish with their process.
"""

from __future__ import annotations

import mmap
import os
import signal

from fenko.outputs.x11 import LEDGER_SIZE


class Guard:
    """Started before the X server is opened; `ledger` is what the X11 output writes."""

    def __init__(self) -> None:
        self.ledger = memoryview(mmap.mmap(-1, LEDGER_SIZE))
        ours, theirs = os.pipe()
        self._pid = os.fork()
        if self._pid == 0:
            try:
                os.close(theirs)
                _keep_watch(ours, self.ledger)
            finally:
                os._exit(0)
        os.close(ours)
        self._pipe = theirs

    def close(self) -> None:
        """Dismisses the guard; what the ledger still holds is lifted."""
        os.close(self._pipe)
        os.waitpid(self._pid, 0)


def _keep_watch(pipe: int, ledger: memoryview) -> None:
    os.setsid()
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)
    nowhere = os.open(os.devnull, os.O_RDWR)
    for standard in range(3):
        os.dup2(nowhere, standard)
    for fd in sorted(int(name) for name in os.listdir("/proc/self/fd")):
        if fd > 2 and fd != pipe:
            try:
                os.close(fd)
            except OSError:
                continue  # the descriptor that listed the folder
    os.read(pipe, 1)
    if any(ledger):
        from fenko.outputs.x11 import lift
        from fenko.system.xserver import open_display

        display = open_display()
        lift(display, ledger)
        display.close()
