"""What goes on as long as a control is off its rest: how far things move, and what values become."""

from __future__ import annotations

import json
import random
import re
from itertools import pairwise
from math import hypot, inf
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenko.core.changes import FOCUS, UNPLUG, Change, Effect
from fenko.core.circumstances import Condition, Focus
from fenko.core.conditioning import CURVES, Conditioning, OneEuro, Shaping
from fenko.core.engine import Engine
from fenko.core.inputs import Inputs, Raw
from fenko.core.patterns import compile_pattern
from fenko.core.phrase import parse_phrase
from fenko.core.plan import BASE, Binding, Cell, Level, Plan, Profile, Surface, Timing
from fenko.core.plan import Layer as Layered
from fenko.core.rehearsal import rehearse
from fenko.core.script import ScriptError, parse_hand_step
from fenko.core.value import Value
from fenko.desk.cells import steady
from fenko.desk.judging import judge
from fenko.desk.load import load_desk
from fenko.desk.model import ControlFile, ValueFile
from fenko.desk.problems import DeskError
from fenko.desk.structure import fields
from fenko.live.inbox import Inbox
from fenko.live.loop import Loop
from support import DEMO, MakeDesk, Run, tries

EXACT = Conditioning(dead_zone=0.0)
VALUES = {("value", "level"): Value("level", 0, 100, start=50), ("value", "grain"): Value("grain", -1, 1, step=0.25)}


def _level(name: str, **on: str) -> Level:
    controls: dict[str, tuple[Cell, ...]] = {}
    for place, text in on.items():
        address = place.replace("_", "-")
        surface, control, *_ = address.replace("--", ".").split(".")
        whole, binding = f"{surface}.{control}", Binding(parse_phrase(text))
        cell = Cell(
            address.replace("--", "."), name, **{"move" if steady(binding.phrase.steps[0]) else "press": binding}
        )
        controls[whole] = (*controls.get(whole, ()), cell)
    return Level(name, controls)


def _plan(
    conditioning: Conditioning = EXACT, tick: float = 0.008, layer: dict[str, str] | None = None, **on: str
) -> Plan:
    """A plan with one profile; in the names of cells `__` stands for a point and `_` for a hyphen."""
    controls = dict.fromkeys(["stick-left", "stick-right", "trigger-right", "trigger-left"], conditioning)
    surfaces = {
        "pad": Surface("pad", "gamepad", conditioning=controls), "mouse": Surface("mouse", "mouse", passes=True),
        "wheel": Surface("wheel", "ring-and-dial"),
    }  # fmt: skip
    layers = {"slow": Layered((_level("slow", **layer),), ("pad.shoulder-left",))} if layer else {}
    profiles = {
        BASE: Profile(BASE, (), (_level(BASE, **on),), layers),
        "other": Profile("other", (Condition({"app": (compile_pattern("other"),)}),), (), {}),
    }
    return Plan(surfaces, profiles, Timing(tick=tick), frozenset({"pad.shoulder-left"} if layer else ()), VALUES)


def _moved(effects: list[Effect], act: str = "move") -> tuple[float, float]:
    steps = [effect[3:] for effect in effects if effect[1:3] == ("pointer", act)]
    return sum(dx for dx, _ in steps), sum(dy for _, dy in steps)


def _played(plan: Plan, *changes: Change) -> list[Effect]:
    return [effect for effects in rehearse(plan, changes) for effect in effects]


def _numbers(effects: list[Effect], name: str = "level") -> list[float]:
    return [effect[4] for effect in effects if effect[1:4] == ("value", "set", name)]


# --- What is steered ---


def _speeds(effects: list[Effect]) -> list[tuple[str, list[float]]]:
    return [(effect[4], effect[5]) for effect in effects if effect[1:3] == ("machine", "jog")]


def test_whoever_is_steered_hears_of_every_change_at_once() -> None:
    engine = Engine(
        _plan(pad__stick_left="machine jog xy rate 600 of rail", pad__trigger_right="machine jog z rate -90 of rail")
    )
    found: list[Effect] = []
    for change in [
        (1.0, "pad.stick-left.x", 0.5), (1.1, "pad.stick-left.y", -1.0), (1.2, "pad.trigger-right", 1.0), (1.3, "pad.stick-left.x", 0.0),
        (1.4, "pad.stick-left.y", 0.0), (1.5, "pad.trigger-right", 0.0),
    ]:  # fmt: skip
        told = list(engine.feed(change))
        assert [effect[0] for effect in told] == [change[0]] * len(told)
        found += told
        assert engine.deadline == inf, "nothing has to be done while it goes on as it does"
    assert _speeds(found) == [
        ("xy", [300.0, 0.0]), ("xy", [268.33, 536.66]), ("z", [-90.0]), ("xy", [0.0, 600.0]), ("xy", [0.0, 0.0]), ("z", [0.0]),
    ]  # fmt: skip


def test_several_that_steer_the_same_are_added_up() -> None:
    engine = Engine(
        _plan(pad__stick_left__x="machine jog x rate 60 of rail", pad__stick_right__up="machine jog x rate 30 of rail")
    )
    found = [*engine.feed((1.0, "pad.stick-left.x", 1.0)), *engine.feed((1.1, "pad.stick-right.y", -0.5)), *engine.feed((1.2, "pad.stick-left.x", 0.0)),
             *engine.feed((1.3, "pad.stick-right.y", 0.0))]  # fmt: skip
    assert _speeds(found) == [("x", [60.0]), ("x", [75.0]), ("x", [15.0]), ("x", [0.0])]


