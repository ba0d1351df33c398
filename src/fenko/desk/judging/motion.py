"""Judgements on what goes on as long as a control is off its rest, and on the values that it drives."""

from __future__ import annotations

from collections.abc import Iterator

from fenko.core.axes import FULL_AT
from fenko.core.controls import FADER
from fenko.core.phrase import steps_of
from fenko.core.plan import Binding, Cell, control_of
from fenko.core.steps import Follow, Item, Move, Rate, Set, Steady, Step
from fenko.core.value import Value
from fenko.core.verbs import spelled
from fenko.desk.judging.case import Case

SCREEN = 1920.0
"""Pixels that a pointer has to cross."""
SLOWEST, FASTEST = SCREEN / 5, SCREEN / 0.05
"""Pixels a second: the screen in 5 s, and in 50 ms."""
LEAST_WAY = 0.3
"""Of the way of a control that has to be left between dead zone and outer limit."""
LEAST_APART = 0.02
"""Of the way between press and release, or a trembling hand presses again and again."""


def conditioned(case: Case) -> None:
    """Conditioning that leaves too little of the way, or flutters."""
    for surface in case.plan.surfaces.values():
        for control, by in surface.conditioning.items():
            table = case.desk.sources.data["surface"][surface.name]["control"]
            written = next((name for name in (control, surface.kernel_name(control)) if name in table), control)
            path = ("surface", surface.name, "control", str(written))
            left = by.outer - by.dead_zone
            if left < LEAST_WAY:
                case.note("dead zones that eat the range", path,
                          f"between dead zone and outer limit only {left:.0%} of the way are left", "warning", "a smaller dead zone")  # fmt: skip
            if by.press - by.release < LEAST_APART:
                case.note("thresholds that overlap", path,
                          f"pressed at {by.press:g} and released at {by.release:g}: a trembling hand presses it again and again", "warning", f"a release at {max(0.0, by.press - 0.1):g}")  # fmt: skip
            if by.press >= FULL_AT:
                case.note("thresholds that overlap", path,
                          f"it is pushed all the way ({FULL_AT:g}) before it is pressed ({by.press:g})", "warning", f"a press before {FULL_AT:g}")  # fmt: skip


def moving(case: Case) -> None:
    """Values that jump back, and pointers that are too slow or too fast."""
    fast: set[str] = set()
    slow: list[tuple[Cell, float]] = []
    for cell, binding, step in _driven(case):
        surface, _, own = control_of(cell.address).partition(".")
        shape = case.plan.surfaces[surface].shape(own)
        if isinstance(step, Follow) and shape is not FADER and shape is not None and not binding.spring:
            name = spelled(step.target)
            verb = f"value {name}" if step.target[0] == "value" else name
            case.note("values that jump back", case.place(cell, "move"),
                      f"a {shape.name} springs back to rest, and `{name}` jumps back with it", "warning",
                      f"`{verb} rate 30%`, or `spring = true` if that is meant", key=False)  # fmt: skip
        if isinstance(step, Move) and step.act == "move":
            if step.speed > FASTEST:
                case.note("pointers that nobody can follow", case.place(cell, "move"),
                          f"at {step.speed:g} px/s the pointer crosses a screen in {SCREEN / step.speed * 1000:.0f} ms", "warning",
                          "about 1000", key=False)  # fmt: skip
            elif step.speed >= SLOWEST:
                fast.add(control_of(cell.address))
            else:
                slow.append((cell, step.speed))
    for cell, speed in slow:
        if control_of(cell.address) not in fast:
            case.note("pointers that take long", case.place(cell, "move"),
                      f"at {speed:g} px/s the pointer takes {SCREEN / speed:.0f} s from one side of a screen to the other",
                      expected="about 1000; slower in a layer", key=False)  # fmt: skip


def values(case: Case) -> None:
    """Values that nothing drives, steps that change nothing, and ranges that are cut off."""
    stepped: dict[Item, float] = {}
    moved: set[Item] = set()
    for path, phrase in case.desk.phrases:
        for step in steps_of(phrase):
            if not isinstance(step, Set | Follow | Rate):
                continue
            item = step.target
            name, value = spelled(item), case.plan.values[item]
            if isinstance(step, Set) and step.step:
                far = abs(value.number(step.amount, change=True))
                stepped[item] = far
                if far < value.step / 2:
                    case.note("steps that change nothing", path,
                              f"never changes anything: `{name}` goes by {value.step:g}, and {far:g} is less than half of that", "warning",
                              f"{value.step:g}", key=False)  # fmt: skip
            else:
                moved.add(item)
                for end in () if value.free else _ends(step, value):
                    if not value.least <= end <= value.most:
                        case.note("ends beyond the range", path, f"`{name}` goes from {value.least:g} to {value.most:g}, and never to {end:g}", "warning", key=False)  # fmt: skip
    for item, value in case.plan.values.items():
        out, name = item
        if out == "value" and item not in stepped and item not in moved:
            case.note("values that nothing changes", ("value", name), f"nothing changes `{name}`")
        elif out == "value" and item in stepped and item in moved and not value.step:
            case.note("values that lie between their steps", ("value", name),
                      f"`{name}` is stepped by {stepped[item]:g} and also moved freely, so its steps begin anywhere",
                      expected=f"`step = {stepped[item]:g}`")  # fmt: skip


def _driven(case: Case) -> Iterator[tuple[Cell, Binding, Steady]]:
    for level in case.levels.values():
        for cell, gesture, binding in case.bound[level.name]:
            step = steps_of(binding.phrase)[0] if gesture == "move" else None
            if isinstance(step, Steady):
                yield cell, binding, step


def _ends(step: Step, value: Value) -> list[float]:
    match step:
        case Set(amount=amount):
            return [value.number(amount)]
        case Follow(low=low, high=high):
            return [*value.ends(low, high)]
        case _:
            return []
