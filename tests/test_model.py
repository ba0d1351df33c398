"""The engine against a slow model of what the docs say, on random desks and random hands."""

from __future__ import annotations

import os
from itertools import pairwise
from random import Random
from typing import Any

import pytest

from fenko.core.changes import FOCUS, KEYBOARD, UNPLUG, Change
from fenko.core.circumstances import Condition, Focus
from fenko.core.engine import Engine
from fenko.core.patterns import compile_pattern
from fenko.core.phrase import Phrase, parse_phrase
from fenko.core.plan import BASE, Binding, Cell, Layer, Level, Plan, Profile, Surface, Timing
from fenko.core.verbs.keys import Keys
from model import RELOAD, TURNS, Model, Told

SEEDS = int(os.environ.get("FENKO_SEEDS", "1000"))
"""Desks and hands in each share; more for a long search."""
SURFACES = {
    "pad": Surface("pad", "gamepad"),
    "keys": Surface("keys", "keypad", passes=True),
    "dial": Surface("dial", "dial"),
    "mouse": Surface("mouse", "mouse"),
    "knob": Surface("knob", "ring-and-dial"),
}
_BUTTONS = ["pad.south", "pad.east", "pad.north", "pad.south-touch", "keys.kp1", "keys.kp2"]
_PARTS = ["pad.trigger-right", "pad.trigger-right.half", "pad.trigger-right.full", "pad.hat.left", "pad.hat.right",
          "pad.hat.up", "pad.hat.left.full", "pad.hat.up-left", "pad.hat.down-left", "knob.ring.left", "knob.ring.right"]  # fmt: skip
_TOGETHER: dict[str, tuple[str, ...]] = {
    "pad.east+south": ("pad.east", "pad.south"),
    "pad.east+north": ("pad.east", "pad.north"),
    "pad.east+north+south+trigger-right": ("pad.east", "pad.north", "pad.south", "pad.trigger-right"),
    "pad.hat-left+south": ("pad.hat.left", "pad.south"),
    "pad.north+trigger-right": ("pad.north", "pad.trigger-right"),
    "keys.kp1+kp2": ("keys.kp1", "keys.kp2"),
}
_BURSTS = ["keys.kp1-x2", "keys.kp1-x3"]
_TURNS = [f"{dial}.{way}" for dial, ways in TURNS.items() for way in ways]
_ADDRESSES = [*_BUTTONS, *_PARTS, *_TOGETHER, *_BURSTS, *_TURNS]
_GESTURES = [("press",), ("press",), ("tap",), ("hold",), ("press", "hold"), ("tap", "hold"), ("press", "release"),
             ("double",), ("tap", "double"), ("tap", "double", "triple"), ("tap", "triple"), ("tap", "double", "hold"),
             ("press", "double", "hold", "release"), ("press", "triple", "tap", "hold"), ()]  # fmt: skip
_SITUATIONS = ["layer trim", "layer coarse", "layer trim locked", "layer coarse once", "profile one", "profile next",
               "profile auto", "pause", "pause", "nothing"]  # fmt: skip
_TIMES = [
    None,
    None,
    None,
    Timing(hold=0.05, double=0.06, chord=0.1, burst=0.1, gap=0.0),
    Timing(chord=0.02, burst=0.03, gap=0.0),
]