def test_rest_is_rest_however_much_is_smoothed() -> None:
    engine = Engine(_plan(Conditioning(dead_zone=0.1, smooth=0.5), pad__stick_left__x="machine jog x rate 60 of rail"))
    found = [*engine.feed((1.0, "pad.stick-left.x", 0.8)), *engine.advance(1.5)]
    assert _speeds(found)[-1][1][0] > 10
    assert _speeds(list(engine.feed((1.5, "pad.stick-left.x", 0.05)))) == [("x", [0.0])]
    assert not engine.advance(9.0) and engine.deadline == inf


def _change_of_profile(engine: Engine) -> list[Effect]:
    return [*engine.feed((2.0, FOCUS, Focus("other"))), *engine.feed((2.1, FOCUS, Focus("mine")))]


def _layer(engine: Engine) -> list[Effect]:
    return [*engine.feed((2.0, "pad.shoulder-left", 1)), *engine.feed((2.1, "pad.shoulder-left", 0))]


@pytest.mark.parametrize(
    "meanwhile",
    [
        _change_of_profile, _layer, lambda engine: [*engine.release_all(2.0)], lambda engine: [*engine.toggle_pause(2.0), *engine.toggle_pause(2.1)],
        lambda engine: [*engine.use_plan(2.0, _steering())], lambda engine: [*engine.feed((2.0, UNPLUG, "pad"))],
    ],
)  # fmt: skip
def test_what_ends_steering(meanwhile: Any) -> None:
    """And that the control has to come to rest before it steers again."""
    engine = Engine(_steering())
    engine.feed((1.0, "pad.stick-left.x", 0.8))
    assert _speeds(meanwhile(engine)) == [("x", [0.0])]
    held = _speeds([*engine.feed((3.0, "pad.stick-left.x", 0.9)), *engine.feed((3.1, "pad.stick-left.x", 0.7))])
    gone = "pad" not in engine.circumstances.surfaces  # and with it where its stick is
    assert held == [] or gone
    engine.feed((3.2, "pad.stick-left.x", 0.0))
    assert _speeds(list(engine.feed((3.3, "pad.stick-left.x", 0.5)))) == [("x", [30.0])]


def _steering() -> Plan:
    return _plan(layer={"pad__south": "a"}, pad__stick_left__x="machine jog x rate 60 of rail")


def test_a_held_jog_ends_with_its_profile() -> None:
    engine = Engine(_plan(pad__south="machine jog x at 60 of rail", pad__east="a"))
    began = engine.feed((1.0, "pad.south", 1))
    assert [effect[1:] for effect in began] == [("machine", "begin", "rail", "x", 60.0)]
    engine.feed((1.1, "pad.east", 1))
    gone = engine.feed((2.0, FOCUS, Focus("other")))
    assert [effect[1:4] for effect in gone] == [("machine", "end", "rail"), ("fenko", "profile", "other")]
    assert engine.held == (("keys", "a"),)
    assert [effect[1:] for effect in engine.feed((3.0, "pad.south", 0))] == []


# --- Conditioning ---

_shares = st.floats(0, 1)
_curves = st.one_of(
    st.sampled_from(CURVES),
    st.lists(st.tuples(st.floats(0.01, 0.99), _shares), max_size=4).map(
        lambda inner: (
            (0.0, 0.0),
            *zip(sorted({round(x, 3) for x, _ in inner}), sorted(y for _, y in inner), strict=False),
            (1.0, 1.0),
        )
    ),
)
_tables = st.builds(
    Conditioning, dead_zone=st.floats(0, 0.6), dead_axes=st.floats(0, 0.6), outer=st.floats(0.7, 1), curve=_curves
)


@given(_tables, st.lists(st.floats(-1, 1), min_size=2, max_size=20))
def test_a_position_is_conditioned_within_its_range_and_rises_along_its_curve(
    by: Conditioning, at: list[float]
) -> None:
    shaping = Shaping(by)
    made = [shaping.one(value) for value in sorted(at)]
    assert all(-1 <= value <= 1 for value in made)
    assert all(one <= other + 1e-12 for one, other in pairwise(made))
    for value in at:
        assert shaping.one(-value) == -shaping.one(value)
        assert (shaping.one(value) == 0.0) if abs(value) <= by.dead_zone else True
        if abs(value) >= by.outer and not by.dead_axes:
            assert abs(shaping.one(value)) == 1.0


@given(_tables, st.floats(-1, 1), st.floats(-1, 1))
def test_a_stick_keeps_its_direction_and_rests_in_its_dead_zone(by: Conditioning, x: float, y: float) -> None:
    across, down = Shaping(by).two(x, y)
    assert hypot(across, down) <= 1 + 1e-9
    if hypot(x, y) <= by.dead_zone:
        assert (across, down) == (0.0, 0.0)
    if not by.dead_axes:
        assert abs(across * y - down * x) < 1e-9
        assert across * x >= 0
        assert down * y >= 0


@given(_tables, st.floats(0, 6.28))
def test_there_is_no_step_at_the_edge_of_a_dead_zone(by: Conditioning, angle: float) -> None:
    """Just past the edge hardly anything comes of it: no more than the steepest curve makes of so little."""
    from math import cos, sin

    shaping = Shaping(Conditioning(dead_zone=by.dead_zone, outer=by.outer, curve="steep"))
    just = by.dead_zone + 1e-6
    assert hypot(*shaping.two(cos(angle) * just, sin(angle) * just)) < 1e-4
    assert abs(shaping.one(just)) < 1e-4


@pytest.mark.parametrize(
    ("curve", "half"),
    [("linear", 0.5), ("soft", 0.25), ("steep", 0.75), ("s", 0.5), (((0, 0), (0.5, 0.2), (1, 1)), 0.2)],
)
def test_what_half_the_way_comes_to(curve: Any, half: float) -> None:
    assert Shaping(Conditioning(curve=curve)).one(0.5) == pytest.approx(half)


