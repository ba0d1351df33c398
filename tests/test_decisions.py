"""What the docs decide where gestures meet: one line a case, as hands do it and as a program sees it."""

from __future__ import annotations

import time
from typing import Any

import pytest

from fenko.core.changes import FOCUS, UNPLUG, Change
from fenko.core.circumstances import Focus
from fenko.core.engine import Engine
from test_engine import keys, plan, play

Desk = dict[str, Any]
_CHORD = {"pad.hat.left": "l", "pad.south": "s", "pad.hat-left+south": "x"}
_DIAGONAL = {"pad.hat.left": "l", "pad.up": "u", "pad.hat.up-left": "d", "pad.south": "s"}

CASES: dict[str, tuple[Desk, list[Change], str]] = {
    "a hat and a button at once": (
        {"pad.hat.left": "l", "pad.south": "s", "pad.hat-left+south": "x"},
        [(0, "pad.hat.x", -1), (0.02, "pad.south", 1), (0.5, "pad.hat.x", 0), (0.6, "pad.south", 0)],
        "x+ x-",
    ),
    "a trigger and a button at once": (
        {"pad.trigger-right": "t", "pad.south+trigger-right": "x"},
        [(0, "pad.trigger-right", 1), (0.02, "pad.south", 1), (0.5, "pad.trigger-right", 0)],
        "x+ x-",
    ),
    "a trigger pulled twice": (
        {"pad.trigger-right": {"tap": "t", "double": "d"}},
        [(t, "pad.trigger-right", value) for t, value in ((0, 1), (0.05, 0), (0.1, 1), (0.15, 0))],
        "d+ d-",
    ),
    "half a trigger pulled twice": (
        {"pad.trigger-right.half": {"tap": "t", "double": "d"}},
        [(t, "pad.trigger-right", value) for t, value in ((0, 0.6), (0.05, 0), (0.1, 1), (0.15, 0))],
        "d+ d-",
    ),
    "a hold shorter than the wait for several at once, let go before": (
        {"pad.south": {"hold": "h"}, "pad.east+south": "x"},
        [(0, "pad.south", 1), (0.025, "pad.south", 0)],
        "h+ h-",
    ),
    "taps before a press that is held": (
        {"pad.south": {"tap": "t", "triple": "x"}},
        [(0, "pad.south", 1), (0.01, "pad.south", 0), (0.1, "pad.south", 1), (0.6, "pad.south", 0)],
        "t+ t-",
    ),
    "a direction that waits comes before the button": (
        {"pad.hat.left": "l", "pad.hat.up-left": "d", "pad.south": "s"},
        [(0, "pad.hat.x", -1), (0.02, "pad.south", 1), (0.3, "pad.south", 0), (0.4, "pad.hat.x", 0)],
        "l+ s+ s- l-",
    ),
    "directions in the order of the hand": (
        {"pad.hat.left": "l", "pad.hat.down": "n"},
        [(0, "pad.hat.x", -1), (0, "pad.hat.y", 1), (0.3, "pad.hat.x", 0), (0.3, "pad.hat.y", 0)],
        "l+ n+ l- n-",
    ),
    "a repeat keeps no hold waiting": (
        {"pad.south": {"press": "a every 100ms", "hold": "h"}},
        [(0, "pad.south", 1), (0.35, "pad.south", 0)],
        "a+ a- a+ a- h+ a+ a- a+ a- h-",
    ),
    "a tap that was made before the plug was pulled": (
        {"pad.south": {"tap": "t", "double": "d"}},
        [(0, "pad.south", 1), (0.05, "pad.south", 0), (0.1, UNPLUG, "pad")],
        "t+ t-",
    ),
    "a smaller group within a larger one": (
        {"pad.east+south": "x", "pad.east+north+south+west": "y", "pad.north": "n"},
        [(0, "pad.south", 1), (0.01, "pad.east", 1), (0.02, "pad.north", 1), (0.3, "pad.south", 0), (0.4, "pad.north", 0)],
        "x+ n+ x- n-",
    ),
    "the last press of what was no burst counts from itself": (
        {"keys.kp1": {"tap": "t", "hold": "h"}, "keys.kp1-x3": "z"},
        [(0, "keys.kp1", 1), (0.01, "keys.kp1", 0), (0.05, "keys.kp1", 1), (0.22, "keys.kp1", 0)],
        "t+ t- t+ t-",
    ),
    "pause stops what is behind it": (
        {"pad.south": {"tap": "pause", "double": "a"}, "dial.dial.right": "r"},
        [(0, "pad.south", 1), (0.1, "pad.south", 0), (0.2, "dial.dial", 1)],
        "",
    ),
    "a tap that pauses settles no other": (
        {"pad.south": {"tap": "pause", "double": "a"}, "pad.east": {"tap": "b", "double": "c"}},
        [(0, "pad.south", 1), (0.01, "pad.east", 1), (0.05, "pad.south", 0), (0.1, "pad.east", 0), (0.15, "pad.north", 1)],
        "",
    ),
    "while paused a binding that pauses does nothing else": (
        {"pad.south": "a then pause"},
        [(0, "pad.south", 1), (0.1, "pad.south", 0), (0.2, "pad.south", 1), (0.3, "pad.south", 0), (0.4, "pad.south", 1)],
        "a+ a- a+ a-",
    ),
    "one key from two controls": (
        {"pad.south": "a", "pad.east": "a"},
        [(0, "pad.south", 1), (0.1, "pad.south", 0), (0.1005, "pad.east", 1), (0.101, "pad.east", 0)],
        "a+ a- a+ a-",
    ),
    "a touch is silent while its control is pressed": (
        {"pad.south-touch": "t", "pad.south": {"tap": "s"}},
        [(0, "pad.south", 1), (0.01, "pad.south-touch", 1), (0.02, "pad.south-touch", 0), (0.1, "pad.south", 0)],
        "s+ s-",
    ),
}  # fmt: skip


