"""The programs that merely run, as a source, for desks with a profile that asks for one."""

from __future__ import annotations

import time
from math import inf

from fenko.core.changes import RUNNING
from fenko.core.words import reason
from fenko.desk.compiled import Compiled
from fenko.live.beside import Beside
from fenko.live.source import Source, Surroundings
from fenko.system.packets import Packets, packed

FIRST_PAUSE, LONGEST_PAUSE = 1.0, 60.0
"""Seconds before it is looked again, when the process that looks has ended."""


class RunningSource(Source):
    """Has a process beside the desk look what runs, if it matters."""

    def __init__(self, around: Surroundings) -> None:
        self._around = around
        self._beside = Beside(around.loop, "fenko.services.running", self._heard, self._wait)
        self._packets = Packets()
        self._wanted: list[str] = []
        self._pause = FIRST_PAUSE
        self._again = around.loop.timer(lambda now: self.start())

    def start(self) -> None:
        """Begins to look, if the desk asks for a program."""
        self._wanted = sorted(self._around.desk.plan.asks_for_running)
        if not self._wanted:
            self._end()
            self._around.inbox.put([(time.monotonic(), RUNNING, ())])
        elif self._beside.there:
            self._ask()
        else:
            self._begin()

    def _begin(self) -> None:
        try:
            self._beside.start()
        except OSError as why:
            self._around.note(f"nobody looks which programs run: {reason(why)}")
            self._wait()
            return
        self._packets = Packets()
        self._ask()

    def _ask(self) -> None:
        try:
            self._beside.send(packed(self._wanted))
        except OSError:
            self._end()
            self._wait()

    def _heard(self, data: bytes) -> None:
        for (names,) in self._packets.of(data):
            self._around.inbox.put([(time.monotonic(), RUNNING, tuple(names))])

    def _wait(self) -> None:
        self._again.set_in(self._pause)
        self._pause = min(LONGEST_PAUSE, self._pause * 2)

    def use_desk(self, before: Compiled) -> None:
        """Looks for what the other desk asks for."""
        if self._around.desk.plan.asks_for_running != before.plan.asks_for_running:
            self.start()

    def _end(self) -> None:
        self._again.set(inf)
        self._beside.close()

    def close(self) -> None:
        """Looks no more."""
        self._end()