@pytest.mark.parametrize(
    ("by", "raw", "share"),
    [
        (Conditioning(), 255, 1.0),
        (Conditioning(centre=(0.1, 0.0)), 140, 0.0),  # 140 of 0 … 255 is 0.098
        (Conditioning(centre=(0.1, 0.0)), 255, 1.0),
        (Conditioning(centre=(0.1, 0.0)), 0, -1.0),
        (Conditioning(extent=((-0.8, 0.8), (-1.0, 1.0))), 230, 1.0),
        (Conditioning(inverted=frozenset({"x"})), 255, -1.0),
    ],
)
def test_what_a_device_says_is_calibrated(by: Conditioning, raw: int, share: float) -> None:
    surface = Surface("pad", "gamepad", conditioning={"stick-left": by})
    change = Inputs({"pad": surface}).conditioned((0.0, "pad.stick-left.x", Raw(raw, 0, 255)))
    assert change[2] == pytest.approx(share, abs=0.003)


def test_a_trigger_that_goes_the_other_way_rests_at_its_other_end() -> None:
    by = Conditioning(inverted=frozenset({""}), extent=((0.1, 0.9), (-1.0, 1.0)), dead_zone=0.2)
    inputs = Inputs({"pad": Surface("pad", "gamepad", conditioning={"trigger-left": by})})
    shaping = Shaping(by, one_sided=True)
    made = [shaping.one(inputs.conditioned((0.0, "pad.trigger-left", raw))[2]) for raw in (0.1, 0.25, 0.9, 1.0)]
    assert made == pytest.approx([1.0, 1.0, 0.0, 0.0], abs=0.01)


def test_thresholds_of_ones_own_decide_when_a_direction_is_pressed() -> None:
    by = Conditioning(press=0.3, release=0.2)
    plan = _plan(by, pad__stick_left__up="a", pad__trigger_right="b")
    values = [-0.29, -0.31, -0.21, -0.19]
    effects = _played(plan, *((1.0 + n, "pad.stick-left.y", value) for n, value in enumerate(values)))
    assert [effect[0] for effect in effects] == [2.0, 4.0]
    effects = _played(plan, *((1.0 + n, "pad.trigger-right", -value) for n, value in enumerate(values)))
    assert [effect[0] for effect in effects] == [2.0, 4.0]


# --- Smoothing ---


def test_smoothing_calms_a_trembling_hand_and_does_not_delay_a_fast_one() -> None:
    noise = random.Random(1)
    by = OneEuro(0.03)
    still = [by.at(n / 1000, 0.5 + noise.gauss(0, 0.02)) for n in range(1, 2000)]
    assert max(abs(one - other) for one, other in pairwise(still[500:])) < 0.02
    assert max(still[500:]) - min(still[500:]) < 0.05  # of 0.12 that it trembles
    by = OneEuro(0.03)
    # From 0.1 to 1 in 100 ms: the delay is how much later it is where the hand has been.
    ramp = [(n / 1000, 0.1 + 0.009 * n) for n in range(101)]
    late = [(target - by.at(t, target)) / 9 for t, target in ramp]
    assert max(late[20:]) < 0.008


@given(st.floats(0.001, 0.2), st.lists(st.floats(-1, 1), max_size=20))
def test_a_smoothed_control_at_rest_is_at_rest_at_once(seconds: float, at: list[float]) -> None:
    by = OneEuro(seconds)
    for number, target in enumerate(at):
        assert -1 <= by.at(number / 100, target) <= 1
    assert by.at(len(at) / 100, 0.0) == 0.0


def test_what_is_smoothed_arrives_and_then_costs_nothing() -> None:
    plan = _plan(Conditioning(smooth=0.05), pad__trigger_right="value level follow")
    engine = Engine(plan)
    engine.feed((1.0, "pad.trigger-right", 0.2))
    effects = list(engine.feed((1.01, "pad.trigger-right", 0.8)))
    while engine.deadline < inf:
        assert engine.deadline < 3
        effects += engine.advance(engine.deadline)
    assert len(effects) > 3
    assert engine.values["value", "level"] == pytest.approx(80, abs=0.1)


# --- How far ---


@pytest.mark.parametrize("rate", [60, 125, 250, 1000])
@pytest.mark.parametrize("late", [0.0, 0.03])
def test_the_path_is_speed_times_time_whatever_the_tick(rate: int, late: float) -> None:
    noise = random.Random(rate)
    engine = Engine(_plan(tick=1 / rate, pad__stick_left="pointer 900"))
    effects = list(engine.feed((1.0, "pad.stick-left.x", 0.6)))
    t = 1.0
    while t < 11:
        # A machine that is busy calls late.
        t = max(engine.deadline, t) + noise.random() * late
        effects += engine.advance(min(t, 11.0))
    effects += engine.feed((11.0, "pad.stick-left.x", 0.0))
    assert _moved(effects)[0] == pytest.approx(0.6 * 900 * 10, rel=0.0005)
    assert engine.deadline == inf


def test_a_diagonal_is_as_fast_as_a_straight_line() -> None:
    lengths = []
    for x, y in ((1.0, 0.0), (0.707107, 0.707107), (1.0, 1.0), (-0.6, 0.8)):
        effects = _played(
            _plan(pad__stick_left="pointer 500"), (1.0, "pad.stick-left.x", x), (1.0, "pad.stick-left.y", y),
            (3.0, "pad.stick-left.x", 0), (3.0, "pad.stick-left.y", 0),
        )  # fmt: skip
        lengths.append(hypot(*_moved(effects)))
    assert lengths == pytest.approx([1000] * 4, rel=0.001)


def test_no_fraction_is_lost_in_an_hour() -> None:
    engine = Engine(_plan(pad__stick_left="pointer 1"))
    effects = list(engine.feed((0.0, "pad.stick-left.x", 0.337)))
    while engine.deadline < 3600:
        effects += engine.advance(engine.deadline)
    effects += engine.feed((3600.0, "pad.stick-left.x", 0.0))
    assert _moved(effects)[0] == pytest.approx(0.337 * 3600, abs=0.001)


