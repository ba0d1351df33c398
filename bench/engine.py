"""The engine against a bare loop that looks the code up in a dict and builds the same two tuples."""

from __future__ import annotations

import time
from collections.abc import Sequence
from math import hypot
from typing import Any

from bench.rows import Row, ratio_of
from fenko.core.changes import Change
from fenko.core.controls import KINDS
from fenko.core.engine import Engine
from fenko.core.phrase import parse_phrase
from fenko.core.plan import BASE, Binding, Cell, Level, Plan, Profile, Surface
from fenko.core.plan import Layer as Layered

CHANGES = 200_000
ROUNDS = 9
_FEWER = 40_000


def _plan(profiles: int, bindings: int) -> tuple[Plan, list[str]]:
    surfaces = {"keys": Surface("keys", "keypad")}
    controls = [f"keys.{name}" for name in sorted(KINDS["keypad"] - {"dial", "wheel"})[:bindings]]
    action = Binding(parse_phrase("ctrl+z"))
    base = Level(BASE, {control: (Cell(control, BASE, action),) for control in controls})
    compiled = {BASE: Profile(BASE, (), (base,), {})}
    for number in range(profiles - 1):
        name = f"profile-{number}"
        level = Level(name, {control: (Cell(control, name, action),) for control in controls})
        compiled[name] = Profile(name, (), (base, level), {})
    return Plan(surfaces, compiled), controls


