"""Where changes arrive: each address taken apart once, and what a device says of it turned into what the engine knows."""

from __future__ import annotations

from collections.abc import Mapping
from math import isfinite
from typing import NamedTuple

from fenko.core.changes import Change
from fenko.core.conditioning import Conditioning
from fenko.core.controls import BUTTON, MOTION, SENSOR, TOUCH_AREA, TOWARDS, Shape
from fenko.core.plan import Surface


class Raw(NamedTuple):
    """What a device says of an axis: its value, and the least and the most that it can be."""

    value: int
    least: int
    most: int


NONE = Shape("none")
"""Of an address that is no part of its control: nothing comes of what arrives there."""


class Input(NamedTuple):
    """An address: the control, as an address of its own, which part of it, and how that acts. `one_sided`: its value goes
    from 0 to 1, not from -1. `calibration` is what the desk says of where it rests and how far it goes, if anything."""

    control: str
    part: str
    shape: Shape
    one_sided: bool
    calibration: Conditioning | None = None

    def takes(self, value: object) -> bool:
        """Whether a control of this shape can have such a value: what a board or another computer sends is not believed."""
        if self.shape is NONE or self.shape in (MOTION, SENSOR, TOUCH_AREA):
            return False
        if isinstance(value, Raw):
            return self.part in self.shape.axes
        if self.shape.turns:
            return isinstance(value, int | float) and isfinite(value)
        return value in (0, 1)

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
        self.calibrates = any(by.calibrates for surface in surfaces.values() for by in surface.conditioning.values())
        """Whether some position is not simply what the device says."""

    def __missing__(self, address: str) -> Input:
        surface, _, rest = address.partition(".")
        control, _, part = rest.partition(".")
        known = self._surfaces[surface]
        shape = known.shape(control) or BUTTON
        one_sided = shape is TOUCH_AREA or (part in shape.axes and shape.axes[part][0] is None)
        by = known.conditioning_of(control) if part in shape.axes else None
        if part in shape.directions and part in TOWARDS and part not in shape.axes:
            shape = BUTTON  # a direction that has a switch of its own
        elif part not in (shape.axes or ("",)) and not (shape is TOUCH_AREA and not part):
            shape = NONE  # a touch area without a part says whether a finger is on it
        calibration = by if by is not None and by.calibrates else None
        found = self[address] = Input(f"{surface}.{control}", part, shape, one_sided, calibration)
        return found

    def conditioned(self, change: Change) -> Change:
        """The change as the engine takes it: of an axis where it is, calibrated."""
        t, address, value = change
        raw = value.__class__ is Raw
        if not raw and not (self.calibrates and "." in address):
            return change
        place = self[address]
        if raw:
            value = place.share(value)
        if (by := place.calibration) is not None:
            value = by.calibrated(int(place.part == "y"), place.one_sided, place.part in by.inverted, value)
        return (t, address, value)
