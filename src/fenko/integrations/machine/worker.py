"""A machine at work: its line, and who drives it there."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Mapping, Sequence
from math import inf
from pathlib import Path
from typing import Any

from fenko.core.changes import Effect
from fenko.core.words import reason
from fenko.integrations.machine.controller import PERIOD, Lost
from fenko.integrations.machine.driver import Driver
from fenko.integrations.machine.settings import MachineSettings, settings_of
from fenko.system.link import Link
from fenko.workers import serial_ready
from fenko.workers.worker import Away, Desk, Worker

TOLD_EVERY = 0.1
"""Seconds between two times that it is told where a machine is, while that changes."""
_WATCHED = 0.5  # seconds for which the desk is asked to say that it is at work
_ENDS_WITHIN = 1.5  # seconds in which a machine has to come to rest when the desk ends


def ready(tables: Mapping[str, Any], folder: Path) -> list[tuple[bool, str, str]]:
    """How things stand: good or not, what is so, what helps."""
    return [_ready(name, entry) for name, entry in (tables.get("machine") or {}).items()]


def _ready(name: str, entry: Mapping[str, Any]) -> tuple[bool, str, str]:
    try:
        settings = settings_of(name, entry)
    except ValueError as why:
        return (False, f"{name}: {why}", f"[machine.{name}] in the desk")
    kind, _, rest = settings.link.partition(" ")
    device = rest.partition(" ")[0]
    if kind == "tcp":
        return (True, f"{name}: {rest}, which the running desk opens", "")
    return serial_ready.fact(name, device, "`ls -l /dev/serial/by-id` lists what is there")


class MachineWorker(Worker):
    """One machine of a desk."""

    eager = True
    longest_pause = 3.0

    def __init__(self, tables: Mapping[str, Any], folder: Path, desk: Desk) -> None:
        super().__init__(tables, folder, desk)
        ((self._name, entry),) = tables["machine"].items()
        self._settings: MachineSettings = settings_of(self._name, entry)
        self._driver = Driver(self._settings, lambda text: desk.note(f"{self._name}: {text}"))
        self._link: Link | None = None
        self._reader: threading.Thread | None = None
        self._looked = threading.Event()
        self._in_front: tuple[str, str] | None = None
        self._focus_changed = False
        self._told: dict[str, Any] = {}
        self._told_at = self._asked_at = 0.0

    def open(self) -> None:
        """Opens the line."""
        try:
            link = Link(self._settings.link)
        except (OSError, ValueError) as why:
            self._tell(True)
            said = reason(why) if isinstance(why, OSError) else str(why)
            raise Away(f"{self._name} is not there ({self._settings.link}): {said}") from None
        self._link = link
        self._looked.clear()
        self._driver.open(time.monotonic())
        self._reader = threading.Thread(target=self._listen, args=(link,), daemon=True)
        self._reader.start()

    def _listen(self, link: Link) -> None:
        while link.wait():
            self.wake()
            self._looked.wait()
            self._looked.clear()

    def alive(self, at: float) -> None:
        """The desk was at work at that time."""
        self._driver.alive(at)

    def focus(self, app: str, program: str) -> None:
        """Another program may be in front."""
        before, self._in_front = self._in_front, (app, program)
        if before not in (None, ("", ""), self._in_front):
            self._focus_changed = True
            self.wake()

    def left_over(self, begun: Sequence[Effect], facts: Mapping[str, Any]) -> None:
        """Somebody else drove it, and is gone."""
        self._driver.take_over(facts.get(self._name) or {})

    def send(self, effects: Sequence[Effect]) -> None:
        """What hands want of it."""
        now = time.monotonic()
        for at, _, act, _, *values in effects:
            self._driver.take(now, at, act, values)

    def watch(self) -> float | None:
        """Hears, and goes on with what is under way."""
        if self._focus_changed:
            self._focus_changed = False
            self._driver.focus_changed()
        try:
            self._go_on()
        except Lost:
            self._lose()
            raise Away(f"{self._name} does not answer ({self._settings.link})") from None
        except OSError as why:
            self._lose()
            raise Away(f"{self._name} is gone ({self._settings.link}): {reason(why)}") from None
        now = time.monotonic()
        if self._driver.busy and now > self._asked_at + _WATCHED / 2:
            self._asked_at = now
            self.desk.watch(_WATCHED)
        return min(self._driver.due(now), self._tell())

    def _go_on(self) -> None:
        """Hears all that has come, and sends what is to be sent now. Raises OSError or Lost."""
        link = self._link
        if link is None:
            return
        heard = link.read()
        self._looked.set()
        now = time.monotonic()
        self._driver.hear(now, heard)
        if data := self._driver.tick(now):
            link.send(data)

    def _tell(self, away: bool = False) -> float:
        """How it stands, if that has changed; seconds until it is told, where it was told only just now."""
        facts = self._driver.facts()
        if away:
            facts |= {"state": "away", "speed": 0.0, "machine": {}, "work": {}}
        now = time.monotonic()
        moved = facts.keys() - {"machine", "work", "speed"}
        if facts == self._told:
            return inf
        if now < self._told_at + TOLD_EVERY and all(facts[key] == self._told.get(key) for key in moved):
            return self._told_at + TOLD_EVERY - now
        self._told, self._told_at = facts, now
        self.desk.fact(self._name, facts)
        return inf

    def release(self) -> None:
        """It stops."""
        self._driver.stop()
        with contextlib.suppress(OSError, Lost):
            self._go_on()

    def _lose(self) -> None:
        """The line is no good any more; nothing that waits in it may arrive later."""
        if self._link is not None:
            self._link.drop()
        self._shut()

    def _shut(self) -> None:
        link, self._link = self._link, None
        if link is not None:
            link.stop_waiting()
            self._looked.set()
            if self._reader is not None:
                self._reader.join()
            link.close()
        self._driver.open(time.monotonic())  # nothing is known of it any more
        self._tell(True)

    def close(self) -> None:
        """It stops, which is waited for, and its line is closed."""
        if self._link is None:
            return
        self._driver.stop()
        until = time.monotonic() + _ENDS_WITHIN
        with contextlib.suppress(OSError, Lost):
            while True:
                now = time.monotonic()
                self._driver.alive(now)
                self._go_on()
                if not self._driver.busy or now > until:
                    break
                time.sleep(PERIOD / 2)
            self._link.orderly()
        self._shut()
