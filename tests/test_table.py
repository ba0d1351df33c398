"""Every gesture with every step and everything that can come in between: nothing stays stuck, and the gesture is what
the times say."""

from __future__ import annotations

from itertools import product
from math import inf

import pytest

from fenko.core.changes import FOCUS, KEYBOARD, PLUG, UNPLUG, Change
from fenko.core.circumstances import Condition, Focus
from fenko.core.engine import Engine
from fenko.core.patterns import compile_pattern
from fenko.core.phrase import parse_phrase
from fenko.core.plan import BASE, Binding, Cell, Level, Plan, Timing
from fenko.core.plan import Layer as Layered
from fenko.core.plan import Profile as Profiled
from fenko.core.verbs import VERBS
from fenko.core.verbs.desk import TurnOnLayer
from hands import SURFACES, VALUES, Witness

TIMES = Timing(hold=0.2, double=0.25, chord=0.04, burst=0.06, fast=0.05, stroke=0.01)
_LITTLE = 0.001

# Each gesture: where it is bound, the changes by which a hand does it, and what it takes to be let go.
Moves = list[tuple[float, str, float]]


def _press(address: str, length: float, t: float = 0.0) -> Moves:
    return [(t, address, 1), (t + length, address, 0)]


GESTURES: dict[str, tuple[str, str, Moves]] = {
    "press": ("pad.south", "press", _press("pad.south", 0.5)),
    "release": ("pad.south", "release", _press("pad.south", 0.1)),
    "tap": ("pad.south", "tap", _press("pad.south", TIMES.hold - _LITTLE)),
    "hold": ("pad.south", "hold", _press("pad.south", TIMES.hold)),
    "double": ("pad.south", "double", [*_press("pad.south", 0.05), *_press("pad.south", 0.05, 0.05 + TIMES.double - _LITTLE)]),
    "triple": ("pad.south", "triple", [move for n in range(3) for move in _press("pad.south", 0.05, n * 0.2)]),
    "several at once": ("pad.east+south", "press", [(0.0, "pad.south", 1), (TIMES.chord - _LITTLE, "pad.east", 1), (0.5, "pad.south", 0), (0.5, "pad.east", 0)]),
    "burst": ("keys.kp1-x2", "press", [*_press("keys.kp1", 0.01), *_press("keys.kp1", 0.3, TIMES.burst - _LITTLE)]),
    "half": ("pad.trigger-right.half", "press", [(0.0, "pad.trigger-right", 0.5), (0.5, "pad.trigger-right", 0)]),
    "full": ("pad.trigger-right.full", "press", [(0.0, "pad.trigger-right", 0.95), (0.5, "pad.trigger-right", 0)]),
    "direction": ("pad.hat.left", "press", [(0.0, "pad.hat.x", -1), (0.5, "pad.hat.x", 0)]),
    "diagonal": ("pad.hat.up-left", "press", [(0.0, "pad.hat.x", -1), (0.0, "pad.hat.y", -1), (0.5, "pad.hat.x", 0), (0.5, "pad.hat.y", 0)]),
    "touch": ("pad.south-touch", "press", _press("pad.south-touch", 0.5)),
    "turn": ("dial.dial.right", "press", [(0.0, "dial.dial", 2)]),
    "fast": ("dial.dial.right", "fast", [(0.0, "dial.dial", 1), (TIMES.fast - _LITTLE, "dial.dial", 1)]),
}  # fmt: skip

