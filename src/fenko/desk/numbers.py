"""What a desk says of positions and numbers: how controls are conditioned, and the values that they can drive."""

from __future__ import annotations

from itertools import pairwise
from typing import Any, TypeGuard

from fenko.core.conditioning import WHOLE, Conditioning, Extent, Points
from fenko.core.controls import MOTION, SENSOR, SHAPED, TOUCH_AREA
from fenko.core.plan import UNTOUCHED, USUAL, Surface
from fenko.core.steps import Item
from fenko.core.value import Value
from fenko.core.words import nearest
from fenko.desk.locate import KeyPath
from fenko.desk.model import LIMITS
from fenko.desk.sources import Sources
from fenko.desk.times import read_time

MOST = 1e9
TALKING = frozenset({"sort", "coding", "bits", "shows-value"})
"""What is said of a control besides how its positions are conditioned: how it talks."""


def read_conditioning(sources: Sources, surface: Surface, table: dict[str, Any]) -> dict[str, Conditioning]:
    """How the controls of a surface are conditioned, by the desk's names of them; what is wrong is noted."""
    found: dict[str, Conditioning] = {}
    for name, entry in table.items():
        path: KeyPath = ("surface", surface.name, "control", name)
        kernel = surface.kernel_name(name)
        shape = surface.shape(name)
        if kernel is None or shape is None:
            known = [*surface.names, *surface.shapes, *SHAPED]
            message = f"a {surface.kind} has no control `{name}`"
            sources.add(path, message, at_key=True, nearest=nearest(name, known))
        elif shape.turns and isinstance(entry, dict):
            for key in entry.keys() - {"spin", *TALKING}:
                sources.add(
                    (*path, key), f"a {shape.name} turns by steps and has no position", at_key=True, expected="spin"
                )
            found[surface.own_name(kernel)] = Conditioning(spin=_spin(sources, (*path, "spin"), entry.get("spin")))
        elif not shape.axes or shape in (MOTION, SENSOR, TOUCH_AREA):
            if isinstance(entry, dict) and entry and not entry.keys() - TALKING:
                continue
            sources.add(
                path, f"a {shape.name} has no position", at_key=True, expected="a stick, trigger, ring, hat or fader"
            )
        elif isinstance(entry, dict):
            own = surface.own_name(kernel)
            if own in found:
                sources.add(path, f"`{own}` is described twice", at_key=True)
            if "spin" in entry:
                sources.add(
                    (*path, "spin"), f"a {shape.name} does not turn by steps", at_key=True, expected="a dial or wheel"
                )
            reader = _Reader(sources, path, entry, tuple(shape.axes), "" in shape.axes and shape.axes[""][0] is None)
            found[own] = reader.conditioning(USUAL.get(shape.name, UNTOUCHED))
    return found


class _Reader:
    """Reads what is said of one control with these axes."""

    def __init__(
        self, sources: Sources, path: KeyPath, entry: dict[str, Any], axes: tuple[str, ...], one_sided: bool
    ) -> None:
        self._sources = sources
        self._path = path
        self._entry = entry
        self._axes = axes
        self._one_sided = one_sided

    def conditioning(self, by: Conditioning) -> Conditioning:
        """As it says, and where it says nothing as `by` does."""
        dead = self._share("dead-zone", by.dead_zone, 0, 0.9)
        outer = self._share("outer", 1.0, 0.1, 1)
        if outer <= dead:
            self._add("outer" if "outer" in self._entry else "dead-zone",
                      f"the dead zone ({dead:g}) ends where the outer limit ({outer:g}) begins", "an outer limit beyond it")  # fmt: skip
            outer = 1.0
        press = self._share("press", by.press, 0.05, 1)
        usual = min(by.release, press)
        release = self._share("release", usual, 0, 1)
        if release > press:
            message = f"it would be released at {release:g} before it is pressed at {press:g}"
            self._add("release", message, f"at most {press:g}")
            release = usual
        smooth = read_time(self._sources, (*self._path, "smooth"), self._entry.get("smooth"), *LIMITS["smooth"])
        return Conditioning(
            self._centre(), self._extent(), dead, self._share("dead-axes", 0.0, 0, 0.9), outer, self._curve(), smooth or 0.0,
            self._inverted(), press, release, self._shown(),
        )  # fmt: skip

    def _add(self, key: str, message: str, expected: str | None = None) -> None:
        self._sources.add((*self._path, key), message, expected=expected)

    def _share(self, key: str, usual: float, least: float, most: float) -> float:
        number = self._entry.get(key)
        if not _is_number(number):
            return usual
        if not least <= number <= most:
            self._add(key, f"`{number:g}` is out of range", f"{least:g} to {most:g}")
            return usual
        return float(number)

    def _centre(self) -> tuple[float, float]:
        value: Any = self._entry.get("centre")
        pair: list[Any] = value if isinstance(value, list) else [value, 0.0]
        if value is None or len(pair) != 2 or not all(map(_is_number, pair)):
            return (0.0, 0.0)
        if isinstance(value, list) != (len(self._axes) == 2) or self._one_sided:
            what = "it has no centre; where it rests is the first number of its range" if self._one_sided else None
            self._add("centre", what or "a centre has a number for each axis", f"{len(self._axes)} of them")
        elif not all(-0.5 <= number <= 0.5 for number in pair):
            self._add("centre", f"`{value}` is out of range", "-0.5 to 0.5")
        else:
            return float(pair[0]), float(pair[1])
        return (0.0, 0.0)

    def _extent(self) -> tuple[Extent, Extent]:
        value = self._entry.get("range")
        if not isinstance(value, list):
            return (WHOLE, WHOLE)
        pairs = value if all(isinstance(pair, list) for pair in value) else [value]
        if len(pairs) != len(self._axes) or not all(len(pair) == 2 and all(map(_is_number, pair)) for pair in pairs):
            self._add(
                "range",
                "a range has its two ends, for each axis",
                "[-0.97, 0.95]" if len(self._axes) == 1 else "[[-0.97, 0.95], [-1, 0.98]]",
            )
            return (WHOLE, WHOLE)
        centre = self._centre()
        for axis, (least, most) in enumerate(pairs):
            good = 0 <= least < most - 0.1 and most <= 1 if self._one_sided else -1 <= least < centre[axis] - 0.1 and centre[axis] + 0.1 < most <= 1  # fmt: skip
            if not good:
                expected = (
                    "0 to 1, with a way between"
                    if self._one_sided
                    else "-1 to 1, with a way on both sides of the centre"
                )
                self._add("range", f"`{[least, most]}` is no range", expected)
                return (WHOLE, WHOLE)
        found = [(float(least), float(most)) for least, most in pairs]
        return found[0], found[1] if len(found) > 1 else WHOLE

    def _curve(self) -> str | Points:
        return read_points(self._sources, (*self._path, "curve"), self._entry.get("curve"))

    def _inverted(self) -> frozenset[str]:
        value = self._entry.get("invert")
        if isinstance(value, bool):
            return frozenset(self._axes) if value else frozenset()
        axes = [axis for axis in value if isinstance(axis, str)] if isinstance(value, list) else []
        if axes and self._axes == ("",):
            self._add("invert", "it has one axis", "true")
            return frozenset()
        return frozenset(axes) & {*self._axes}

    def _shown(self) -> Extent | None:
        value = self._entry.get("show")
        if not isinstance(value, list) or len(value) != 2 or not all(map(_is_number, value)):
            return None
        if value[0] == value[1]:
            self._add("show", "both ends are the same")
            return None
        return float(value[0]), float(value[1])