def test_another_layer_neither_jumps_nor_stops_what_is_deflected() -> None:
    plan = _plan(layer={"pad__stick_left": "pointer 100"}, pad__stick_left="pointer 900")
    engine = Engine(plan)
    changes = [
        (1.0, "pad.stick-left.x", 1.0), (2.0, "pad.shoulder-left", 1), (3.0, "pad.shoulder-left", 0), (4.0, "pad.stick-left.x", 0.0),
    ]  # fmt: skip
    effects: list[Effect] = []
    for change in changes:
        while engine.deadline < change[0]:
            effects += engine.advance(engine.deadline)
        effects += engine.feed(change)
    steps = [(effect[0], effect[3]) for effect in effects if effect[1] == "pointer"]
    assert sum(far for _, far in steps) == pytest.approx(900 + 100 + 900, abs=0.01)
    assert all(other - one < 0.0081 for (one, _), (other, _) in pairwise(steps))
    assert max(far for _, far in steps) <= 7.2001


@pytest.mark.parametrize("other", [("wheel.dial", 1), ("pad.south", 1)])
def test_what_else_is_due_keeps_its_place_among_the_ticks(other: tuple[str, float]) -> None:
    """A stroke that ends between two ticks, and a press that waits for another one, when time passes in one go."""
    plan = _plan(pad__stick_left="pointer 900", wheel__dial__right="ctrl+z", pad__south="a")
    (level,) = plan.profiles[BASE].levels
    both = Cell("pad.east+south", BASE, press=Binding(parse_phrase("b")), members=("pad.east", "pad.south"))
    controls = {**level.controls, "pad.east+south": (both,)}
    plan = Plan(plan.surfaces, {BASE: Profile(BASE, (), (Level(BASE, controls),), {})}, plan.timing, values=VALUES)
    engine = Engine(plan)
    for t in (1.0, 2.0):  # once to be known, and once more
        engine.feed((t, *other))
        if other[0].startswith("pad"):
            engine.feed((t + 0.1, other[0], 0))
        engine.advance(t + 0.5)
    effects = list(engine.feed((3.0, "pad.stick-left.x", 1.0)))
    effects += engine.feed((3.001, "pad.stick-left.x", 0.9))
    effects += engine.feed((3.002, *other))
    effects += engine.advance(3.5)
    assert len([effect for effect in effects if effect[1] == "keys"]) >= 1
    assert [effect[0] for effect in effects] == sorted(effect[0] for effect in effects)


@pytest.mark.parametrize(
    "end", [(2.0, "pad.stick-left.x", 0.0), (2.0, UNPLUG, "pad"), (2.0, FOCUS, Focus("other")), (2.0, "pad.start", 1)]
)
def test_it_stands_still_at_once(end: Change) -> None:
    """At rest, unplugged, with another program in front, paused."""
    plan = _plan(pad__stick_left="pointer 900", pad__start="pause")
    engine = Engine(plan)
    effects = list(engine.feed((1.0, "pad.stick-left.x", 1.0)))
    while engine.deadline < 2.0:
        effects += engine.advance(engine.deadline)
    effects += engine.feed(end)
    assert engine.deadline == inf
    assert _moved(effects)[0] == pytest.approx(900, abs=0.01)


def test_what_was_stopped_moves_again_only_from_rest() -> None:
    plan = _plan(pad__stick_left="pointer 900", pad__start="pause")
    changes = [
        (1.0, "pad.stick-left.x", 1.0), (2.0, "pad.start", 1), (2.1, "pad.start", 0), (3.0, "pad.start", 1), (3.1, "pad.start", 0),
        (4.0, "pad.stick-left.x", 0.9), (5.0, "pad.stick-left.x", 0.0), (6.0, "pad.stick-left.x", 1.0), (7.0, "pad.stick-left.x", 0.0),
    ]  # fmt: skip
    effects = _played(plan, *changes)
    assert _moved([effect for effect in effects if effect[0] < 5.5])[0] == pytest.approx(900, abs=0.01)
    assert _moved(effects)[0] == pytest.approx(1800, abs=0.01)


@pytest.mark.parametrize(
    ("where", "phrase", "changes", "act", "expected"),
    [
        (
            "pad__stick_left__up",
            "scroll 20",
            [("pad.stick-left.y", -0.5), ("pad.stick-left.x", 0.5)],
            "scroll",
            (0, -10),
        ),
        ("pad__stick_left__up", "scroll 20", [("pad.stick-left.y", 0.5)], "scroll", (0, 0)),
        (
            "pad__stick_left__x",
            "pointer 100",
            [("pad.stick-left.y", 0.5), ("pad.stick-left.x", -0.5)],
            "move",
            (-50, 0),
        ),
        ("pad__stick_left", "scroll 10", [("pad.stick-left.x", 0.6), ("pad.stick-left.y", 0.8)], "scroll", (6, 8)),
        ("pad__hat", "pointer 100", [("pad.hat.x", 1), ("pad.hat.y", -1)], "move", (70.71, -70.71)),
        ("pad__hat", "pointer 100", [("pad.hat.right", 1), ("pad.hat.up", 1)], "move", (70.71, -70.71)),
        ("pad__trigger_right", "pointer 100", [("pad.trigger-right", 0.5)], "move", (50, 0)),
        ("wheel__ring", "scroll 8", [("wheel.ring", -0.5)], "scroll", (0, -4)),
    ],
)
def test_where_each_part_of_a_control_goes(
    where: str, phrase: str, changes: list[tuple[str, float]], act: str, expected: tuple[float, float]
) -> None:
    at_rest = [(2.0, address, 0) for address, _ in changes]
    effects = _played(_plan(**{where: phrase}), *((1.0, address, value) for address, value in changes), *at_rest)
    assert _moved(effects, act) == pytest.approx(expected, abs=0.02)


