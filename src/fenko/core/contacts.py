"""From what devices tell to cells that are pressed and let go: bounce, thresholds of axes, directions between two.

`pressed` is told (time, cell, on, since, order) of every cell; what that means is the engine's business. `since` is when
the hand did it and `order` its place among all that began, where that was before the time at which it is believed.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial
from math import inf

from fenko.core.agenda import Agenda, Waiting, after
from fenko.core.axes import FULL_AT, FULL_UNTIL, pressed_end
from fenko.core.controls import BUTTON, Shape
from fenko.core.plan import Cell, Plan, Surface, Timing, control_of
from fenko.core.stack import Stack

Pressed = Callable[[float, str, bool, float, float], None]


class Edge:
    """The last change of a contact that may bounce: when, to what, and how it stands."""

    __slots__ = ("applied", "raw", "t", "waiting")

    def __init__(self, on: bool, waiting: Waiting) -> None:
        self.t = -inf
        self.applied = not on
        self.raw = on
        self.waiting = waiting


class Push:
    """Where a stick or hat is pushed: the directions in the order in which they came, and the cells that are pressed
    because of them. `waiting` is set while a single direction has to be believed: one that comes from rest since `since`,
    or what is left of two."""

    __slots__ = ("applied", "pushed", "since", "waiting")

    def __init__(self, waiting: Waiting) -> None:
        self.pushed: list[str] = []
        self.applied: list[str] = []
        self.since = -inf
        self.waiting = waiting


class Contacts:
    """The buttons and axes of all surfaces. `stack` is what is in force; `settle` is told when a hand does something of
    which it is not yet known what it is: (time, the control); `catch`, of which cell it may be a further press."""

    def __init__(
        self,
        surfaces: Mapping[str, Surface],
        timing: Timing,
        agenda: Agenda,
        pressed: Pressed,
        settle: Callable[[float, str], None],
        catch: Callable[[str, Cell | None], None],
        stack: Stack,
    ) -> None:
        self.stack = stack
        self._catch = catch
        self._silenced = 0
        self._surfaces = surfaces
        self._timing = timing
        self._agenda = agenda
        self._pressed = pressed
        self._settle = settle
        self._edges: dict[str, Edge] = {}
        self._pushes: dict[str, Push] = {}
        self._undecided: dict[str, Push] = {}
        self._ends: dict[str, int] = {}
        self._fulls: dict[str, int] = {}
        self._points: dict[str, tuple[float, float]] = {}
        self.bands: dict[str, tuple[float, float]] = {}
        """Between which values, both left out, an axis can move without anything coming of it."""

    def use_plan(self, plan: Plan) -> None:
        """Another plan is in force; how everything stands is known on."""
        self._surfaces = plan.surfaces
        self._timing = plan.timing
        self._points.clear()
        self.bands.clear()

    # --- Buttons ---

    def button(self, t: float, address: str, control: str, on: bool) -> None:
        """A button, or one direction of a control that has switches of its own, changed. Of contacts that may bounce the
        first change counts at once, one back within the surface's `debounce` does not."""
        debounce = self._surfaces[address.partition(".")[0]].debounce
        if not debounce:
            self._switch(t, address, control, on)
            return
        edge = self._edges.get(address)
        if edge is None:
            waiting = self._agenda.entry(partial(self._settle_edge, address=address, control=control))
            edge = self._edges[address] = Edge(on, waiting)
        edge.raw = on
        if t >= after(edge.t, debounce) or edge.t == -inf:
            self._settle_edge(t, address, control)
        else:
            self._agenda.set(edge.waiting, after(edge.t, debounce) if on != edge.applied else inf)

    def _settle_edge(self, t: float, address: str, control: str) -> None:
        edge = self._edges[address]
        self._agenda.set(edge.waiting, inf)
        if edge.raw != edge.applied:
            edge.applied, edge.t = edge.raw, t
            self._switch(t, address, control, edge.raw)

    # --- Axes ---

    def axis(self, t: float, address: str, control: str, shape: Shape, value: float) -> None:
        """An axis moved: it presses the cells at its ends, half the way and all of it."""
        ends = shape.axes[address[len(control) + 1 :]]
        before, full_before, now, full = self._where(address, value)
        self._ends[address], self._fulls[address] = now, full
        self.bands[address] = _band(now, full, *self._points_of(address))
        if full_before and full != full_before:
            self._press(t, f"{_end(control, ends, full_before)}.full", False)
        for end, on in ((before, False), (now, True)) if now != before else ():
            if end and ends[end > 0] is not None:
                whole = _end(control, ends, end)
                if not on:
                    self._press(t, f"{whole}.half", False)
                self._switch(t, whole, control, on)
                if on:
                    self._press(t, f"{whole}.half", True)
        if full and full != full_before and ends[full > 0] is not None:
            self._press(t, f"{_end(control, ends, full)}.full", True)

    def _where(self, address: str, value: float) -> tuple[int, int, int, int]:
        """Which end of an axis was pressed, and fully, and which is at `value`."""
        before, full_before = self._ends.get(address, 0), self._fulls.get(address, 0)
        press_at, release_at = self._points_of(address)
        return (
            before, full_before, pressed_end(value, before, press_at, release_at),
            pressed_end(value, full_before, FULL_AT, FULL_UNTIL),
        )  # fmt: skip

    def _points_of(self, address: str) -> tuple[float, float]:
        """Past which share of the way an axis is pressed, and below which it is released."""
        found = self._points.get(address)
        if found is None:
            surface, _, own = control_of(address).partition(".")
            by = self._surfaces[surface].conditioning_of(own)
            found = self._points[address] = (by.press, by.release)
        return found

    def acts(self, address: str, shape: Shape, value: float) -> bool:
        """Whether a hand presses something with this change, which has not been told yet."""
        if shape is BUTTON:
            return bool(value)
        before, full_before, now, full = self._where(address, value)
        return bool((now and now != before) or (full and full != full_before))

    def _press(self, t: float, address: str, on: bool) -> None:
        self._pressed(t, address, on, t, inf)

    def _switch(self, t: float, address: str, control: str, on: bool) -> None:
        """A control, or one direction of it, is pressed or let go."""
        if address == control:
            self._press(t, address, on)
        else:
            self._push(t, control, address[len(control) + 1 :], on)

    # --- Directions ---

    def _push(self, t: float, control: str, direction: str, on: bool) -> None:
        """A stick or hat is pushed in a direction, or no longer."""
        push = self._pushes.get(control)
        if on == (push is not None and direction in push.pushed):
            return
        if on:
            self._settle(t, f"{control}.{direction}")
            push = self._pushes.get(control)
        if push is None:
            push = self._pushes[control] = Push(self._agenda.entry(partial(self._believe, control=control)))
        from_rest = not push.pushed
        (push.pushed.append if on else push.pushed.remove)(direction)
        if from_rest and on and self.stack.diagonals(control):
            # The other direction of a diagonal comes in the same moment, but as a change of its own.
            push.since = t
            push.waiting.order = self._agenda.begun = self._agenda.begun + 1
            self._agenda.set(push.waiting, after(t, self._window(control)))
            self._undecided[control] = push
            pushed = f"{control}.{direction}"
            self._catch(pushed, self.stack.cell(pushed))
            return
        between = self._shape(control).diagonals
        if push.pushed and not on and any(applied in between for applied in push.applied):
            # And it goes in the same moment too; what is left of the two was probably not meant.
            window = self._window(control)
            self._follow(t, control, push, [], t, inf)
            push.since = t
            push.waiting.order = self._agenda.begun = self._agenda.begun + 1
            self._agenda.set(push.waiting, after(t, window))
            return
        if control not in self._undecided:
            self._follow(t, control, push, push.pushed, t, inf)
            return
        if not push.pushed:
            self._follow(t, control, push, [direction], push.since, push.waiting.order)
        self._follow(t, control, push, push.pushed, push.since, push.waiting.order)

    def _window(self, control: str) -> float:
        """How long a direction waits for another one."""
        cells = self.stack.diagonals(control).values()
        return max(((cell.timing or self._timing).chord for cell in cells), default=self._timing.chord)

    def _believe(self, t: float, control: str) -> None:
        push = self._pushes[control]
        self._follow(t, control, push, push.pushed, push.since, push.waiting.order)

    @property
    def waits(self) -> bool:
        """Whether there is such a push."""
        return bool(self._undecided)

    def undecided(self) -> list[tuple[int, str]]:
        """Pushes of which it is not known yet whether they go in one direction or between two: when each began, and the
        control."""
        return [(push.waiting.order, control) for control, push in self._undecided.items()]

    def decide(self, t: float, control: str) -> None:
        """Takes a push for what it is so far, if that is not known yet."""
        if control in self._undecided:
            self._believe(t, control)

    def _follow(self, t: float, control: str, push: Push, pushed: list[str], since: float, order: float) -> None:
        """Presses the cells that these directions mean, and lets the others go."""
        self._agenda.set(push.waiting, inf)
        self._undecided.pop(control, None)
        wanted = list(pushed)
        for diagonal, parts in self._shape(control).diagonals.items():
            if diagonal in self.stack.diagonals(control) and set(pushed) >= set(parts):
                wanted = [diagonal]
        silenced = self._silenced
        for direction in [direction for direction in push.applied if direction not in wanted]:
            push.applied.remove(direction)
            self._press(t, f"{control}.{direction}", False)
            if self._silenced != silenced:
                return  # it paused; where the stick is pushed is known, and silent
        for direction in [direction for direction in wanted if direction not in push.applied]:
            if self._silenced != silenced:
                return
            push.applied.append(direction)
            self._pressed(t, f"{control}.{direction}", True, since, order)
        if not push.pushed and not push.applied:
            self._pushes.pop(control, None)

    def _shape(self, control: str) -> Shape:
        """How a control, by its whole address, acts."""
        surface, _, own = control.partition(".")
        return self._surfaces[surface].shape(own) or BUTTON

    # --- Pause, and things that go away ---

    def silence(self) -> list[tuple[str, bool]]:
        """What hands hold stays known, and nothing comes of it any more: decides what is undecided, and tells each cell
        of which that is, with whether it is down."""
        self._silenced += 1
        found: list[tuple[str, bool]] = []
        for address, edge in self._edges.items():
            if edge.waiting.due < inf:
                self._agenda.set(edge.waiting, inf)
                edge.applied = edge.raw
                control, _, direction = address.rpartition(".")
                if control.count(".") and edge.raw != (direction in self._pushed(control)):
                    push = self._pushes.setdefault(
                        control, Push(self._agenda.entry(partial(self._believe, control=control)))
                    )
                    (push.pushed.append if edge.raw else push.pushed.remove)(direction)
                elif not control.count("."):
                    found.append((address, edge.raw))
        for control, push in self._pushes.items():
            self._agenda.set(push.waiting, inf)
            found += [(f"{control}.{direction}", False) for direction in push.applied if direction not in push.pushed]
            found += [(f"{control}.{direction}", True) for direction in push.pushed if direction not in push.applied]
            push.applied = list(push.pushed)
        self._undecided.clear()
        self._pushes = {control: push for control, push in self._pushes.items() if push.pushed}
        return found

    def _pushed(self, control: str) -> list[str]:
        push = self._pushes.get(control)
        return push.pushed if push is not None else []

    def unplug(self, surface: str) -> None:
        """Forgets the contacts of a surface that went away."""
        within = f"{surface}."
        for waiting in [
            *(edge.waiting for address, edge in self._edges.items() if address.startswith(within)),
            *(push.waiting for control, push in self._pushes.items() if control.startswith(within)),
        ]:
            self._agenda.set(waiting, inf)
        for known in (self._edges, self._pushes, self._undecided, self._ends, self._fulls, self.bands):
            for address in [address for address in known if address.startswith(within)]:
                del known[address]


def _band(end: int, full: int, press_at: float, release_at: float) -> tuple[float, float]:
    """The values at which an axis stays at an end, or at none, pushed all the way or not."""
    if not end:
        return (-press_at, press_at)
    near, far = (max(release_at, FULL_UNTIL), inf) if full else (release_at, FULL_AT)
    return (near, far) if end > 0 else (-far, -near)


def _end(control: str, ends: tuple[str | None, str], end: int) -> str:
    """The cell at an end of an axis."""
    cell = ends[end > 0]
    return f"{control}.{cell}" if cell else control