STEPS = [
    "ctrl+z", "ctrl+z x3", "space every 90ms", "a x3 every 20ms", "tap ctrl+s", "toggle shift", "button left", "ctrl+button right x2",
    "press shift then a then lift shift", "press a then wait 30ms", 'type "x" then enter', "wait 30ms then f5", "profile next", "profile auto",
    "profile hushdesk", "layer trim", "layer trim locked", "layer trim once", "pause", "nothing", "pass", "a then pause", "lift a",
    "wait 600ms then layer trim", "pointer right 20", "scroll up 3 then a", "value exposure by +5", "value exposure to 40% then b", "tilt neutral then a",
    "midi note c4", "midi note c4 velocity follow then a", "midi note e4 then wait 30ms then midi note c4 channel 2",
    'sound "clap.wav" while held', 'sound "clap.wav" then a', "volume by +5% then microphone mute then b",
    'start snipwell then front snipwell then close window then open "x"', 'osc /a 1 then publish "a" "x" then request scene then player next', "show legend then f13",
    "machine jog x at 600", "machine step +1 then machine axis y then machine jog at -90 then a", "machine home then machine stop",
    'rumble 60% for 120ms then tone 440 then lamp mute on then display "x" then a',
]  # fmt: skip

BETWEEN: dict[str, list[tuple[str, object]]] = {
    "nothing": [],
    "another control": [("pad.north", 1), ("pad.north", 0)],
    "another profile": [(FOCUS, Focus("hushdesk"))],
    "there and back": [(FOCUS, Focus("hushdesk")), (FOCUS, Focus("snipwell"))],
    "a layer": [(KEYBOARD, ("shift",)), (KEYBOARD, ())],
    "a layer that stays": [(KEYBOARD, ("shift",))],
    "pause": [("pad.start", 1), ("pad.start", 0)],
    "unplugged": [(UNPLUG, "pad"), (UNPLUG, "keys"), (UNPLUG, "dial"), (PLUG, "pad")],
}


def _plan(address: str, gesture: str, step: str) -> Plan:
    binding = Binding(parse_phrase(step))
    bindings = {gesture: binding}
    members = ("pad.south", "pad.east") if "+" in address else ()
    surface, control, *_ = address.split(".")
    whole = f"{surface}.{control}"
    own = Level("snipwell", {whole: (Cell(address, "snipwell", members=members, **bindings),)})
    base = Level(
        BASE,
        {
            "pad.start": (Cell("pad.start", BASE, press=Binding(parse_phrase("pause"))),),
            "pad.north": (Cell("pad.north", BASE, press=Binding(parse_phrase("shift+n"))),),
        },
    )
    layer = Level("trim", {whole: (Cell(address, "trim", press=Binding(parse_phrase("alt+t"))),)})
    coarse = Level("coarse", {whole: (Cell(address, "coarse", tap=Binding(parse_phrase("alt+c"))),)})
    layers = {"trim": Layered((layer,)), "coarse": Layered((coarse,), ("shift",))}
    profiles = {
        BASE: Profiled(BASE, (), (base,), {}),
        "snipwell": Profiled("snipwell", (Condition({"app": (compile_pattern("snipwell"),)}),), (base, own), layers),
        "hushdesk": Profiled("hushdesk", (Condition({"app": (compile_pattern("hushdesk"),)}),), (base,), {}),
    }  # fmt: skip
    return Plan(SURFACES, profiles, TIMES, values=VALUES)


def _changes(moves: Moves, between: list[tuple[str, object]], at: float) -> list[Change]:
    """The moves from 1 s on, with something in between at that share of their time."""
    length = moves[-1][0]
    there = 1.0 + length * at
    found: list[Change] = [(0.0, FOCUS, Focus("snipwell"))]
    found += [(1.0 + t, address, value) for t, address, value in moves if 1.0 + t <= there]
    found += [(there, address, value) for address, value in between]
    found += [(1.0 + t, address, value) for t, address, value in moves if 1.0 + t > there]
    return found


