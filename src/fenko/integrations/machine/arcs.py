"""Arcs of a machine program: whether one can be at all, and how far it reaches (RS274/NGC, section 3.5.3: G2 and G3)."""

from __future__ import annotations

from collections.abc import Mapping
from math import atan2, hypot, pi, sqrt

from fenko.integrations.machine.gcode import GcodeError

PLANES = {"G17": ("x", "y"), "G18": ("z", "x"), "G19": ("y", "z")}
"""The axes of each plane, in the order in which anticlockwise goes from the first to the second."""
_OFFSETS = {"x": "I", "y": "J", "z": "K"}
_LEAST, _SHARE = 0.005, 0.001
"""How much the two radii of an arc may differ: in mm, and as a share of them; an arc is wrong that is beyond both."""


def check_words(words: Mapping[str, float], plane: tuple[str, str]) -> None:
    """Whether a line says how round its arc is. Raises GcodeError."""
    offsets = [_OFFSETS[axis] for axis in plane]
    given = [letter for letter in offsets if letter in words]
    other = next((letter for letter in _OFFSETS.values() if letter in words and letter not in offsets), None)
    if other is not None:
        raise GcodeError(f"`{other}` is no part of the plane of this arc ({' '.join(plane)})", 1)
    if "R" in words and given:
        raise GcodeError(f"an arc has a radius (`R`) or a centre (`{given[0]}`), not both", 1)
    if "R" not in words and not given:
        raise GcodeError(f"an arc needs its centre (`{offsets[0]}`, `{offsets[1]}`) or its radius (`R`)", 1)
    if "R" in words and not words["R"]:
        raise GcodeError("an arc with the radius 0 goes nowhere", 1)
    if given and not any(words[letter] for letter in given):
        raise GcodeError("the centre of an arc cannot be where it starts", 1)


def reach(
    words: Mapping[str, float],
    plane: tuple[str, str],
    clockwise: bool,
    start: tuple[float, float],
    end: tuple[float, float],
    scale: float,
) -> tuple[tuple[float, float], tuple[float, float]]:
    """The least and the most of both axes of the plane on the way from `start` to `end` (mm); letters count in `scale` mm.
    Raises GcodeError where there is no such arc."""
    if "R" in words:
        centre = _centre(words["R"] * scale, clockwise, start, end)
    else:
        one, two = (words.get(_OFFSETS[axis], 0.0) * scale for axis in plane)
        centre = (start[0] + one, start[1] + two)
    first, last = (hypot(place[0] - centre[0], place[1] - centre[1]) for place in (start, end))
    apart = abs(first - last)
    if apart > _LEAST and apart > _SHARE * max(first, last):
        raise GcodeError(f"the centre is {first:g} mm from the start of the arc and {last:g} mm from its end", 1)
    at, until = (atan2(place[1] - centre[1], place[0] - centre[0]) for place in (start, end))
    if clockwise:
        at, until = until, at
    turn = (until - at) % (2 * pi) or 2 * pi
    found = []
    for axis in (0, 1):
        ends = [start[axis], end[axis]]
        for quarter, way in ((axis * pi / 2, 1.0), (axis * pi / 2 + pi, -1.0)):
            if (quarter - at) % (2 * pi) <= turn:
                ends.append(centre[axis] + way * first)
        found.append((min(ends), max(ends)))
    return found[0], found[1]


def _centre(
    radius: float, clockwise: bool, start: tuple[float, float], end: tuple[float, float]
) -> tuple[float, float]:
    """The centre of an arc by its radius; a negative one goes the longer way round."""
    across, up = end[0] - start[0], end[1] - start[1]
    apart = hypot(across, up)
    if apart == 0:
        raise GcodeError("an arc by its radius cannot end where it starts: give its centre", 1)
    if apart > 2 * abs(radius) * (1 + _SHARE):
        raise GcodeError(
            f"the ends of the arc are {apart:g} mm apart, which a radius of {abs(radius):g} mm cannot reach", 1
        )
    off = sqrt(max(0.0, radius**2 - (apart / 2) ** 2)) / apart
    side = -off if clockwise == (radius > 0) else off
    return (start[0] + end[0]) / 2 - up * side, (start[1] + end[1]) / 2 + across * side