@pytest.mark.parametrize("case", CASES)
def test_decided(case: str) -> None:
    desk, changes, expected = CASES[case]
    made = plan(base=desk)
    if "shorter" in case:
        made = plan(base=desk, timing={"hold": 0.02, "chord": 0.03})
    if "from itself" in case:
        made = plan(base=desk, timing={"hold": 0.18})
    assert keys(play(made, *changes)) == expected


def test_profiles_with_and_without_a_direction_between_two() -> None:
    desk = plan(base={"pad.hat.left": "l", "pad.hat.up-left": "q"}, one={"pad.hat.left": "m"})
    changes: list[Change] = [
        (0.0, FOCUS, Focus("one")), (0.1, "pad.hat.x", -1), (0.15, FOCUS, Focus("x")), (0.2, "pad.hat.x", 0),
        (0.5, "pad.hat.x", -1), (0.7, "pad.hat.x", 0),
    ]  # fmt: skip
    engine = Engine(desk)
    effects = [effect for change in changes for effect in engine.feed(change)]
    effects += engine.advance(9.0)
    assert keys(effects) == "m+ m- l+ l-"
    assert engine.held == ()


def test_a_push_during_a_pause_swallows_no_later_one() -> None:
    desk = plan(base={"pad.hat.left": "l", "pad.hat.up-left": "q", "pad.start": "pause"})
    changes = [
        (0.0, "pad.start", 1), (0.1, "pad.start", 0), (0.2, "pad.hat.x", -1), (0.3, "pad.start", 1), (0.4, "pad.start", 0),
        (0.5, "pad.hat.x", 0), (0.6, "pad.hat.x", -1), (0.8, "pad.hat.x", 0),
    ]  # fmt: skip
    assert keys(play(desk, *changes)) == "l+ l-"


def test_a_tap_is_no_part_of_another_meaning() -> None:
    desk = plan(base={"pad.south": {"tap": "t", "double": "d"}}, one={"pad.south": "x"})
    changes = [
        (0.0, "pad.south", 1),
        (0.05, "pad.south", 0),
        (0.1, FOCUS, Focus("one")),
        (0.2, "pad.south", 1),
        (0.3, "pad.south", 0),
    ]
    effects = play(desk, *changes)
    assert keys(effects) == "t+ t- x+ x-"
    assert effects[1][0] == 0.2  # the profile came first


def test_a_short_press_exactly_as_long_as_a_hold_is_a_hold() -> None:
    desk = plan(base={"pad.south": {"tap": "t", "hold": "h"}}, timing={"hold": 0.22})
    for milliseconds in range(0, 3000, 7):
        t = milliseconds / 1000
        assert keys(play(desk, (t, "pad.south", 1), (round(t + 0.22, 3), "pad.south", 0))) == "h+ h-", t