def test_a_mouse_is_slowed_while_a_button_is_held() -> None:
    plan = _plan(layer={"mouse__motion": "pointer x0.5"})
    moves = [
        (1.0, "mouse.motion.x", 10),
        (2.0, "pad.shoulder-left", 1),
        (3.0, "mouse.motion.x", 10),
        (4.0, "mouse.motion.y", -3),
    ]
    steps = [effect[3:] for effect in _played(plan, *moves) if effect[1] == "pointer"]
    assert steps == [(10, 0), (5, 0), (0, -1.5)]


# --- Against a slow model ---

_REPORTS = st.lists(
    st.tuples(
        st.sampled_from(["pad.stick-left.x", "pad.stick-left.y", "pad.stick-right.x", "pad.trigger-right", "pad.trigger-left"]),
        st.sampled_from([0.0, 0.1, -0.3, 0.5, 0.8, -1.0, 1.0]), st.sampled_from([0.0, 0.001, 0.004, 0.0081, 0.1, 1.0]),
    ), max_size=30,
)  # fmt: skip


@settings(max_examples=tries(200))
@given(_REPORTS, st.sampled_from([EXACT, Conditioning(dead_zone=0.2, outer=0.9), Conditioning(curve="soft")]))
def test_random_hands_move_things_as_far_as_a_slow_model_says(
    reports: list[tuple[str, float, float]], by: Conditioning
) -> None:
    """Between two reports every control is where it was said to be, and that is all that matters."""
    plan = _plan(
        by, pad__stick_left="pointer 900", pad__stick_right__x="value level rate -10%", pad__trigger_right="scroll 30",
        pad__trigger_left="pointer 50",
    )  # fmt: skip
    where = dict.fromkeys(["lx", "ly", "rx", "tr", "tl"], 0.0)
    short = {"pad.stick-left.x": "lx", "pad.stick-left.y": "ly", "pad.stick-right.x": "rx", "pad.trigger-right": "tr", "pad.trigger-left": "tl"}  # fmt: skip
    x = y = scrolled = 0.0
    level, t, changes = 50.0, 1.0, []

    def one(value: float) -> float:
        past = max(0.0, min(1.0, (abs(value) - by.dead_zone) / (by.outer - by.dead_zone)))
        made = (past + 2 * past**3) / 3 if by.curve == "soft" else past
        return made if value > 0 else -made

    for address, value, gap in [*reports, *((address, 0.0, 0.0) for address in short)]:
        far = hypot(where["lx"], where["ly"])
        speed = one(far) / far if far else 0.0
        x += (900 * where["lx"] * speed + 50 * one(where["tl"])) * gap
        y += 900 * where["ly"] * speed * gap
        scrolled += 30 * one(where["tr"]) * gap
        level = min(100.0, max(0.0, level - 10 * one(where["rx"]) * gap))
        t = round(t + gap, 6)
        where[short[address]] = max(0.0, value) if "trigger" in address else value
        changes.append((t, address, where[short[address]]))
    effects = _played(plan, *changes)
    assert _moved(effects) == pytest.approx((x, y), abs=0.01)
    assert _moved(effects, "scroll")[1] == pytest.approx(scrolled, abs=0.01)
    assert ([50.0, *_numbers(effects)])[-1] == pytest.approx(level, abs=0.01)


# --- Values ---


def test_a_value_is_set_and_stepped_within_its_range_and_grain() -> None:
    plan = _plan(
        pad__south="value level to 40%",
        pad__east="value level by +70",
        pad__west="value level by -5%",
        pad__north="value grain by +0.3",
    )
    keys = ["south", "west", "east", "east", "north", "north"]
    effects = _played(plan, *((1.0 + n, f"pad.{key}", on) for n, key in enumerate(keys) for on in (1, 0)))
    assert _numbers(effects) == [40, 35, 100]  # the last +70 changes nothing, so nothing is told
    assert _numbers(effects, "grain") == [0.25, 0.5]


@pytest.mark.parametrize(
    ("where", "phrase", "values", "expected"),
    [
        ("pad__trigger_right", "value level follow", [0.0, 0.3, 1.0, 0.0], [30, 100, 0]),
        ("pad__trigger_right", "value level follow 80 to 20", [0.5, 1.0], [20]),
        ("pad__stick_left__x", "value level follow", [-1.0, 1.0], [0, 100]),
        ("pad__stick_left__y", "value level follow", [-1.0, 0.5], [100, 25]),
        ("pad__stick_left__up", "value level follow", [-0.25, 0.5], [25, 0]),
        ("wheel__ring", "value level follow 0% to 10%", [1.0], [10]),
    ],
)
def test_a_value_is_where_the_control_is(where: str, phrase: str, values: list[float], expected: list[float]) -> None:
    address = where.replace("__up", "__y").replace("__", ".").replace("_", "-")
    assert (
        _numbers(_played(_plan(**{where: phrase}), *((1.0 + n, address, v) for n, v in enumerate(values)))) == expected
    )


def test_a_value_is_picked_up_where_the_control_meets_it() -> None:
    plan = _plan(pad__trigger_right="value level follow pick-up", pad__south="value level to 10")
    far = [0.2, 0.4, 0.6, 0.7]  # it is 50 at first
    changes: list[Change] = [(1.0 + n, "pad.trigger-right", value) for n, value in enumerate(far)]
    changes += [
        (6.0, "pad.south", 1),
        (6.1, "pad.south", 0),
        (7.0, "pad.trigger-right", 0.8),
        (8.0, "pad.trigger-right", 0.05),
    ]
    changes += [(9.0, "pad.trigger-right", 0.3)]
    assert _numbers(_played(plan, *changes)) == [60, 70, 10, 5, 30]