def _rich_plan(bindings: int) -> tuple[Plan, list[str]]:
    """A profile with that many buttons, layers, a stick, a dial and a chord."""
    surfaces = {"keys": Surface("keys", "keypad"), "pad": Surface("pad", "gamepad")}
    controls = [f"keys.{name}" for name in sorted(KINDS["keypad"] - {"dial", "wheel"})[:bindings]]
    action = Binding(parse_phrase("ctrl+z"))
    on: dict[str, tuple[Cell, ...]] = {control: (Cell(control, BASE, action),) for control in controls}
    on["keys.dial"] = tuple(Cell(f"keys.dial.{way}", BASE, action) for way in ("left", "right"))
    on["pad.stick-left"] = tuple(Cell(f"pad.stick-left.{way}", BASE, action) for way in ("left", "right", "up", "down"))
    for one in ("south", "east"):
        on[f"pad.{one}"] = (Cell(f"pad.{one}", BASE, action),)
    on["pad.east+south"] = (Cell("pad.east+south", BASE, action, members=("pad.east", "pad.south")),)
    layer = {control: (Cell(control, f"{BASE}/trim", action),) for control in controls[: bindings // 2]}
    layers = {"trim": Layered((Level(f"{BASE}/trim", layer),)), "coarse": Layered((Level(f"{BASE}/coarse", {}),))}
    return Plan(surfaces, {BASE: Profile(BASE, (), (Level(BASE, on),), layers)}), controls


def _timed(engine: Engine, changes: Sequence[Change]) -> float:
    feed = engine.feed
    start = time.perf_counter()
    for change in changes:
        feed(change)
    return time.perf_counter() - start


def measure() -> list[Row]:
    """The two engine rows, and those beside the common case."""
    large, controls = _plan(200, 100)
    small, few = _plan(1, 10)
    # The same ten controls for every side, so that only the size of the desk differs.
    changes = [(number * 0.01, few[number // 2 % len(few)], 1 - number % 2) for number in range(CHANGES)]
    table = dict.fromkeys(controls, ("ctrl", "z"))

    def engine(plan: Plan) -> float:
        return _timed(Engine(plan), changes)

    def bare(changes: Sequence[Change] = changes) -> float:
        start = time.perf_counter()
        for change in changes:
            t, control, value = change
            keys = table[control]
            if value:
                effects = ((t, "keys", "down", keys[0]), (t, "keys", "down", keys[1]))
            else:
                effects = ((t, "keys", "up", keys[1]), (t, "keys", "up", keys[0]))
        assert effects
        return time.perf_counter() - start

    against_bare, ours, loop = ratio_of(lambda: engine(large), bare, ROUNDS)
    sizes, _, _ = ratio_of(lambda: engine(small), lambda: engine(large), ROUNDS)
    nanoseconds = f"{ours / CHANGES * 1e9:.0f} ns against {loop / CHANGES * 1e9:.0f} ns a change"
    return [
        Row(
            "engine, a button change with a keys binding, 200 profiles × 100 bindings",
            f"{against_bare:.2f} × ({nanoseconds})", "≤ 2 × a bare loop", against_bare <= 2,
        ),
        Row(
            "the same with 1 profile × 10 bindings", f"{sizes:.2f} × the row above", "within 10 % of it",
            abs(sizes - 1) <= 0.1,
        ),
        *_beside(lambda: bare(changes[:_FEWER])),
        _moving(),
    ]  # fmt: skip


def _moving() -> Row:
    """A stick that moves the pointer, at 1000 reports a second, against a loop that does the same arithmetic."""
    stick = Cell("pad.stick-left", BASE, move=Binding(parse_phrase("pointer 900")))
    plan = Plan(
        {"pad": Surface("pad", "gamepad")},
        {BASE: Profile(BASE, (), (Level(BASE, {"pad.stick-left": (stick,)}),), {})},
    )
    reports = [
        (1 + n * 0.001, "pad.stick-left.x" if n % 2 else "pad.stick-left.y", 0.2 + n % 25 / 100) for n in range(_FEWER)
    ]

    def ours() -> float:
        engine = Engine(plan)
        feed, advance = engine.feed, engine.advance
        start = time.perf_counter()
        for report in reports:
            if engine.deadline <= report[0]:
                advance(report[0])
            feed(report)
        return time.perf_counter() - start

    def bare() -> float:
        place = {"pad.stick-left.x": 0, "pad.stick-left.y": 1}
        at, since, due = [0.0, 0.0], 1.0, 1.008
        speed_x = speed_y = far_x = far_y = 0.0
        start = time.perf_counter()
        for t, address, value in reports:
            passed = t - since
            since = t
            far_x += speed_x * passed
            far_y += speed_y * passed
            if t >= due:
                effect = (t, "pointer", "move", round(far_x, 3), round(far_y, 3))
                far_x -= effect[3]
                far_y -= effect[4]
                due += 0.008
            at[place[address]] = value
            x, y = at
            distance = hypot(x, y)
            past = (distance - 0.1) / 0.9
            if past > 0:
                scale = min(1.0, past) / distance * 900
                speed_x, speed_y = x * scale, y * scale
            else:
                speed_x = speed_y = 0.0
        return time.perf_counter() - start

    ratio, mine, theirs = ratio_of(ours, bare, 5)
    seen = f"{ratio:.1f} × ({mine / _FEWER * 1e9:.0f} ns against {theirs / _FEWER * 1e9:.0f} ns a report)"
    return Row(
        "engine, a stick that moves the pointer, 1000 reports a second",
        seen,
        "≤ 2 × a loop with the same arithmetic",
        ratio <= 2,
    )


def _beside(bare: Any) -> list[Row]:
    """What is not the common case: each a number of changes, set against as many of the bare loop."""
    rows = []
    plan, controls = _rich_plan(100)
    tenth, _ = _rich_plan(10)
    few = controls[:10]
    buttons = [(1 + number * 0.01, few[number // 2 % 9], 1 - number % 2) for number in range(_FEWER)]
    stick = [(1 + number * 0.001, "pad.stick-left.x", 0.6 + number % 30 / 100) for number in range(_FEWER)]
    both = ("pad.south", "pad.east")
    chord = [
        (1 + number // 4 * 0.1 + number % 4 * 0.001, both[number % 2], int(number % 4 < 2)) for number in range(_FEWER)
    ]
    dial = [(1 + number * 0.1, "keys.dial", 1) for number in range(_FEWER)]
    hurried = [(1 + number * 0.004, "keys.dial", 1) for number in range(_FEWER)]

    def told(*_: object) -> None:
        pass

    def fresh(plan: Plan, listener: bool = False, held: bool = False, layers: bool = False) -> Engine:
        engine = Engine(plan, told if listener else None)
        if held:
            engine.feed((0.0, controls[9], 1))
        for layer in ("trim", "coarse") if layers else ():
            engine.lock_layer(0.0, layer)
        return engine

    for what, changes, most, kind in (
        ("with a listener", buttons, 3, {"listener": True}),
        ("while another key is held", buttons, 3, {"held": True}),
        ("while two layers are on", buttons, 3, {"layers": True}),
        ("a stick that moves within one direction", stick, 5, {}),
        ("two pressed at once, each change", chord, 15, {}),
        ("a dial's detent", dial, 15, {}),
        ("a dial's detent, turned fast", hurried, 15, {}),
    ):
        ratio, ours, _ = ratio_of(lambda kind=kind, changes=changes: _timed(fresh(plan, **kind), changes), bare, 5)
        flat, _, _ = ratio_of(
            lambda kind=kind, changes=changes: _timed(fresh(plan, **kind), changes),
            lambda kind=kind, changes=changes: _timed(fresh(tenth, **kind), changes),
            5,
        )
        seen = f"{ratio:.1f} × ({ours / _FEWER * 1e9:.0f} ns); {flat:.2f} × that of a desk a tenth as large"
        rows.append(Row(f"engine, {what}", seen, f"≤ {most} ×, and flat", ratio <= most and flat <= 1.25))
    return rows
