"""What a binding waits for, and how long: the price of every other thing that a press could still become."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from fenko.core.plan import Cell, Timing
from fenko.core.stack import Stack


class Delay(Struct, frozen=True):
    """How long a gesture takes to act: `seconds` after the hand's `moment` (press or release), because of `reason`."""

    gesture: str
    seconds: float
    moment: str
    reason: str


def delays(stack: Stack, cell: Cell, usual: Timing) -> Iterator[Delay]:
    """The delay of every gesture of a cell that does not act at once; `usual` are the times of the desk."""
    if not (cell.waits or stack.combines):
        return
    timing = cell.timing or usual
    before, why = _before(stack, cell, usual)
    for gesture, _ in cell.gestures():
        if gesture == "hold":
            yield Delay(gesture, timing.hold, "press", "it has to be held so long")
        elif gesture == "tap" and cell.presses_counted > 1:
            several = "double" if cell.double is not None else "triple"
            yield Delay(gesture, timing.double, "release", f"it could become a {several}")
        elif gesture == "double" and cell.triple is not None:
            yield Delay(gesture, timing.double, "release", "it could become a triple")
        elif gesture == "press" and before:
            yield Delay(gesture, before, "press", why)


def _before(stack: Stack, cell: Cell, usual: Timing) -> tuple[float, str]:
    """How long it takes until the press itself is believed, and why."""
    address = cell.address
    own = set(cell.members)
    larger = [
        chord
        for chord in stack.chords(next(iter(cell.members), address))
        if chord.address != address and own < set(chord.members)
    ]
    found: list[tuple[float, str]] = []
    if larger:
        names = " or ".join(_named(chord.address) for chord in larger)
        found.append((max((chord.timing or usual).chord for chord in larger), f"it could be a part of {names}"))
    bursts = stack.bursts(address)
    if bursts:
        names = " or ".join(_named(several.address) for several in bursts.values())
        found.append((max((several.timing or usual).burst for several in bursts.values()), f"it could become {names}"))
    control, _, direction = address.rpartition(".")
    between = stack.diagonals(control) if direction and not own else {}
    if between and direction not in between:
        found.append(
            (
                max((one.timing or usual).chord for one in between.values()),
                "it could be on the way to a direction between two",
            )
        )
    return max(found, default=(0.0, ""))


def _named(address: str) -> str:
    return f"`{address.partition('.')[2]}`"