_FOLLOWING = st.lists(
    st.one_of(
        st.tuples(st.sampled_from(["pad.trigger-right", "pad.trigger-left"]), st.sampled_from([0.0, 0.1, 0.25, 0.4, 0.5, 0.6, 0.9, 1.0])),
        st.sampled_from([("pad.south", 1), ("pad.east", 1), ("pad.shoulder-left", 1)]),
    ), max_size=30,
)  # fmt: skip


@settings(max_examples=tries(300))
@given(_FOLLOWING)
def test_random_hands_leave_a_value_where_a_slow_model_says(hands: list[tuple[str, float]]) -> None:
    """Two that follow one value, one of them picked up where it is met, and two keys that set it; a layer lets the first one rest."""
    plan = _plan(
        pad__trigger_right="value level follow 20 to 60", pad__trigger_left="value level follow pick-up",
        pad__south="value level to 10", pad__east="value level by +5", layer={"pad__trigger_right": "nothing"},
    )  # fmt: skip
    level, met = 50.0, False
    at = {"pad.trigger-right": 0.0, "pad.trigger-left": 0.0}
    known = False  # where the one that has to meet the value is: not before it has moved for the first time
    changes: list[Change] = []
    expected: list[float] = []
    for n, (address, value) in enumerate(hands):
        before = level
        match address:
            case "pad.south" | "pad.east":
                level = 10.0 if address == "pad.south" else min(100.0, level + 5)
                met = False
            case "pad.trigger-right" if value != at[address]:
                level = 20 + 40 * value
                met = False
            case "pad.trigger-left" if value != at[address]:
                low, high = sorted((100 * (at[address] if known else value), 100 * value))
                known = True
                met = met or low <= level <= high
                level = 100 * value if met else level
        at[address] = value
        changes.append((1.0 + n, address, value))
        if not address.startswith("pad.trigger"):
            changes.append((1.5 + n, address, 0))
        if level != before:
            expected.append(level)
    assert _numbers(_played(plan, *changes)) == pytest.approx(expected)


def test_a_value_that_moves_stays_within_its_range_and_turns_at_once() -> None:
    plan = _plan(wheel__ring="value level rate 30%")
    changes = [(1.0, "wheel.ring", 1.0), (5.0, "wheel.ring", -0.5), (6.0, "wheel.ring", 0.0)]
    effects = _played(plan, *changes)
    at = {effect[0]: effect[4] for effect in effects if effect[1] == "value"}
    assert max(at.values()) == 100
    assert at[6.0] == pytest.approx(85, abs=0.01)
    assert max(t for t in at if t < 5) < 2.7


def test_decibels_are_spread_evenly_over_the_way() -> None:
    value = Value("level", 0, 1, scale="dB")
    assert [value.at(share, 0, 1) for share in (0, 0.5, 2 / 3, 1)] == pytest.approx([0, 10**-1.5, 0.1, 1])


def test_another_plan_keeps_what_values_are() -> None:
    plan = _plan(pad__south="value level to 80")
    engine = Engine(plan)
    engine.feed((1.0, "pad.south", 1))
    narrow = {("value", "level"): Value("level", 0, 60), ("value", "new"): Value("new", start=7)}
    engine.use_plan(2.0, Plan(plan.surfaces, plan.profiles, plan.timing, values=narrow))
    assert engine.values == {("value", "level"): 60, ("value", "new"): 7}


def test_a_stick_that_is_pushed_when_its_value_goes_away_troubles_nothing() -> None:
    plan = _plan(wheel__ring="value level rate 30%")
    engine = Engine(plan)
    effects = list(engine.feed((1.0, "wheel.ring", 0.5)))
    while engine.deadline < 2:
        effects += engine.advance(engine.deadline)
    effects += engine.use_plan(2.0, Plan(plan.surfaces, {BASE: Profile(BASE, (), (), {})}, plan.timing))
    assert _numbers(effects)[-1] == pytest.approx(65, abs=0.01)
    assert engine.deadline == inf and not engine.values
    assert not list(engine.feed((3.0, "wheel.ring", 0.0)))


def test_other_conditioning_while_a_stick_is_deflected_takes_over_at_once() -> None:
    plan = _plan(pad__stick_left="pointer 100")
    engine = Engine(plan)
    effects = list(engine.feed((1.0, "pad.stick-left.x", 0.5)))
    engine.feed((1.0, "pad.south", 1))
    while engine.deadline < 2:
        effects += engine.advance(engine.deadline)
    surface = Surface("pad", "gamepad", conditioning={"stick-left": Conditioning(dead_zone=0.6)})
    effects += engine.use_plan(2.0, Plan({**plan.surfaces, "pad": surface}, plan.profiles, plan.timing, values=VALUES))
    assert engine.deadline == inf
    assert _moved(effects)[0] == pytest.approx(50, abs=0.01)


def test_a_dial_that_is_turned_faster_steps_further_up_to_a_limit(make_desk: MakeDesk) -> None:
    text = """
[surface.knob]
kind = "dial"
control.dial.spin = [[5, 1], [20, 4]]
[value.zoom]
range = [0, 1000]
[profile.base.on.knob]
dial = "value zoom by +1"
"""
    plan = load_desk(make_desk(text)).plan
    times = [1.0, 2.0, 2.08, 2.09, 2.6]  # 1, 12.5, 100 and 2 detents a second
    numbers = _numbers(_played(plan, *((t, "knob.dial", 1) for t in times)), "zoom")
    assert [round(other - one, 6) for one, other in pairwise([0.0, *numbers])] == [1, 1, 2.5, 4, 1]
    # Turned back at once, it comes back: no detent is lost, and slow ones count once.
    assert _numbers(_played(plan, (1.0, "knob.dial", 1), (1.5, "knob.dial", -1), (2.0, "knob.dial", 1)), "zoom") == [
        1,
        0,
        1,
    ]


