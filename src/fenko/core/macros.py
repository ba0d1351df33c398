"""Turns what was performed on a keyboard into a phrase: one shortcut, or a macro with its order and its times."""

from __future__ import annotations

from collections.abc import Iterable

from fenko.core.keys import MODIFIERS
from fenko.core.phrase import Phrase, counted
from fenko.core.registration import Said
from fenko.core.verbs.keys import Keys, Lift, Press
from fenko.core.verbs.waiting import Wait

LEAST_WAIT = 0.02
"""Seconds; a pause that is shorter is not worth a word."""
_ROUND = 0.01  # s

Stroke = tuple[float, str, bool]
"""When a key changed, which one (as a phrase spells it), and whether it went down."""


def recorded(strokes: Iterable[Stroke], timed: bool = False) -> Phrase | None:
    """The phrase that does the same; with `timed`, also its pauses. None if no key went down.

    Without times, keys other than modifiers are struck in the order in which they went down: hands that type fast press
    the next one before they let go of the last, and mean nothing by it. What came up without having gone down is left
    out, and what stayed down comes up with the end of the action."""
    steps: list[Said] = []
    down: set[str] = set()
    last: float | None = None
    for t, key, on in strokes:
        if on == (key in down):
            continue  # the keyboard repeats, or a key was down before
        pause = round((t - last) / _ROUND) * _ROUND if last is not None else 0.0
        if timed and pause >= LEAST_WAIT:
            steps.append(Wait(round(pause, 3)))
        last = t
        (down.add if on else down.discard)(key)
        if timed or key in MODIFIERS:
            steps.append(Press((key,)) if on else Lift((key,)))
        elif on:
            steps.append(Keys((key,)))
    simple = counted(_joined(_struck(steps)))
    return Phrase(tuple(simple)) if simple else None


def _struck(steps: list[Said]) -> list[Said]:
    """A key that goes down and comes straight up again is struck."""
    found: list[Said] = []
    for step in steps:
        if isinstance(step, Lift) and found and isinstance(last := found[-1], Press) and last.keys == step.keys:
            found[-1] = Keys(step.keys)
        else:
            found.append(step)
    return found


def _joined(steps: list[Said]) -> list[Said]:
    """Modifiers that are down for one stroke alone, or for none, belong together, in whatever order hands let go:
    `press ctrl then s then lift ctrl` is `ctrl+s`."""
    at = 0
    while at < len(steps):
        presses = 0
        while at + presses < len(steps) and _is_modifier(steps[at + presses], Press):
            presses += 1
        after = at + presses
        held = [step.keys[0] for step in steps[at:after] if isinstance(step, Press)]
        struck: tuple[str, ...] = ()
        if presses and after < len(steps) and isinstance(middle := steps[after], Keys):
            struck, after = middle.keys, after + 1
        lifts = steps[after : after + presses]
        lifted = [step.keys[0] for step in lifts if _is_modifier(step, Lift) and isinstance(step, Lift)]
        if presses and sorted(lifted) == sorted(held) and not set(held) & set(struck):
            steps = [*steps[:at], Keys((*held, *struck)), *steps[after + presses :]]
        at += 1
    return steps


def _is_modifier(step: Said, kind: type[Press | Lift]) -> bool:
    return isinstance(step, kind) and step.keys[0] in MODIFIERS