def _plan(random: Random, number: int = 0) -> Plan:
    """A desk in which every action sends a key that no other does: characters from the one at `number`."""
    gone = random.choice(["", "", "one", "two"]) if number else ""

    def binding() -> Binding:
        if random.random() < 0.25:
            return Binding(parse_phrase(random.choice([one for one in _SITUATIONS if one != f"profile {gone}"])))
        several = [key() for _ in range(random.choice([1, 1, 1, 1, 1, 3]))]
        return Binding(several[0], others=tuple(several[1:]), at_random=random.random() < 0.5)

    def key() -> Phrase:
        nonlocal number
        number += 1
        return Phrase((Keys((chr(0x4E00 + number),)),))

    def level(name: str, most: int) -> Level:
        controls: dict[str, tuple[Cell, ...]] = {}
        for address in random.sample(_ADDRESSES, random.randint(1, most)):
            turns = address in _TURNS
            gestures = random.choice([("press",), ("press", "fast")] if turns else _GESTURES)
            bindings: dict[str, Any] = {gesture: binding() for gesture in gestures}
            members = _TOGETHER.get(address, ())
            cell = Cell(address, name, timing=random.choice(_TIMES), members=members, **bindings)
            control = address if "+" in address else ".".join(address.split(".")[:2])
            controls[control] = (*controls.get(control, ()), cell)
        return Level(name, controls)

    base, one, two = level(BASE, 9), level("one", 5), level("two", 3)
    layers = {name: Layer((level(name, 3),), random.choice(_WHILES)) for name in ("trim", "coarse")}
    watched = frozenset(held for layer in layers.values() for held in layer.held if "." in held)
    profiles = {
        BASE: Profile(BASE, (), (base,), layers),
        "one": Profile("one", (Condition({"app": (compile_pattern("one"),)}),), (base, one), layers),
        "two": Profile("two", (Condition({"app": (compile_pattern("two"),)}),), (base, two), {}),
    }
    profiles.pop(gone, None)
    return Plan(SURFACES, profiles, Timing(hold=0.2, double=0.25, chord=0.04, burst=0.06, gap=0.0), watched)


_WHILES: list[tuple[str, ...]] = [(), (), ("shift",), ("pad.east",), ("shift", "pad.hat.left")]
_HAPPENINGS: list[tuple[str, list[Any]]] = [
    ("pad.trigger-right", [0, 0.4, 0.5, 0.7, 0.85, 1]),
    ("pad.hat.x", [-1, -1, -0.6, 0, 0, 1]),
    ("pad.hat.y", [-1, 0, 0, 1]),
    ("dial.dial", [-2, -1, 0.5, 1, 3]),
    ("mouse.wheel", [-1, 0.25, 0.5, 1, 2]),
    ("knob.ring", [-1, -0.6, 0, 0.45, 1]),
    (RELOAD, []),
    (FOCUS, [Focus(app) for app in ("one", "two", "other")]),
    (KEYBOARD, [(), ("shift",), ("rightshift",)]),
    (UNPLUG, sorted(SURFACES)),
]
_MANY = 400
"""More than the actions of one desk: where the characters of the next one begin."""
_GAPS = [0.0, 0.001, 0.01, 0.019, 0.02, 0.03, 0.04, 0.041, 0.05, 0.06, 0.1, 0.199, 0.2, 0.25, 0.4]


def _hands(random: Random) -> list[Change]:
    """What hands and windows do: mostly presses and releases of a few controls."""
    changes: list[Change] = []
    t, another = 0.0, 0
    few = random.sample(_BUTTONS, 3)
    down: set[str] = set()
    for _ in range(random.randint(2, 24)):
        t = round(t + random.choice(_GAPS), 6)
        if random.random() < 0.6:
            address = random.choice(few)
            changes.append((t, address, int(address not in down)))
            down ^= {address}
        else:
            address, values = random.choices(_HAPPENINGS, weights=[4, 4, 4, 3, 2, 2, 1, 2, 1, 1])[0]
            another += _MANY * (address == RELOAD)
            value = _plan(random, another) if address == RELOAD else random.choice(values)
            changes.append((t, address, value))
            if address == UNPLUG:
                down = {one for one in down if not one.startswith(changes[-1][2])}
    return changes


