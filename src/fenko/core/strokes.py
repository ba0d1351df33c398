"""Strokes that are alone: an action that is one stroke and nothing else, while no other action is under way.

They need no run, no lane and no place in the agenda. When something else comes in between, they become a run like any
other (`Runs.take_in`).
"""

from __future__ import annotations

from math import inf

from fenko.core.agenda import Agenda, after
from fenko.core.held import HeldItems, Lasting
from fenko.core.plan import Cell
from fenko.core.steps import Item


class Stroke:
    """An action that is one stroke: of which cell, what it strikes, for how many seconds. `ones` is what the engine that
    does it knows of each item."""

    __slots__ = ("cell", "items", "ones", "seconds")

    def __init__(self, cell: Cell, items: tuple[Item, ...], seconds: float) -> None:
        self.cell = cell
        self.items = items
        self.seconds = seconds
        self.ones: tuple[Lasting, ...] = ()


class LoneStroke:
    """The one stroke that is alone, if any. `due` is when it ends, or, where it has to wait for a key that came up just
    now, when it begins."""

    __slots__ = ("_agenda", "_items", "begun", "due", "order", "stroke")

    def __init__(self, items: HeldItems, agenda: Agenda) -> None:
        self.stroke: Stroke | None = None
        self.begun = False
        self.order = 0
        self.due = inf
        self._items = items
        self._agenda = agenda

    def strike(self, t: float, stroke: Stroke) -> bool:
        """Begins a stroke. False, and nothing is done, if it has to be a run like any other."""
        before, items = self.stroke, self._items
        if before is not None:
            if not self.begun or (before is not stroke and before.cell.address != stroke.cell.address):
                return False
            items.end(t, before.ones)
            if before is not stroke:
                ready = items.ready(t, stroke.items)
            else:
                # What nobody else holds has ended just now.
                ready = t if all([one.count for one in before.ones]) else after(t, items.gap)
        else:
            ready = t if t >= items.free_at else items.ready(t, stroke.items)
        self.stroke = stroke
        self.order = self._agenda.begun = self._agenda.begun + 1
        if not stroke.ones:
            stroke.ones = tuple(map(items.lasting, stroke.items))
        self.begun = ready <= t
        if self.begun:
            items.begin(t, stroke.ones)
            self.due = after(t, stroke.seconds)
        else:
            self.due = ready
        return True

    def pass_due(self) -> None:
        """What it waits for happens: its items end, or begin."""
        stroke, due = self.stroke, self.due
        assert stroke is not None
        if self.begun:
            self.stroke, self.due = None, inf
            self._items.end(due, stroke.ones)
        else:
            self._items.begin(due, stroke.ones)
            self.begun = True
            self.due = after(due, stroke.seconds)

    def forget(self) -> None:
        """There is none any more; whoever says so has seen to its items."""
        self.stroke, self.due = None, inf
