"""Tells others what hands do and what values are, where the desk says so: on topics of a broker, or as OSC messages."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from math import inf
from typing import Any

import msgspec

from fenko.core.changes import OUTSIDE, Change, Effect, Moving
from fenko.core.controls import BUTTON
from fenko.core.engine import Engine
from fenko.core.inputs import Inputs
from fenko.desk.compiled import Compiled
from fenko.integrations.telling import is_told, tells_of
from fenko.live.inbox import Inbox
from fenko.live.loop import Loop
from fenko.live.state import position_of

EVERY = 0.03
"""Seconds between two times that positions and values are told, at the soonest; presses are told at once."""
USUAL_TOPIC, USUAL_ADDRESS = "fenko", "/fenko"
Says = dict[str, Any]


class Told:
    """One end: how what is told reads there."""

    def __init__(self, out: str, name: str, base: str, patterns: Sequence[str]) -> None:
        self.out = out
        self._name = name
        self._base = base.rstrip("/")
        self._patterns = patterns
        self._wanted: dict[str, bool] = {}

    def wants(self, what: str) -> bool:
        """Whether it is told of a control (SURFACE.CONTROL), or of a value (`value NAME`)."""
        if what not in self._wanted:
            self._wanted[what] = is_told(self._patterns, what)
        return self._wanted[what]

    def effect(self, t: float, what: str, says: Says) -> Effect:
        """What it is told."""
        where = f"{self._base}/{what.replace(' ', '/').replace('.', '/')}"
        if self.out == "mqtt":
            return (t, "mqtt", "tell", where, msgspec.json.encode(says).decode(), self._name)
        arguments = [
            float(one) if isinstance(one, float) else int(one) if isinstance(one, bool) else one
            for one in says.values()
        ]
        return (t, "osc", "tell", self._name, where, arguments)


def ends_of(tables: Mapping[str, Any]) -> list[Told]:
    """All ends of a desk that are told anything."""
    found = []
    for out, base in (("mqtt", USUAL_TOPIC), ("osc", USUAL_ADDRESS)):
        for name, patterns in tells_of(tables, out).items():
            found.append(Told(out, name, str(tables[out][name].get("tells-on", base)), patterns))
    return found


class Telling:
    """Tells of a running desk. `raw` is what devices themselves say; `send` gets what is told."""

    def __init__(
        self,
        desk: Compiled,
        engine: Engine,
        inbox: Inbox,
        loop: Loop,
        raw: Callable[[str], str],
        send: Callable[[Sequence[Effect]], None],
    ) -> None:
        self._engine = engine
        self._inbox = inbox
        self._raw = raw
        self._send = send
        self._turned: dict[str, float] = {}
        self._moved: dict[str, None] = {}
        self._told: dict[str, Any] = {}
        self._changes = -1
        self._looked = -inf
        self._timer = loop.timer(self._look)
        loop.after_each_round(self._round)
        self.use_desk(desk)

    def use_desk(self, desk: Compiled) -> None:
        """Another desk is in force."""
        self._ends = ends_of(desk.tables)
        self._inputs = Inputs(desk.plan.surfaces)
        self._told.clear()
        self._inbox.hearers = [self._hear] if self._ends else []

    def _hear(self, changes: Sequence[Change]) -> None:
        """Hands do something: presses are told at once, the rest soon."""
        for t, address, value in changes:
            if address in OUTSIDE:
                continue
            place = self._inputs[address]
            if place.shape.turns:
                self._turned[address] = self._turned.get(address, 0.0) + value
                self._moved[address] = None
            elif place.shape is BUTTON:
                self._tell(t, address, {"pressed": bool(value)})
            else:
                self._moved[address] = None

    def _tell(self, t: float, what: str, says: Says) -> None:
        effects = [end.effect(t, what, says) for end in self._ends if end.wants(what)]
        if "pressed" not in says:
            effects = list(map(Moving, effects))
        if effects:
            self._send(effects)

    def _round(self) -> None:
        if self._ends and (self._moved or self._engine.value_changes != self._changes):
            self._timer.set(max(self._looked + EVERY, time.monotonic()))

    def _look(self, now: float) -> None:
        self._looked = now
        moved, self._moved = self._moved, {}
        for address in moved:
            self._tell_new(now, address, self._says(address))
        if self._engine.value_changes != self._changes:
            self._changes = self._engine.value_changes
            for (out, name), number in self._engine.values.items():
                if out == "value":
                    self._tell_new(now, f"value {name}", {"value": number})

    def _tell_new(self, now: float, what: str, says: Says) -> None:
        if self._told.get(what) != says:
            self._told[what] = says
            self._tell(now, what, says)

    def _says(self, address: str) -> Says:
        if address in self._turned:
            return {"turned": self._turned[address]}
        says = position_of(self._engine.plan, address, self._engine.positions.get(address, 0.0))
        says["shows"] = float(says["shows"])  # an OSC message has types
        if raw := self._raw(address):
            says["raw"] = raw
        return says
