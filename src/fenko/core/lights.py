"""What lamps of surfaces are to show: which are lit, by what bindings say with `lit`, and where the values are that controls drive.
Looked at now and then, beside the engine; only what has changed is an effect."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from math import inf
from typing import Any

from msgspec import Struct

from fenko.core.changes import Effect, Moving
from fenko.core.engine import Engine
from fenko.core.lit import Lit
from fenko.core.phrase import steps_of
from fenko.core.plan import Binding, Cell, Plan, control_of
from fenko.core.steps import Follow, Hold, Item, Rate, Set, Toggle
from fenko.core.verbs import ACTS

Facts = Mapping[str, Mapping[str, Mapping[str, Any]]]
"""How things stand at other ends, by output and name."""

AT_REST = 0.4
"""Seconds after which a hand has left a control, whose motor may move."""
_GRAIN = 1 / 200


class Moment(Struct, frozen=True):
    """What decides: an engine, what hands hold, and how things stand at other ends."""

    engine: Engine
    down: frozenset[str]
    facts: Facts


class Lamps(Struct, frozen=True):
    """What of a plan has to be looked at: the cells that say when a lamp is lit, whether that is while they are pressed, and the
    controls that can show where a value is, each with whether a hand feels it (a motor, and no ring of lamps) and its cells."""

    lit: tuple[str, ...] = ()
    pressed: bool = False
    showing: dict[str, tuple[bool, tuple[str, ...]]] = {}


def lamps_of(plan: Plan, showing: Mapping[str, bool]) -> Lamps:
    """The lamps of a plan, where these controls can show a value. Looks at every binding."""
    cells: dict[str, list[Cell]] = {}
    for level in plan.levels.values():
        for address, cell in level.cells.items():
            cells.setdefault(address, []).append(cell)
    lit = {
        address: {binding.lit.word for cell in some for _, binding in cell.gestures() if binding.lit is not None}
        for address, some in cells.items()
    }
    parts: dict[str, list[str]] = {control: [] for control in showing}
    for address in cells:
        if (control := control_of(address)) in parts:
            parts[control].append(address)
    return Lamps(
        tuple(address for address, words in lit.items() if words),
        any("pressed" in words for words in lit.values()),
        {control: (felt, tuple(parts[control])) for control, felt in showing.items()},
    )


class Lights:
    """What these lamps are told."""

    def __init__(self, lamps: Lamps) -> None:
        self._lamps = lamps
        self._told: dict[tuple[str, str, str], Any] = {}
        self._moved: dict[str, float] = {}
        self.due = inf
        """When to look again even if nothing has happened."""

    @property
    def feels(self) -> bool:
        """Whether it matters which controls hands move."""
        return any(felt for felt, _ in self._lamps.showing.values())

    def take_over(self, before: Lights) -> None:
        """What another plan lit is known to be lit."""
        self._told = {key: to for key, to in before._told.items() if key[0] == "lamp"}

    def __bool__(self) -> bool:
        return bool(self._lamps.lit or self._lamps.showing or self._told)

    def moved(self, t: float, control: str) -> None:
        """A hand moves a control, by its address."""
        if self._lamps.showing.get(control, (False, ()))[0]:
            self._moved[control] = t

    def forget(self, surface: str = "") -> None:
        """A surface, or all, shows nothing any more, and is told everything anew."""
        self._told = {key: to for key, to in self._told.items() if surface and key[1] != surface}

    def look(self, t: float, engine: Engine, facts: Facts) -> list[Effect]:
        """What has to be told now."""
        now = Moment(engine, frozenset(engine.down) if self._lamps.pressed else frozenset(), facts)
        wanted: dict[tuple[str, str, str], Any] = {}
        for address in self._lamps.lit:
            self._lamps_of(address, now, wanted)
        self.due = inf
        for control, (_, cells) in self._lamps.showing.items():
            self._shown_by(t, control, cells, engine, wanted)
        found: list[Effect] = []
        for key, to in wanted.items():
            if self._told.get(key, "off") != to:
                effect = (t, "feedback", *key, to)
                found.append(effect if key[0] == "lamp" else Moving(effect))
        for key, to in self._told.items():
            if key not in wanted and key[0] == "lamp" and to != "off":
                wanted[key] = "off"
                found.append((t, "feedback", *key, "off"))
        self._told.update(wanted)
        return found

    def _lamps_of(self, address: str, now: Moment, wanted: dict[tuple[str, str, str], Any]) -> None:
        cell = now.engine.in_force(address)
        for gesture, binding in cell.gestures() if cell is not None else ():
            if binding.lit is None:
                continue
            surface, _, own = control_of(address).partition(".")
            key = ("lamp", surface, binding.lamp or own)
            if wanted.get(key, "off") == "off":
                on = cell is not None and holds(binding.lit, cell, gesture, binding, now)
                wanted[key] = (binding.colour or "on").lower() if on else "off"

    def _shown_by(
        self, t: float, control: str, cells: Iterable[str], engine: Engine, wanted: dict[tuple[str, str, str], Any]
    ) -> None:
        item = next((item for part in cells for item in _driven(engine.in_force(part))), None)
        if item is None or item not in engine.plan.values:
            return
        value = engine.plan.values[item]
        surface, _, own = control.partition(".")
        key = ("show", surface, own)
        at = min(1.0, max(0.0, (engine.values[item] - value.least) / ((value.most - value.least) or 1.0)))
        at = round(round(at / _GRAIN) * _GRAIN, 4)
        since = t - self._moved.get(control, -inf)
        if since < AT_REST:
            # Its own hand is there: what it shows is what the hand does.
            self.due = min(self.due, t + AT_REST - since)
            if key in self._told:
                wanted[key] = self._told[key]
        else:
            wanted[key] = at


def _driven(cell: Cell | None) -> Iterator[Item]:
    """The values that a cell drives."""
    for _, binding in cell.gestures() if cell is not None else ():
        for step in steps_of(binding.phrase):
            if isinstance(step, Set | Follow | Rate):
                yield step.target


# --- Conditions ---


def holds(lit: Lit, cell: Cell, gesture: str, binding: Binding, now: Moment) -> bool:
    """Whether the lamp of a binding is to be on. While Fenko is paused nothing is, but what says so."""
    if now.engine.paused and lit.word != "paused":
        return False
    return _HOLDS[lit.word](lit, cell, gesture, binding, now) != lit.denied


def _fact(out: str, name: str, part: str, wanted: Any, now: Moment) -> bool:
    return bool(now.facts.get(out, {}).get(name, {}).get(part) == wanted)


def _toggled(binding: Binding, now: Moment) -> bool:
    items = {item for step in steps_of(binding.phrase) if isinstance(step, Toggle | Hold) for item in step.items}
    return bool(items & {*now.engine.toggled})


def _value(lit: Lit, now: Moment) -> bool:
    number = now.engine.values.get(("value", lit.name))
    if number is None:
        return False
    return (
        number > lit.number
        if lit.how == "above"
        else number < lit.number
        if lit.how == "below"
        else number == lit.number
    )


def _plays(lit: Lit, now: Moment) -> bool:
    players = now.facts.get("player", {})
    return any(fact.get("playing") is True for name, fact in players.items() if not lit.name or name == lit.name)


_HOLDS: dict[str, Callable[[Lit, Cell, str, Binding, Moment], bool]] = {
    "always": lambda lit, cell, gesture, binding, now: True,
    "pressed": lambda lit, cell, gesture, binding, now: cell.address in now.down,
    "paused": lambda lit, cell, gesture, binding, now: now.engine.paused,
    "layer": lambda lit, cell, gesture, binding, now: lit.name in now.engine.layers,
    "profile": lambda lit, cell, gesture, binding, now: now.engine.profile.name == lit.name,
    "toggled": lambda lit, cell, gesture, binding, now: _toggled(binding, now),
    "state": lambda lit, cell, gesture, binding, now: (
        now.engine.states.get(f"{cell.profile} {cell.address}.{gesture}") == lit.name
    ),
    "volume": lambda lit, cell, gesture, binding, now: _fact("audio", lit.name or "output", "muted", True, now),
    "microphone": lambda lit, cell, gesture, binding, now: _fact("audio", "input", "muted", True, now),
    "player": lambda lit, cell, gesture, binding, now: _plays(lit, now),
    "machine": lambda lit, cell, gesture, binding, now: _fact("machine", lit.name, "state", lit.how, now),
    "value": lambda lit, cell, gesture, binding, now: _value(lit, now),
}  # fmt: skip
"""What each word of a `lit` asks for."""


class Guessed(dict[str, dict[str, dict[str, Any]]]):
    """How things at other ends would stand after these effects, where nobody is there who could say."""

    def see(self, effect: Effect) -> None:
        """One more effect."""
        leads_to = ACTS[effect[1], effect[2]].leads_to
        there = leads_to(*effect[3:]) if leads_to is not None else None
        if there is not None:
            name, part, what = there
            self.setdefault(effect[1], {}).setdefault(name, {})[part] = what
