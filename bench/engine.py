"""The engine against a bare loop that looks the code up in a dict and builds the same two tuples."""

from __future__ import annotations

import time

from bench.rows import Row, ratio_of
from fenko.core.controls import KINDS
from fenko.core.engine import Engine
from fenko.core.phrase import parse_phrase
from fenko.core.plan import BASE, Binding, Cell, Level, Plan, Profile, Surface

CHANGES = 200_000
ROUNDS = 9


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


def measure() -> list[Row]:
    """The two engine rows."""
    large, controls = _plan(200, 100)
    small, few = _plan(1, 10)
    # The same ten controls for every side, so that only the size of the desk differs.
    changes = [(number * 0.01, few[number // 2 % len(few)], 1 - number % 2) for number in range(CHANGES)]
    table = dict.fromkeys(controls, ("ctrl", "z"))

    def engine(plan: Plan) -> float:
        feed = Engine(plan).feed
        start = time.perf_counter()
        for change in changes:
            effects = feed(change)
        assert effects
        return time.perf_counter() - start

    def bare() -> float:
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
    ]  # fmt: skip