def _points_of(value: Any) -> Points | None:
    """The points that a list says; None, which is noted with the structure, or nothing at all, for anything else."""
    if not isinstance(value, list) or not all(
        isinstance(point, list) and len(point) == 2 and all(map(_is_number, point)) for point in value
    ):
        return None
    return tuple((float(x), float(y)) for x, y in value)


def _rises(points: Points) -> bool:
    return len(points) >= 2 and all(x0 < x1 and y0 <= y1 for (x0, y0), (x1, y1) in pairwise(points))


_MOST_TIMES = 1000


def _spin(sources: Sources, path: KeyPath, value: Any) -> Points:
    points = _points_of(value)
    if points is None:
        return ()
    if not _rises(points) or points[0][0] < 0 or points[0][1] <= 0 or points[-1][1] > _MOST_TIMES:
        expected = f"points that rise, of a rate in detents a second and a factor up to {_MOST_TIMES}"
        sources.add(path, "these points make no curve", expected=expected)
        return ()
    return points


def read_points(sources: Sources, path: KeyPath, value: Any) -> str | Points:
    """A curve by its name or its points; linear, which is noted, where the points make none."""
    if isinstance(value, str):
        return value
    points = _points_of(value)
    if points is None:
        return "linear"
    if not _rises(points) or points[0] != (0, 0) or points[-1] != (1, 1):
        sources.add(path, "these points make no curve", expected="points that rise from [0, 0] to [1, 1]")
        return "linear"
    return points


def read_values(sources: Sources, table: dict[str, Any]) -> dict[Item, Value]:
    """The values of a desk; what is wrong is noted."""
    found: dict[Item, Value] = {}
    for name, entry in table.items():
        path: KeyPath = ("value", name)
        if not isinstance(entry, dict):
            continue
        extent = entry.get("range", [0, 100])
        if not isinstance(extent, list) or len(extent) != 2 or not all(map(_is_number, extent)):
            extent = [0, 100]
        least, most = map(float, extent)
        if not least < most:
            sources.add((*path, "range"), f"`{extent}` is no range", expected="the least first")
            least, most = 0.0, 100.0
        start = entry.get("start", least)
        if not _is_number(start):
            start = least
        if not least <= start <= most:
            sources.add((*path, "start"), f"`{start:g}` is out of its range", expected=f"{least:g} to {most:g}")
            start = least
        step = entry.get("step", 0)
        if "step" in entry and _is_number(step) and not 0 < step <= most - least:
            sources.add(
                (*path, "step"),
                f"`{step:g}` is no step in its range",
                expected=f"more than 0, at most {most - least:g}",
            )
            step = 0
        unit = entry.get("unit", "")
        scale = read_points(sources, (*path, "scale"), entry.get("scale"))
        found["value", name] = Value(
            name, least, most, float(start), float(step) if _is_number(step) else 0.0, unit if isinstance(unit, str) else "", scale,
            entry.get("keep") is True,
        )  # fmt: skip
    return found


def _is_number(value: Any) -> TypeGuard[float]:
    return isinstance(value, int | float) and not isinstance(value, bool) and abs(value) <= MOST
