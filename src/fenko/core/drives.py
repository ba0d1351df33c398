"""What a part of a control (the whole, an axis, a direction) drives as long as it is off its rest."""

from __future__ import annotations

from fenko.core.controls import TOWARDS
from fenko.core.plan import Binding, Cell
from fenko.core.steps import Steady


class Drive:
    """One binding of that sort. `part` is empty for the whole control; `one_sided`: it goes from 0 to 1."""

    __slots__ = ("binding", "cell", "one_axis", "one_sided", "part", "step")

    def __init__(self, cell: Cell, binding: Binding, step: Steady, part: str, one_axis: bool, one_sided: bool) -> None:
        self.cell = cell
        self.binding = binding
        self.step = step
        self.part = part
        self.one_axis = one_axis
        self.one_sided = one_sided

    def along(self, x: float, y: float) -> float:
        """How far along the part a control at `x`, `y` is: -1 to 1, right and up are more; 0 to 1 along a direction."""
        if self.part in TOWARDS:
            across, down = TOWARDS[self.part]
            return max(0.0, x * across + y * down)
        return -y if self.part == "y" else x

    def share(self, x: float, y: float) -> float:
        """How far that is from one end of the part to the other: 0 to 1."""
        along = self.along(x, y)
        return along if self.one_sided or self.part in TOWARDS else (along + 1) / 2

    def way(self, act: str, x: float, y: float) -> tuple[float, float]:
        """Which way, and how fast of 1, this moves the pointer or scrolls: across and down. A control with one axis moves
        the pointer across, and scrolls down."""
        if not self.part:
            return (0.0, x) if self.one_axis and act == "scroll" else (x, y)
        if self.part in TOWARDS:
            along = self.along(x, y)
            across, down = TOWARDS[self.part]
            return across * along, down * along
        return (x, 0.0) if self.part == "x" else (0.0, y)
