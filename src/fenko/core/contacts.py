"""From what devices tell to cells that are pressed and let go: bounce, thresholds of axes, directions between two.

`pressed` is told (time, cell, on) of every cell; what that means is the engine's business. What is decided later, such as
a contact that may bounce back, waits here with the time at which it is due.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from functools import partial
from math import inf

from fenko.core.axes import FULL_AT, FULL_UNTIL, pressed_end
from fenko.core.controls import BUTTON, Shape
from fenko.core.pending import Edge, Lean
from fenko.core.plan import Surface, Tables

Due = tuple[float, int, Callable[[float], None]]
"""When something is due, its place among those of one time, and what happens then."""


class Contacts:
    """The buttons and axes of all surfaces. `window` (seconds) is how long a single direction waits for a second one;
    `number` gives what begins now its place among what is due at one time; `tables` are those in force."""

    def __init__(
        self,
        surfaces: Mapping[str, Surface],
        window: float,
        number: Callable[[], int],
        pressed: Callable[[float, str, bool], None],
        tables: Tables,
    ) -> None:
        self.tables = tables
        self._surfaces = surfaces
        self._window = window
        self._number = number
        self._pressed = pressed
        self._edges: dict[str, Edge] = {}
        self._leans: dict[str, Lean] = {}
        self._ends: dict[str, int] = {}
        self._fulls: dict[str, int] = {}

    def button(self, t: float, address: str, control: str, on: bool) -> None:
        """A button, or one direction of a control that has switches of its own, changed. Of contacts that may bounce the
        first change counts at once, one back within the surface's `debounce` does not."""
        debounce = self._surfaces[address.partition(".")[0]].debounce
        if not debounce:
            self._switch(t, address, control, on)
            return
        edge = self._edges.get(address)
        if edge is None:
            edge = self._edges[address] = Edge(-inf, not on, self._number())
        edge.raw = on
        if t - edge.t >= debounce:
            self._settle_edge(t, address, control, edge)
        else:
            edge.due = edge.t + debounce if on != edge.applied else inf

    def _settle_edge(self, t: float, address: str, control: str, edge: Edge) -> None:
        edge.due = inf
        if edge.raw != edge.applied:
            edge.applied, edge.t = edge.raw, t
            self._switch(t, address, control, edge.raw)

    def axis(self, t: float, address: str, control: str, shape: Shape, value: float) -> None:
        """An axis moved: it presses the cells at its ends, half the way and all of it."""
        ends = shape.axes[address[len(control) + 1 :]]
        before, full_before = self._ends.get(address, 0), self._fulls.get(address, 0)
        now, full = pressed_end(value, before), pressed_end(value, full_before, FULL_AT, FULL_UNTIL)
        self._ends[address], self._fulls[address] = now, full
        if full_before and full != full_before:
            self._pressed(t, f"{_end(control, ends, full_before)}.full", False)
        for end, on in ((before, False), (now, True)) if now != before else ():
            if end and ends[end > 0] is not None:
                whole = _end(control, ends, end)
                self._pressed(t, f"{whole}.half", on)
                self._switch(t, whole, control, on)
        if full and full != full_before and ends[full > 0] is not None:
            self._pressed(t, f"{_end(control, ends, full)}.full", True)

    def _switch(self, t: float, address: str, control: str, on: bool) -> None:
        """A control, or one direction of it, is pressed or let go."""
        if address == control:
            self._pressed(t, address, on)
        else:
            self._push(t, control, address[len(control) + 1 :], on)

    def _push(self, t: float, control: str, direction: str, on: bool) -> None:
        """A stick or hat is pushed in a direction, or no longer."""
        lean = self._leans.get(control)
        if lean is None:
            if control not in self.tables.diagonals:
                self._pressed(t, f"{control}.{direction}", on)
                return
            lean = self._leans[control] = Lean(self._number())
        from_rest = not lean.pushed
        (lean.pushed.add if on else lean.pushed.discard)(direction)
        if from_rest and on:
            # The other direction of a diagonal comes in the same moment, but as a change of its own.
            lean.due = t + self._window
            return
        diagonals = self._shape(control).diagonals
        if lean.pushed and not on and any(applied in diagonals for applied in lean.applied):
            # And it goes in the same moment too; what is left of the two was probably not meant.
            self._follow(t, control, lean, set())
            lean.due, lean.leaving = t + self._window, True
            return
        if lean.due < inf and not lean.pushed and not lean.leaving:
            self._follow(t, control, lean, {direction})
        self._follow(t, control, lean, lean.pushed)

    def _follow(self, t: float, control: str, lean: Lean, pushed: set[str]) -> None:
        """Presses the cells that these directions mean, and lets the others go."""
        lean.due, lean.leaving = inf, False
        wanted = sorted(pushed)
        for diagonal, parts in self._shape(control).diagonals.items():
            cell = self.tables.table.get(f"{control}.{diagonal}")
            if cell is not None and any(cell.gestures()) and pushed >= set(parts):
                wanted = [diagonal]
        for direction in [direction for direction in lean.applied if direction not in wanted]:
            self._pressed(t, f"{control}.{direction}", False)
        for direction in [direction for direction in wanted if direction not in lean.applied]:
            self._pressed(t, f"{control}.{direction}", True)
        lean.applied = wanted
        if not lean.pushed and not wanted:
            self._leans.pop(control, None)

    def _shape(self, control: str) -> Shape:
        """How a control, by its whole address, acts."""
        surface, _, own = control.partition(".")
        return self._surfaces[surface].shape(own) or BUTTON

    def all_due(self) -> Iterator[Due]:
        """What is still to be decided."""
        for address, edge in self._edges.items():
            control = ".".join(address.split(".")[:2])
            yield edge.due, edge.order, partial(self._settle_edge, address=address, control=control, edge=edge)
        for control, lean in self._leans.items():
            yield lean.due, lean.order, partial(self._follow, control=control, lean=lean, pushed=lean.pushed)

    def silence(self) -> Iterator[tuple[str, bool]]:
        """What hands hold stays known, and nothing comes of it any more: decides what is undecided, and gives out each
        button of which that is, with whether it is down."""
        for lean in self._leans.values():
            lean.due, lean.leaving, lean.applied = inf, False, sorted(lean.pushed)
        for address, edge in self._edges.items():
            if edge.due < inf:
                edge.due, edge.applied = inf, edge.raw
                yield address, edge.raw

    def unplug(self, surface: str) -> None:
        """Forgets the contacts of a surface that went away."""
        for known in (self._edges, self._leans, self._ends, self._fulls):
            for address in [address for address in known if address.startswith(f"{surface}.")]:
                del known[address]


def _end(control: str, ends: tuple[str | None, str], end: int) -> str:
    """The cell at an end of an axis."""
    cell = ends[end > 0]
    return f"{control}.{cell}" if cell else control