def test_a_repeat_that_is_faster_than_a_stroke_ends_with_its_control() -> None:
    desk = plan(base={"pad.south": {"press": "a every 5ms", "hold": "h x2"}})
    effects = play(desk, (0.0, "pad.south", 1), (0.5, "pad.south", 0))
    downs = [effect[0] for effect in effects if effect[2:] == ("down", "a")]
    assert 30 < len(downs) < 60
    assert keys(effects).count("h+") == 2


@pytest.mark.parametrize(
    "text", ["b x30", "tap b", "ctrl+b x5", "b then b then b", "toggle b then toggle b then b", "button left x3"]
)
def test_a_key_that_came_up_waits_before_it_goes_down_again(text: str) -> None:
    desk = plan(base={"pad.south": text, "pad.east": text, "dial.dial.right": text})
    changes: list[Change] = [
        (1.0, "pad.south", 1),
        (1.001, "pad.south", 0),
        (1.0015, "pad.east", 1),
        (1.002, "pad.east", 0),
    ]
    changes += [(1.003 + n / 2000, "dial.dial", 3) for n in range(20)]
    up: dict[Any, float] = {}
    for effect in play(desk, *changes):
        if effect[2] == "up":
            up[effect[3]] = effect[0]
        elif effect[2] == "down":
            assert effect[0] >= round(up.get(effect[3], 0.0) + 0.002, 6), effect


def test_the_gap_slows_nothing_that_repeats_no_key() -> None:
    desk = plan(base={"dial.dial.right": "a x10", "pad.south": "b", "pad.east": "c"})
    presses = [(round(1.0 + n / 500, 6), ("pad.south", "pad.east")[n % 2]) for n in range(40)]
    changes: list[Change] = [(1.0, "dial.dial", 30)]
    changes += [change for t, address in presses for change in ((t, address, 1), (round(t + 0.001, 6), address, 0))]
    downs = [(effect[0], effect[3]) for effect in play(desk, *changes) if effect[2] == "down" and effect[3] in "bc"]
    assert downs == [(t, "b" if address == "pad.south" else "c") for t, address in presses]


def _cost(desk_size: int) -> float:
    """Seconds for a pause and back, and layers locked in turn, in a desk of that many bindings."""
    cells: Desk = {f"keys.button-{n % 40 + 1}": "a" for n in range(40)}
    made = plan(base={"pad.start": "pause", **cells}, **{f"app{n}": cells for n in range(desk_size // 40)})
    engine = Engine(made)
    best = 9.0
    for n in range(20):
        start = time.perf_counter()
        engine.feed((n, "pad.start", 1))
        engine.feed((n + 0.1, "pad.start", 0))
        best = min(best, time.perf_counter() - start)
    return best


def test_a_pause_costs_the_same_in_a_large_desk() -> None:
    assert _cost(20_000) < 20 * _cost(40)


def test_what_is_pending_costs_an_event_nothing() -> None:
    many = {f"pad.button-{n}": {"tap": "a", "hold": "b"} for n in range(1, 50)}
    engine = Engine(plan(base={"pad.south": "s", **many}))
    for n in range(1, 50):
        engine.feed((0.001 * n, f"pad.button-{n}", 1))
    assert engine.deadline < 1 and len(engine._agenda._places) < 300


def test_layers_in_any_order_keep_nothing_behind() -> None:
    from random import Random

    from fenko.core.phrase import parse_phrase
    from fenko.core.plan import BASE, Binding, Cell, Layer, Level, Plan, Profile
    from hands import SURFACES

    names = [f"l{n}" for n in range(8)]
    layers = {
        name: Layer((Level(name, {"pad.south": (Cell("pad.south", name, Binding(parse_phrase("a"))),)}),))
        for name in names
    }
    controls = {
        f"pad.button-{n + 1}": (Cell(f"pad.button-{n + 1}", BASE, Binding(parse_phrase(f"layer {name} locked"))),)
        for n, name in enumerate(names)
    }
    engine = Engine(Plan(SURFACES, {BASE: Profile(BASE, (), (Level(BASE, controls),), layers)}))
    random = Random(1)
    for n in range(4000):
        button = f"pad.button-{random.randint(1, 8)}"
        engine.feed((n, button, 1))
        engine.feed((n + 0.1, button, 0))
    kept = sum(len(stack._cells) for stack in engine._situation._plain.values())
    assert len(engine._situation._plain) == 1 and kept < 50