def _engine_tells(plan: Plan, changes: list[Change]) -> tuple[list[Told], list[Told], list[Told]]:
    """Actions, changes of the situation, and keys of held controls that came up."""
    started: list[Told] = []
    engine = Engine(plan, lambda t, address, gesture, profile, binding: started.append((t, address, gesture, profile)))
    effects: list[Any] = []
    for t, address, value in changes:
        effects += engine.use_plan(t, value) if address == RELOAD else engine.feed((t, address, value))
    while engine.deadline < 1e9:
        effects += engine.advance(engine.deadline)
    found = [
        one
        for some in (plan, *(value for _, address, value in changes if address == RELOAD))
        for one in _bindings(some)
    ]
    _in_turn([rest[0] for _, out, act, *rest in effects if out == "keys" and act == "down"], [one for *_, one in found])
    held = {
        phrase.steps[0].keys[0]: cell.address  # type: ignore[union-attr]
        for cell, gesture, binding in found
        for phrase in binding.phrases
        if gesture in ("press", "hold")
        and not cell.address.startswith(tuple(TURNS))
        and isinstance(phrase.steps[0], Keys)
    } | {"kp1": "keys.kp1", "kp2": "keys.kp2"}
    ups = sorted(
        (t, held[rest[0]], "up") for t, out, act, *rest in effects if out == "keys" and act == "up" and rest[0] in held
    )
    situation = [(t, act, *rest[: 1 if act == "profile" else 2]) for t, out, act, *rest in effects if out == "fenko"]
    return started, situation, ups


def _bindings(plan: Plan) -> list[tuple[Cell, str, Binding]]:
    return [
        (cell, gesture, binding)
        for profile in plan.profiles.values()
        for level in (*profile.levels, *(one for layer in profile.layers.values() for one in layer.levels))
        for cell in level.cells.values()
        for gesture, binding in cell.gestures()
    ]


def _in_turn(keys: list[str], bindings: list[Binding]) -> None:
    """Of actions that take turns each comes after the one before it; of those at random none twice running."""
    for binding in bindings:
        if not binding.others:
            continue
        own = [phrase.steps[0].keys[0] for phrase in binding.phrases]  # type: ignore[union-attr]
        came = [own.index(key) for key in keys if key in own]
        for before, after in pairwise(came):
            assert (before != after) if binding.at_random else (after == (before + 1) % len(own)), (binding.words, came)


def _split(told: list[Told]) -> tuple[list[Told], list[Told], list[Told]]:
    return (
        [one for one in told if len(one) == 4 and one[1] != "layer"],
        [one for one in told if one[1] in ("layer", "profile", "pause")],
        sorted(one for one in told if one[2] == "up"),
    )


def _differs(plan: Plan, changes: list[Change]) -> str:
    """How the engine's account differs from the model's; empty if it does not."""
    started, situation, ups = _engine_tells(plan, changes)
    said, of_situation, came_up = _split(Model(plan).play(changes))
    for engine, model in ((started, said), (situation, of_situation), (ups, came_up)):
        if sorted(map(repr, engine)) != sorted(map(repr, model)) or (engine is started and engine != model):
            return f"engine {engine}\nmodel  {model}"
    return ""


def _smallest(plan: Plan, changes: list[Change]) -> list[Change]:
    """The changes without those that the difference does not need."""
    at = 0
    while at < len(changes):
        fewer = changes[:at] + changes[at + 1 :]
        changes, at = (fewer, at) if _differs(plan, fewer) else (changes, at + 1)
    return changes


def _written(plan: Plan) -> str:
    """The desk in words."""
    levels = {level.name: level for profile in plan.profiles.values() for level in profile.levels}
    levels |= {level.name: level for layer in plan.profiles[BASE].layers.values() for level in layer.levels}
    whiles = {name: layer.held for name, layer in plan.profiles[BASE].layers.items()}
    lines = [
        f"[{name}] {cell.address} " + ", ".join(f"{gesture}: {binding.words}" for gesture, binding in cell.gestures())
        + (f" ({cell.timing})" if cell.timing else "")
        for name, level in levels.items() for cell in level.cells.values()
    ]  # fmt: skip
    return "\n".join([*lines, f"while {whiles}"])


@pytest.mark.parametrize("share", range(4))
def test_the_engine_does_what_the_docs_say(share: int) -> None:
    happened = 0
    for seed in range(share * SEEDS, share * SEEDS + SEEDS):
        random = Random(seed)
        plan, changes = _plan(random), _hands(random)
        if _differs(plan, changes):
            changes = _smallest(plan, changes)
            written = [(t, a, _written(value) if a == RELOAD else value) for t, a, value in changes]
            pytest.fail(f"seed {seed}\n{_written(plan)}\n{written}\n{_differs(plan, changes)}")
        happened += len(_engine_tells(plan, changes)[0])
    assert happened > 2 * SEEDS
