"""The guard: a small process that outlives a killed Fenko and ends what it left behind.

The two share a page of memory and a pipe. Each port notes in its part of the page what it begins, before the other end
hears of it. The guard sleeps on the pipe; it wakes when the other end is gone, however that happened. The kernel's virtual
devices need no guard: they vanish with their process.
"""

from __future__ import annotations

import mmap
import os
import select
import signal

from fenko.outputs.ports import PAGE_SIZE, end_all

_PATIENCE = 2.0
"""Seconds that it has to end what is left, before Fenko goes without it."""


class Guard:
    """Started before anything is opened; `page` is what the ports write."""

    def __init__(self) -> None:
        self.page = memoryview(mmap.mmap(-1, PAGE_SIZE))
        ours, theirs = os.pipe()
        self._pid = os.fork()
        if self._pid == 0:
            try:
                os.close(theirs)
                _keep_watch(ours, self.page)
            finally:
                os._exit(0)
        os.close(ours)
        self._pipe = theirs

    def close(self) -> None:
        """Dismisses the guard; what the page still tells of is ended. Where that takes long, it goes on alone."""
        os.close(self._pipe)
        watch = os.pidfd_open(self._pid)
        if select.select([watch], [], [], _PATIENCE)[0]:
            os.waitpid(self._pid, 0)
        os.close(watch)


def _keep_watch(pipe: int, page: memoryview) -> None:
    os.setsid()
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGUSR1):
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
    end_all(page)
