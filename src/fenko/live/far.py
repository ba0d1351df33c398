"""What comes back from other ends: numbers that somebody else changed, values of the desk that they set, states."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from fenko.core.changes import MACHINES
from fenko.core.circumstances import Focus
from fenko.core.engine import Engine
from fenko.core.phrase import Phrase, steps_of
from fenko.core.plan import GESTURES, Cell, Plan
from fenko.core.steps import Send
from fenko.core.verbs import ACTS
from fenko.desk.compiled import Compiled
from fenko.live.inbox import Inbox
from fenko.live.linked import Linked
from fenko.outputs.messages import (
    AllReported,
    ControlsChanged,
    Fact,
    FromWorkers,
    NumberIs,
    SetByPeer,
    SurfacePresent,
)
from fenko.outputs.workers_port import WorkersListener, WorkersPort

SURFACES = "surfaces"
"""The process of the workers of surfaces."""
Turns = dict[tuple[str, str], list[tuple[Cell, str, tuple[tuple[str, Any], ...]]]]
"""By output and name: cells, their gestures, and of each state which part of the fact is what."""


class FarEnds(WorkersListener):
    """Connects a port of workers to the engine of a running desk."""

    def __init__(self, port: WorkersPort, engine: Engine, inbox: Inbox, linked: Linked) -> None:
        self.port = port
        self._engine = engine
        self._inbox = inbox
        self._linked = linked
        self._focus: Focus | None = None
        self._turns: Turns | None = None
        self._machines: tuple[str, ...] = ()
        port.listener = self

    def on_message(self, message: FromWorkers) -> None:
        """A worker sent this."""
        match message:
            case NumberIs(out, name, number):
                self._inbox.stirred += 1
                self._engine.restore((out, name), number)
            case SetByPeer(kind, name, number):
                self._set_by_peer(kind, name, number)
            case Fact(out, name, fact) if fact is not None:
                self._turn_to_fact(out, name, fact)
            case ControlsChanged(surface, changes):
                self._linked.changes(surface, changes)
            case SurfacePresent(surface, link, description):
                self._linked.here(surface, link, description)
            case AllReported(surface, t):
                self._linked.until[surface] = t

    def on_exit(self) -> None:
        """The process has ended: its surfaces are not connected any more."""
        if self.port.name == SURFACES:
            self._linked.ended()

    def _set_by_peer(self, kind: str, name: str, number: float) -> None:
        """A peer sets a value of the desk, or the state of a binding."""
        if kind == "value":
            self._inbox.hear(time.monotonic(), ("value", name), number)
            return
        address, _, gesture = name.rpartition(".")
        if gesture not in GESTURES:
            address, gesture = name, "press"
        cell = self._engine.cell(address)
        binding = next((one for name, one in cell.gestures() if name == gesture), None) if cell is not None else None
        if cell is not None and binding is not None and int(number) in range(len(binding.phrases)):
            self._engine.turn_to(cell, gesture, int(number))

    def _turn_to_fact(self, out: str, name: str, fact: dict[str, Any]) -> None:
        """Set bindings with several states to the state that an item has."""
        self._inbox.stirred += 1
        if out == "machine":
            machines = tuple(f"{one} {known['state']}" for one, known in self.port.facts[out].items())
            if machines != self._machines:
                self._machines = machines
                self._inbox.put([(time.monotonic(), MACHINES, machines)])
        if self._turns is None:
            self._turns = _turns(self._engine.plan)
        for cell, gesture, states in self._turns.get((out, name), ()):
            state = next((number for number, (part, what) in enumerate(states) if fact.get(part) == what), None)
            if state is not None:
                self._engine.turn_to(cell, gesture, state)

    def look(self) -> None:
        """After each round: the workers know which program is in front."""
        focus = self._engine.focus
        if focus is not self._focus:
            self._focus = focus
            self.port.set_active_program(focus.app, focus.program)

    def use_desk(self, desk: Compiled) -> None:
        """Another desk is in force."""
        self._turns = None
        self.port.use_desk(desk.folder, desk.processes.get(self.port.name, ()), desk.tables)

    @property
    def facts(self) -> dict[str, dict[str, Any]]:
        """How things stand there, by output; a player's position as it is now."""
        now = time.time()
        return {
            out: {name: _moved_on(fact, now) for name, fact in facts.items()} for out, facts in self.port.facts.items()
        }


def _turns(plan: Plan) -> Turns:
    """Bindings with states, all of which lead to how one thing stands at another end; by that thing."""
    found: Turns = {}
    for level in plan.levels.values():
        for cell in level.cells.values():
            for gesture, binding in cell.gestures():
                leads = [_leads_to(phrase) for phrase in binding.phrases] if binding.states else []
                places = {(lead[0], lead[1]) for lead in leads if lead is not None}
                if len(places) == 1 and None not in leads:
                    states = tuple((lead[2], lead[3]) for lead in leads if lead is not None)
                    found.setdefault(places.pop(), []).append((cell, gesture, states))
    return found


def _leads_to(phrase: Phrase) -> tuple[str, str, str, Any] | None:
    """The output, and what of it stands how, after a phrase that is one step."""
    steps = steps_of(phrase)
    if len(steps) != 1 or not isinstance(step := steps[0], Send):
        return None
    leads_to = ACTS[step.out, step.act].leads_to
    there = leads_to(*step.values) if leads_to is not None else None
    return (step.out, *there) if there is not None else None


def _moved_on(fact: dict[str, Any], now: float) -> dict[str, Any]:
    """Of what says where it was at a time, and how fast it moves, where it is now."""
    if "position" not in fact or "at" not in fact:
        return fact
    moved = (now - fact["at"]) * fact.get("rate", 0.0)
    shown = {name: value for name, value in fact.items() if name not in ("at", "rate")}
    return shown | {"position": round(max(0.0, fact["position"] + moved), 3)}


def far_ends(
    port: object, engine: Engine, inbox: Inbox, linked: Linked, each_round: Callable[[Callable[[], None]], None]
) -> FarEnds | None:
    """What a port has to say, if it is one of workers."""
    if not isinstance(port, WorkersPort):
        return None
    found = FarEnds(port, engine, inbox, linked)
    each_round(found.look)
    return found
