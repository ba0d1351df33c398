"""What a running desk shows on the desktop: errors, and, if the desk wants it, which profile has come."""

from __future__ import annotations

from math import inf

from fenko.desk.compiled import Compiled
from fenko.live.loop import Loop
from fenko.services.messages import ShowNotification
from fenko.system.child_process import ChildProcess
from fenko.system.wire import Failed

SOON = 0.1
"""Seconds in which what is replaced at once is not shown."""
_LONGEST = 1000  # characters


class Notifier:
    """Has a process beside the desk show things, which is started when there is something to show."""

    def __init__(self, loop: Loop) -> None:
        self._child = ChildProcess(
            "fenko.services.notifying", Failed, lambda message: None, lambda reason: self._waiting.clear(), loop=loop
        )
        self._waiting: dict[str, tuple[str, str]] = {}
        self._timer = loop.timer(self._send)
        self._errors, self._profiles = True, False

    def use_desk(self, desk: Compiled) -> None:
        """What this desk wants to be shown."""
        table = desk.tables.get("notifications", {})
        self._errors, self._profiles = table.get("errors", True), table.get("profiles", False)

    def error(self, title: str, body: str = "") -> None:
        """Something is wrong; with an empty title, no longer."""
        if self._errors:
            self._show("error", title, body)

    def profile(self, name: str, why: str) -> None:
        """A profile has come."""
        if self._profiles:
            self._show("profile", name, why)

    def _show(self, kind: str, title: str, body: str) -> None:
        if title or self._child.running or kind in self._waiting:
            self._waiting[kind] = (title, body[:_LONGEST])
            self._timer.set_in(SOON)

    def _send(self, now: float) -> None:
        waiting, self._waiting = self._waiting, {}
        self._child.try_start()
        for kind, (title, body) in waiting.items():
            self._child.send(ShowNotification(kind, title, body))

    def close(self) -> None:
        """Shows nothing more."""
        self._timer.set(inf)
        self._waiting.clear()
        self._child.close()
