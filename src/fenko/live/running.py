"""The programs that merely run, as a source, for desks with a profile that asks for one."""

from __future__ import annotations

import time

from fenko.core.changes import RUNNING
from fenko.desk.compiled import Compiled
from fenko.live.source import Source, Surroundings
from fenko.services.messages import LookForPrograms, ProgramsRunning
from fenko.system.child_process import ChildProcess, ended
from fenko.system.pauses import Pauses

FIRST_PAUSE, LONGEST_PAUSE = 1.0, 60.0
"""Seconds before the child that looks is started again: at first, and at most."""


class RunningSource(Source):
    """Has a process beside the desk look what runs, if it matters."""

    def __init__(self, around: Surroundings) -> None:
        self._around = around
        self._child = ChildProcess(
            "fenko.services.running",
            ProgramsRunning,
            self._on_message,
            self._on_exit,
            loop=around.loop,
            on_start=self._ask,
            pauses=Pauses(FIRST_PAUSE, LONGEST_PAUSE),
        )
        self._wanted: list[str] = []

    def start(self) -> None:
        """Begins to look, if the desk asks for a program."""
        self._wanted = sorted(self._around.desk.plan.asks_for_running)
        if not self._wanted:
            self._child.stop()
            self._around.inbox.put([(time.monotonic(), RUNNING, ())])
        elif self._child.running:
            self._ask()
        else:
            self._child.try_start()

    def _ask(self) -> None:
        self._child.send(LookForPrograms(self._wanted))

    def _on_message(self, message: ProgramsRunning) -> None:
        self._around.inbox.put([(time.monotonic(), RUNNING, tuple(message.patterns))])

    def _on_exit(self, reason: str) -> None:
        self._around.note(ended("the process that looks which programs run", reason))

    def use_desk(self, before: Compiled) -> None:
        """Looks for what the other desk asks for."""
        if self._around.desk.plan.asks_for_running != before.plan.asks_for_running:
            self.start()

    def close(self) -> None:
        """Looks no more."""
        self._child.close()
