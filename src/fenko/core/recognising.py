"""Recognises which control a person means by using it, and how: pressed, held, several at once, twice, turned."""

from __future__ import annotations

from math import inf

from msgspec import Struct

from fenko.core.axes import Detents, pressed_end
from fenko.core.changes import OUTSIDE, UNPLUG, Change
from fenko.core.controls import BUTTON, MOTION, TOUCH_AREA
from fenko.core.descriptions import burst_name
from fenko.core.plan import Surface, Timing

_MOST = 3  # presses in a row that mean something


class Meant(Struct, frozen=True):
    """What somebody did: the surface, the parts of the control's name under it (`hat`, `left`), and the gesture. `press`
    is a short one; whether a desk calls that a tap depends on what else is bound there."""

    surface: str
    control: tuple[str, ...]
    gesture: str

    @property
    def words(self) -> str:
        """In words."""
        gesture = "" if self.gesture == "press" else f" {self.gesture}"
        return f"{self.surface} {'.'.join(self.control)}{gesture}"


class Recogniser:
    """Is fed changes until `meant` says something. Time is that of the changes; `settle` lets it pass."""

    def __init__(self, surfaces: dict[str, Surface], timing: Timing) -> None:
        self._surfaces = surfaces
        self._timing = timing
        self._ends: dict[str, int] = {}
        self._detents: dict[str, Detents] = {}
        self.forget()

    def forget(self) -> None:
        """Begins anew. What is still down is not pressed again."""
        self.meant: Meant | None = None
        self.due = inf
        self._down: dict[str, float] = {}
        self._together: dict[str, None] = {}
        self._cell = ""
        self._count = 0
        self._burst = 0
        self._pressed_at = -inf

    def feed(self, change: Change) -> None:
        """Takes a change into account."""
        t, address, value = change
        self.settle(t)
        if self.meant is not None or (address in OUTSIDE and address != UNPLUG):
            return
        if address == UNPLUG:
            self.forget()
            return
        name, _, rest = address.partition(".")
        surface = self._surfaces.get(name)
        control, _, part = rest.partition(".")
        shape = surface.shape(control) if surface is not None else None
        if surface is None or shape is None or shape is MOTION or (shape is TOUCH_AREA and part):
            return
        whole = f"{name}.{control}"
        if shape.turns:
            turned = self._detents.setdefault(whole, Detents()).turn(value)
            if turned:
                self.meant = Meant(name, (control, shape.turns[turned > 0]), "press")
        elif shape in (BUTTON, TOUCH_AREA) or part in shape.directions:
            self._switch(t, address, bool(value))
        else:
            ends = shape.axes[part]
            before = self._ends.get(address, 0)
            now = self._ends[address] = pressed_end(value, before)
            for end, on in ((before, False), (now, True)) if now != before else ():
                if end and (cell := ends[end > 0]) is not None:
                    self._switch(t, f"{whole}.{cell}" if cell else whole, on)

    def settle(self, now: float) -> None:
        """What is due by now is decided."""
        if now < self.due or self.meant is not None:
            return
        self.due = inf
        if self._down:
            self.meant = self._named("hold")
        else:
            self.meant = self._named(("press", "double", "triple")[self._count - 1])

    def _switch(self, t: float, cell: str, on: bool) -> None:
        if on:
            self._press(t, cell)
        elif cell in self._down:
            self._release(t, cell)

    def _press(self, t: float, cell: str) -> None:
        if not self._down and cell == self._cell and self._count:
            self._burst = self._burst + 1 if t - self._pressed_at < self._timing.burst else 0
            self._count += 1
        elif not self._down:
            self._together = {}
            self._count, self._burst = 1, 0
        self._cell, self._pressed_at = cell, t
        self._down[cell] = t
        self._together[cell] = None
        self.due = t + self._timing.hold if self._can_be_held(cell) else inf

    def _can_be_held(self, cell: str) -> bool:
        """Sticks and triggers are pushed for as long as it takes; several at once are held until they are let go."""
        surface, control, *_ = cell.split(".")
        shape = self._surfaces[surface].shape(control)
        return len(self._together) == 1 and self._count == 1 and shape is BUTTON

    def _release(self, t: float, cell: str) -> None:
        del self._down[cell]
        if len(self._together) > 1:
            self.meant = self._named("press")
            self.due = inf
        elif self._count == _MOST and not self._burst:
            self.meant = self._named("triple")
            self.due = inf
        else:
            self.due = t + (self._timing.double if self._burst < 1 else self._timing.burst * 2)

    def _named(self, gesture: str) -> Meant:
        surface = self._cell.partition(".")[0]
        cells = [cell.partition(".")[2] for cell in self._together if cell.startswith(f"{surface}.")]
        if len(cells) == 1:
            control, _, direction = cells[0].partition(".")
            if self._burst:
                return Meant(surface, (burst_name(control, self._burst + 1),), "press")
            return Meant(surface, (control, direction) if direction else (control,), gesture)
        controls = {cell.partition(".")[0] for cell in cells}
        if len(controls) == 1:
            (control,) = controls
            shape = self._surfaces[surface].shape(control)
            directions = {cell.partition(".")[2] for cell in cells}
            for diagonal, parts in (shape.diagonals if shape else {}).items():
                if set(parts) == directions:
                    return Meant(surface, (control, diagonal), "press")
            cells = cells[-1:]
            return Meant(surface, tuple(cells[0].split(".")), "press")
        return Meant(surface, ("+".join(cells),), "press")