def test_scrolling_by_a_dial_grows_too_and_keys_do_not(make_desk: MakeDesk) -> None:
    text = """
[surface.knob]
kind = "dial"
control.dial.spin = [[5, 1], [20, 4]]
[profile.base.on.knob]
dial = { right = "scroll down 2 then a", left = "b" }
"""
    effects = _played(load_desk(make_desk(text)).plan, (1.0, "knob.dial", 1), (1.01, "knob.dial", 1))
    assert [effect[4] for effect in effects if effect[2] == "scroll"] == [2, 8]
    assert len([effect for effect in effects if effect[2] == "down"]) == 2


# --- In a desk ---

_DESK = """
[surface.pad]
kind = "gamepad"
[surface.mouse]
kind = "mouse"
[value.level]
range = [-10, 10]
unit = "dB"
"""


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ('[profile.base.on.pad]\nsouth = "pointer 900"', "a button has no way to go"),
        ('[profile.base.on.pad]\nstick-left = "ctrl+z"', "a stick is bound by direction"),
        ('[profile.base.on.pad]\nstick-left = "value level rate 2"', "a stick has two axes"),
        (
            '[profile.base.on.pad.stick-left]\nx = "scroll 2"\nleft = "a"',
            "`x` goes both ways, and `left` is bound too, at desk.toml:11",
        ),
        ('[profile.base.on.pad.stick-left]\nx = "a"', "an axis is no press"),
        ('[profile.base.on.pad.stick-left]\nup-left = "scroll 2"', "a direction between two has no distance"),
        ('[profile.base.on.pad]\nstick-left = "pointer 900 then a"', "a phrase of its own"),
        ('[profile.base.on.pad]\nstick-left = { in-turn = ["pointer 900", "pointer 100"] }', "cannot come in turn"),
        ('[profile.base.on.pad]\nstick-left = "pointer x0.5"', "a factor is for a mouse's `motion`"),
        ('[profile.base.on.mouse]\nmotion = "pointer 900"', "a mouse moves as far as it is moved"),
        ('[profile.base.on.mouse]\nmotion = "a"', "a mouse's motion is no press"),
        ('[profile.base.on.pad]\ntrigger-left = { tap = "scroll 3" }', "it is no gesture's action"),
        ('[profile.base.on.pad]\neast = "value lever to 3"', "did you mean `level`?"),
        ('[profile.base.on.pad]\neast = "value level by +3lux"', "`level` counts in dB"),
        ("[surface.pad.control.stick-left]\npress = 0.3\nrelease = 0.4", "released at 0.4 before it is pressed at 0.3"),
        (
            "[surface.pad.control.stick-left]\ndead-zone = 0.8\nouter = 0.7",
            "the dead zone (0.8) ends where the outer limit",
        ),
        ("[surface.pad.control.stick-left]\ncurve = [[0, 0], [0.5, 0.9], [0.7, 0.2], [1, 1]]", "make no curve"),
        ("[surface.pad.control.stick-left]\ncentre = 0.2", "a number for each axis"),
        ("[surface.pad.control.stick-left]\nrange = [-1, 1]", "two ends, for each axis"),
        ("[surface.pad.control.trigger-left]\nrange = [0.5, 0.4]", "is no range"),
        ("[surface.pad.control.trigger-left]\ncentre = 0.2", "it has no centre"),
        ("[surface.pad.control.south]\npress = 0.2", "a button has no position"),
        ("[surface.pad.control.stick]\npress = 0.2", "a gamepad has no control `stick`"),
        ("[surface.pad.control.stick-left]\nshow = [3, 3]", "both ends are the same"),
        ("[value.zoom]\nrange = [10, 0]", "is no range"),
        ("[surface.mouse.control.wheel]\npress = 0.2", "a wheel turns by steps"),
        ("[surface.mouse.control.wheel]\nspin = [[5, 2], [3, 1]]", "make no curve"),
        ("[surface.pad.control.stick-left]\nspin = [[5, 1], [20, 2]]", "does not turn by steps"),
        ("[value.zoom]\nstart = 120", "`120` is out of its range"),
        ("[value.zoom]\nstep = 0", "is no step in its range"),
    ],
)
def test_what_is_wrong_is_said_where_it_stands(make_desk: MakeDesk, text: str, message: str) -> None:
    with pytest.raises(DeskError) as caught:
        load_desk(make_desk(_DESK + text))
    assert message in caught.value.problems[0].render()
    assert len(caught.value.problems) == 1


def test_a_dial_as_a_whole_steps_both_ways(make_desk: MakeDesk) -> None:
    text = '[surface.knob]\nkind = "dial"\n[profile.base.on.knob]\ndial = "value level by +1.5"\n'
    plan = load_desk(make_desk(_DESK + text)).plan
    assert _numbers(_played(plan, (1.0, "knob.dial", 2), (2.0, "knob.dial", -1))) == [-8.5, -7, -8.5]