@pytest.mark.parametrize("name", GESTURES)
def test_whatever_comes_in_between_nothing_stays_stuck(name: str) -> None:
    address, gesture, moves = GESTURES[name]
    for step, (what, between), at in product(STEPS, BETWEEN.items(), [0.0, 0.5, 0.999, 1.0]):
        engine, witness = Engine(_plan(address, gesture, step)), Witness()
        for change in _changes(moves, between, at):
            witness.see(engine.feed(change))
        t = 9.0
        witness.see(engine.advance(t))
        while engine.under_way:
            t = engine.deadline
            witness.see(engine.advance(t))
            assert t < 99, (step, what, at)
        assert engine.deadline == inf, (step, what, at)  # no control is held, so nothing goes on
        assert witness.down == set(engine.toggled), (step, what, at)
        assert set(engine.layers) <= ({"trim"} if "locked" in step or "once" in step else set()) | (
            {"coarse"} if "stays" in what else set()
        ), (step, what, at)
        witness.see(engine.release_all(t))
        assert witness.down == set(), (step, what, at)


def _fires(name: str, moves: Moves) -> int:
    """How often the gesture acts when a hand does these moves, with a marker as the only thing bound."""
    address, gesture, _ = GESTURES[name]
    started: list[str] = []
    plan = _plan(address, gesture, "f5")
    engine = Engine(plan, lambda t, where, what, profile, binding: started.append(what) if where == address else None)
    for change in _changes(moves, [], 1.0):
        engine.feed(change)
    engine.advance(99.0)
    return len([one for one in started if one == ("turn" if name == "turn" else gesture)])


@pytest.mark.parametrize(
    ("name", "border", "moves", "under", "on", "over"),
    [
        ("tap", TIMES.hold, lambda t: _press("pad.south", t), 1, 0, 0),
        ("hold", TIMES.hold, lambda t: _press("pad.south", t), 0, 1, 1),
        ("double", TIMES.double, lambda t: [*_press("pad.south", 0.05), *_press("pad.south", 0.05, 0.05 + t)], 1, 0, 0),
        ("several at once", TIMES.chord, lambda t: [*_press("pad.south", 0.5), (t, "pad.east", 1), (0.6, "pad.east", 0)], 1, 0, 0),
        ("burst", TIMES.burst, lambda t: [*_press("keys.kp1", 0.01), *_press("keys.kp1", 0.3, t)], 1, 0, 0),
        ("fast", TIMES.fast, lambda t: [(0.0, "dial.dial", 1), (t, "dial.dial", 1)], 1, 0, 0),
        ("half", 0.5, lambda far: [(0.0, "pad.trigger-right", far), (0.5, "pad.trigger-right", 0)], 0, 1, 1),
        ("full", 0.95, lambda far: [(0.0, "pad.trigger-right", far), (0.5, "pad.trigger-right", 0)], 0, 1, 1),
        ("direction", 0.5, lambda far: [(0.0, "pad.hat.x", -far), (0.5, "pad.hat.x", 0)], 0, 1, 1),
        ("diagonal", TIMES.chord, lambda t: [(0.0, "pad.hat.x", -1), (t, "pad.hat.y", -1), (0.9, "pad.hat.x", 0), (0.9, "pad.hat.y", 0)], 1, 1, 1),
    ],
)  # fmt: skip
def test_each_gesture_at_its_border(name: str, border: float, moves: object, under: int, on: int, over: int) -> None:
    assert callable(moves)
    tiny = 1e-6
    found = [_fires(name, sorted(moves(value))) for value in (border - tiny, border, border + tiny)]
    assert found == [under, on, over]


@pytest.mark.parametrize("name", GESTURES)
def test_each_gesture_acts_as_often_as_a_hand_does_it(name: str) -> None:
    assert _fires(name, GESTURES[name][2]) == (2 if name == "turn" else 1)


def test_the_table_has_every_verb_and_every_gesture() -> None:
    words = {word for step in STEPS for word in step.split()}
    assert set(VERBS) <= words
    modes = {step.mode for text in STEPS for step in parse_phrase(text).steps if isinstance(step, TurnOnLayer)}
    assert modes == {"", "locked", "once"}
    assert {gesture for _, gesture, _ in GESTURES.values()} == {
        "press", "release", "tap", "hold", "double", "triple", "fast"
    }  # fmt: skip
