"""What a desk says of a machine, in mm and seconds: its link, how it is talked to, its axes, its step sizes."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from msgspec import Struct

from fenko.integrations.machine.explained import Machine
from fenko.integrations.machine.gcode import MM_PER_INCH
from fenko.integrations.machine.planner import AxisLimits

UNITS = {"mm": 1.0, "inch": MM_PER_INCH, "degree": 1.0}
"""What axes are counted in, and how many mm (of turning axes: degrees) that is."""
USUAL_UNIT, USUAL_DIALECT = "mm", "grbl"
USUAL_ACCELERATION = 100.0
"""Units a second squared."""
USUAL_STEP_SIZES = (0.1, 1.0, 10.0)
AXIS_NAMES = "xyzabc"


class MachineSettings(Struct, frozen=True):
    """One machine. `axes` have the soft limits for their travel; a unit of `units` is so many mm; `safe_height` is mm of z."""

    name: str
    link: str
    dialect: str
    axes: dict[str, AxisLimits]
    units: dict[str, str]
    step_sizes: tuple[float, ...] = USUAL_STEP_SIZES
    safe_height: float | None = None
    stop_with_focus: bool = False

    def unit(self, axis: str) -> float:
        """How many mm one unit of an axis is."""
        return UNITS[self.units[axis]]

    def shown(self, axis: str, mm: float) -> str:
        """A place or a way along an axis, with its unit."""
        return f"{round(mm / self.unit(axis), 4) + 0.0:g} {self.units[axis]}"

    def machine(self, homed: bool = True, position: Mapping[str, float] | None = None) -> Machine:
        """What a program is read for."""
        return Machine(self.axes, self.safe_height, homed, position or {})


def settings_of(name: str, entry: Mapping[str, Any]) -> MachineSettings:
    """The settings of a `[machine.NAME]`. Raises ValueError with what is wrong."""
    try:
        return _read(name, entry)
    except (KeyError, TypeError, AttributeError, IndexError):
        raise ValueError("its table is faulty") from None  # which is noted where it stands when the desk is read


def _read(name: str, entry: Mapping[str, Any]) -> MachineSettings:
    axes: dict[str, AxisLimits] = {}
    units: dict[str, str] = {}
    written = entry.get("axis") or {}
    for axis in [*AXIS_NAMES, *written]:
        if axis not in written or axis in axes:
            continue
        if axis not in AXIS_NAMES:
            raise ValueError(f"an axis is x, y, z, a, b or c, not `{axis}`")
        one = written[axis]
        units[axis] = str(one.get("unit", USUAL_UNIT))
        scale = UNITS[units[axis]]
        travel, limits = _ends(one["travel"], f"the travel of {axis}"), one["travel"]
        if "limits" in one:
            limits = _ends(one["limits"], f"the limits of {axis}")
            if limits[0] < travel[0] or limits[1] > travel[1]:
                raise ValueError(f"the limits of {axis} lie outside its travel")
        fastest, acceleration = float(one["fastest"]), float(one.get("acceleration", USUAL_ACCELERATION))
        if fastest <= 0 or acceleration <= 0:
            raise ValueError(f"the speed and the acceleration of {axis} are more than nothing")
        axes[axis] = AxisLimits(limits[0] * scale, limits[1] * scale, fastest * scale / 60, acceleration * scale)
    if not axes:
        raise ValueError("it has no axis")
    sizes = tuple(float(size) for size in entry.get("step-sizes", USUAL_STEP_SIZES))
    if not sizes or min(sizes) <= 0:
        raise ValueError("step sizes are more than nothing")
    height = entry.get("safe-height")
    if height is not None and "z" not in axes:
        raise ValueError("a safe height is one of z, and it has no z")
    return MachineSettings(
        name,
        str(entry.get("link", "")),
        str(entry.get("dialect", USUAL_DIALECT)),
        axes,
        units,
        sizes,
        None if height is None else float(height) * UNITS[units["z"]],
        bool(entry.get("stop-with-focus")),
    )


def _ends(ends: list[float], what: str) -> tuple[float, float]:
    if not ends[0] < ends[1]:
        raise ValueError(f"{what} is none: {ends}")
    return float(ends[0]), float(ends[1])