@pytest.mark.parametrize(
    ("text", "message"),
    [
        (
            '[profile.base.on.pad]\ntrigger-left = "value level follow"',
            "a trigger springs back to rest, and `level` jumps back",
        ),
        ('[profile.base.on.pad]\nstick-left.x = "value level follow"', "a stick springs back to rest"),
        ('[profile.base.on.pad]\nstick-left = "pointer 60000"', "crosses a screen in 32 ms"),
        ('[profile.base.on.pad]\nstick-left = "pointer 100"', "takes 19 s"),
        ("[surface.pad.control.stick-left]\ndead-zone = 0.6\nouter = 0.8", "only 20% of the way are left"),
        ("[surface.pad.control.stick-left]\npress = 0.5\nrelease = 0.5", "again and again"),
        ("[surface.pad.control.stick-left]\npress = 0.97", "pushed all the way (0.95) before it is pressed"),
        ('[value.zoom]\nstep = 5\n[profile.base.on.pad]\nsouth = "value zoom by +2"', "never changes anything"),
        ('[profile.base.on.pad]\nsouth = "value level to 20"', "never to 20"),
        ("[value.zoom]", "nothing changes `zoom`"),
        (
            '[profile.base.on.pad]\nsouth = "value level by +2"\nstick-left.y = "value level rate 2"',
            "its steps begin anywhere",
        ),
    ],
)
def test_what_will_not_do_what_was_meant_is_named(make_desk: MakeDesk, text: str, message: str) -> None:
    found = judge(load_desk(make_desk(_DESK + text)))
    assert any(message in problem.message for problem in found), found


def test_nothing_is_said_of_what_is_meant(make_desk: MakeDesk) -> None:
    text = """
[profile.base.on.pad]
stick-left = "pointer 900"
trigger-left = { do = "value level follow", spring = true }
[profile.base.layer.slow]
while = "pad.shoulder-left"
on.pad.stick-left = "pointer 100"
[profile.base.on.mouse]
motion = "pointer x0.5"
"""
    assert judge(load_desk(make_desk(_DESK + text))) == []


DOCS = (Path(__file__).parent.parent / "docs/motion.md").read_text()


def test_the_examples_of_the_docs_are_a_desk(make_desk: MakeDesk) -> None:
    blocks = re.findall(r"```toml\n(.*?)```", DOCS, re.DOTALL)
    kinds = '[surface.pad]\nkind = "gamepad"\n[surface.dial]\nkind = "dial"\n[profile.stream]\nwhen = { app = "beamcart" }\n'
    plan = load_desk(make_desk(kinds + "\n".join(blocks))).plan
    by = plan.surfaces["pad"].conditioning["stick-left"]
    assert (by.smooth, by.inverted, by.shown, by.extent[1]) == (0.008, {"y"}, (-1200, 1200), (-1, 0.98))
    assert plan.surfaces["dial"].conditioning["dial"].spin == ((5, 1), (20, 8))


def test_the_docs_name_every_setting_of_positions_and_values() -> None:
    words = [f"`{name}`" for name in (*fields(ControlFile), *fields(ValueFile))]
    assert [word for word in words if word not in DOCS and f"\n{word[1:-1]} " not in DOCS] == []


@pytest.mark.parametrize(
    ("setting", "came"),
    [('moves = "left 90"', "got:      right 90"), ('moves = "right 90 scroll down 1"', "got:      right 90 scroll down 5"),
     ("values = { level = 5 }", "got:      level = -4"), ('moves = "sideways"', "says nowhere to go"), ("values = { lever = 5 }", "unknown value `lever`")],
)  # fmt: skip
def test_a_desk_can_say_what_has_to_move(make_desk: MakeDesk, fenko: Run, setting: str, came: str) -> None:
    text = (
        _DESK
        + f"""
[profile.base.on.pad]
stick-left = "pointer 900"
stick-right.y = "scroll 50"
trigger-left = {{ do = "value level rate 60", spring = true }}
[[expect]]
do = ["push pad.stick-left 0.19 for 1s", "push pad.stick-right 0 0.19 for 1s", "push pad.trigger-left 0.1 for 1s"]
{setting}
"""
    )
    result = fenko("check", "--desk", str(make_desk(text)))
    assert result.returncode in (1, 2)
    assert came in result.stdout + result.stderr


@pytest.mark.parametrize(
    ("step", "message"),
    [("push pad.stick-left 1.5", "`1.5` is no place"), ("push pad.south 1", "is no stick"), ("push pad.trigger-left -0.5", "no place on its way: 0 to 1"),
     ("push pad.stick-left", "the form is"), ("push pad.stick-left 1 for ever", "ever")],
)  # fmt: skip
def test_a_push_that_nobody_can_do(step: str, message: str) -> None:
    with pytest.raises(ScriptError) as caught:
        parse_hand_step(step, {"pad": Surface("pad", "gamepad")})
    assert message in str(caught.value)


def test_the_table_tells_how_far_things_moved_and_the_lines_tell_each_tick(fenko: Run) -> None:
    take = str(DEMO / "takes/evening.jsonl")
    table = fenko("rehearse", take, "--desk", str(DEMO)).stdout
    assert re.search(
        r"pad stick-left move +stream +Pointer · pointer 1400 +pointer right 365.\d+ down 139.\d+ over \d+ms", table
    )
    lines = map(json.loads, fenko("rehearse", take, "--desk", str(DEMO), "--format", "jsonl").stdout.splitlines())
    moves = [line for line in lines if line["out"] == "pointer" and line["act"] == "move" and 41 < line["t"] < 42]
    assert sum(line["dx"] for line in moves) == pytest.approx(365.08, abs=0.01)
    assert all(0.0079 < other["t"] - one["t"] < 0.0081 for one, other in pairwise(moves[:-1]))


def test_a_take_that_is_played_live_is_calibrated_as_in_a_rehearsal() -> None:
    """Also one of the first format, which tells shares."""
    plan = _plan(Conditioning(centre=(0.1, 0.0)), pad__stick_left="pointer 1000")
    changes = [(1.0, "pad.stick-left.x", 0.1), (2.0, "pad.stick-left.x", 0.55), (3.0, "pad.stick-left.x", 0.1)]
    sent: list[Effect] = []
    with Loop() as loop:
        inbox = Inbox(Engine(plan), loop, sent.extend, lambda: None)
        for change in changes:
            inbox.put([change])
    assert _moved(sent)[0] == pytest.approx(500, abs=0.01)
    assert _moved(sent) == pytest.approx(_moved(_played(plan, *changes)), abs=0.01)
