"""Where changes arrive: each address taken apart once, and what a device says of it turned into what the engine knows."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from fenko.core.changes import Change
from fenko.core.controls import BUTTON, TOUCH_AREA, Shape
from fenko.core.plan import Surface


class Raw(NamedTuple):
    """What a device says of an axis: its value, and the least and the most that it can be."""

    value: int
    least: int
    most: int


class Input(NamedTuple):
    """An address: the control, as an address of its own, which part of it, and how that acts. `one_sided`: its value goes
    from 0 to 1, not from -1."""

    control: str
    part: str
    shape: Shape
    one_sided: bool

    def share(self, raw: Raw) -> float:
        """Where an axis stands: 0 to 1 for one-sided ones, -1 to 1 for all others."""
        value, least, most = raw
        if most <= least:
            return 0.0
        share = max(0.0, min(1.0, (value - least) / (most - least)))
        if self.one_sided:
            return share
        # The middle of an even number of steps (0 to 255) lies between two values; both are the centre.
        middle = (least + most) / 2
        return 0.0 if abs(value - middle) < 1 and most - least > 8 else 2 * share - 1


class Inputs(dict[str, Input]):
    """The inputs of these surfaces, by their address; each is taken apart when it is first asked for."""

    def __init__(self, surfaces: Mapping[str, Surface]) -> None:
        super().__init__()
        self._surfaces = surfaces
        self._calibrated = {
            (name, control): by
            for name, surface in surfaces.items()
            for control, by in surface.conditioning.items()
            if by.calibrates
        }

    def __missing__(self, address: str) -> Input:
        surface, _, rest = address.partition(".")
        control, _, part = rest.partition(".")
        shape = self._surfaces[surface].shape(control) or BUTTON
        one_sided = part in shape.axes and shape.axes[part][0] is None
        if shape is TOUCH_AREA:
            return self.setdefault(address, Input(f"{surface}.{control}", part, shape, True))
        if part in shape.directions and part not in shape.axes:
            shape = BUTTON  # a direction that has a switch of its own
        found = self[address] = Input(f"{surface}.{control}", part, shape, one_sided)
        return found

    @property
    def calibrates(self) -> bool:
        """Whether some position is not simply what the device says."""
        return bool(self._calibrated)

    def conditioned(self, change: Change) -> Change:
        """The change as the engine takes it: of an axis where it is, calibrated."""
        t, address, value = change
        raw = value.__class__ is Raw
        if not raw and not self._calibrated:
            return change
        if raw:
            value = self[address].share(value)
        if self._calibrated:
            surface, _, rest = address.partition(".")
            control, _, part = rest.partition(".")
            by = self._calibrated.get((surface, control))
            if by is not None and part in self[address].shape.axes:
                one_sided = self[address].one_sided
                value = by.calibrated(int(part == "y"), one_sided, part in by.inverted, value)
        return (t, address, value)
