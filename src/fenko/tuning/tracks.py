"""A take, taken apart by control: where each axis was when, and when each button went down and up."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
from msgspec import Struct

from fenko.core.changes import OUTSIDE, Change
from fenko.core.controls import BUTTON, MOTION, Shape
from fenko.core.inputs import Inputs, Raw
from fenko.core.plan import Surface, unconditioned

Numbers = np.ndarray[Any, np.dtype[np.float64]]


class Track(Struct, frozen=True):
    """One control with a position: the times (s) at which it changed, and where it was from then on, as shares of what the
    device can say (`x`, and `y` where it has two axes). `grain` is the smallest step that the device tells, of one share."""

    control: str
    shape: Shape
    t: Numbers
    x: Numbers
    y: Numbers
    grain: float

    @property
    def lasted(self) -> Numbers:
        """How long it was at each place, in seconds; the last place counts for nothing."""
        return np.append(np.diff(self.t), 0.0)


class Presses(Struct, frozen=True):
    """A button: each change with its time, True for down."""

    control: str
    t: Numbers
    on: np.ndarray[Any, np.dtype[np.bool_]]


class Turns(Struct, frozen=True):
    """A dial or wheel: each detent with its time; negative ones the other way."""

    control: str
    t: Numbers
    by: Numbers


class Tracks(Struct, frozen=True):
    """All controls of one surface."""

    positions: dict[str, Track]
    buttons: dict[str, Presses]
    turning: dict[str, Turns]


def tracks_of(surface: Surface, changes: Iterable[Change]) -> Tracks:
    """What a take tells of one surface, whatever the desk makes of its positions."""
    inputs = Inputs({surface.name: unconditioned(surface)})
    points: dict[str, list[tuple[float, float, float]]] = {}
    grains: dict[str, float] = {}
    shapes: dict[str, Shape] = {}
    presses: dict[str, list[tuple[float, bool]]] = {}
    turns: dict[str, list[tuple[float, float]]] = {}
    for change in changes:
        t, address, value = change
        if address in OUTSIDE or address.partition(".")[0] != surface.name:
            continue
        found = inputs[address]
        control = found.control.partition(".")[2]
        if found.shape is BUTTON:
            name = address.partition(".")[2]
            presses.setdefault(name, []).append((t, bool(value)))
        elif found.shape is MOTION:
            continue
        elif found.shape.turns:
            turns.setdefault(control, []).append((t, float(value)))
        else:
            shapes[control] = found.shape
            if isinstance(value, Raw):
                way = value.most - value.least
                grains[control] = (1.0 if found.one_sided else 2.0) / max(1, way)
            share = float(inputs.conditioned(change)[2])
            _, x, y = points.setdefault(control, [(t, 0.0, 0.0)])[-1]
            points[control].append((t, x, share) if found.part == "y" else (t, share, y))
    return Tracks(
        {name: _track(name, shapes[name], found, grains.get(name, 0.0)) for name, found in points.items()},
        {
            name: Presses(name, np.array([t for t, _ in found]), np.array([on for _, on in found], dtype=bool))
            for name, found in presses.items()
        },
        {
            name: Turns(name, np.array([t for t, _ in found]), np.array([by for _, by in found]))
            for name, found in turns.items()
        },
    )


def _track(name: str, shape: Shape, points: list[tuple[float, float, float]], grain: float) -> Track:
    # Of several changes at one time (both axes in one report) the last is where it is.
    kept = [one for one, after in zip(points, [*points[1:], None], strict=True) if after is None or after[0] > one[0]]
    t, x, y = (np.array(column, dtype=float) for column in zip(*kept, strict=True))
    return Track(name, shape, t, x, y, grain)
