"""The lamps of a running desk's surfaces: looked at beside its events, and told where they have changed."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from math import inf

from fenko.core.changes import OUTSIDE, Change, Effect
from fenko.core.lights import Facts, Lights
from fenko.core.plan import control_of
from fenko.desk.compiled import Compiled
from fenko.live.inbox import Inbox
from fenko.live.loop import Loop

EVERY = 0.02
"""Seconds between two looks at the soonest."""


class Lamps:
    """Looks after each round of the loop, but not all the time. `facts` says how things stand at other ends; `send` gets what
    lamps are told."""

    def __init__(
        self,
        desk: Compiled,
        inbox: Inbox,
        loop: Loop,
        facts: Callable[[], Facts],
        send: Callable[[Sequence[Effect]], None],
    ) -> None:
        self._inbox = inbox
        self._seen = -1
        self._facts = facts
        self._send = send
        self._lights = Lights(desk.lamps)
        self._looked = -inf
        self._timer = loop.timer(self._look)
        loop.after_each_round(self._round)

    def use_desk(self, desk: Compiled) -> None:
        """Another desk is in force: what is lit by the old one goes out, unless the new one says so too."""
        before = self._lights
        self._lights = Lights(desk.lamps)
        self._lights.take_over(before)
        self._look(time.monotonic())

    def moved(self, changes: Sequence[Change]) -> None:
        """Hands move controls."""
        if self._lights.feels:
            for t, address, _ in changes:
                if address not in OUTSIDE:
                    self._lights.moved(t, control_of(address))

    def came(self, surface: str) -> None:
        """A surface is there, and shows nothing yet."""
        self._lights.forget(surface)
        self._seen = -1

    def all_out(self) -> None:
        """Every lamp has been put out; those that are to be lit are told again."""
        self._lights.forget()
        self._seen = -1

    def _round(self) -> None:
        if self._lights and self._inbox.stirred != self._seen:
            self._seen = self._inbox.stirred
            self._timer.set(max(self._looked + EVERY, time.monotonic()))

    def _look(self, now: float) -> None:
        self._looked = now
        effects = self._lights.look(now, self._inbox.engine, self._facts())
        if effects:
            self._send(effects)
        if self._lights.due < inf:
            self._timer.set(max(self._lights.due, now + EVERY))
