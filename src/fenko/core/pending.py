"""What the engine keeps of things that are under way: values with a time at which each is due, and an order that decides
between two of one time. The rules for them are the engine's."""

from __future__ import annotations

from math import inf

from fenko.core.phrase import Step
from fenko.core.plan import Cell


class Pressed:
    """A press of a cell that waits for more than the press: its cell as it was then, when `hold` is reached, and the
    how-manieth press in a row it is."""

    __slots__ = ("cell", "count", "due", "order", "pending")

    def __init__(self, cell: Cell, due: float, order: int, count: int) -> None:
        self.cell = cell
        self.due = due
        self.order = order
        self.count = count
        self.pending = True


class Count:
    """Taps in a row that could still become more, until `due`."""

    __slots__ = ("cell", "count", "due", "order")

    def __init__(self, cell: Cell, count: int, due: float, order: int) -> None:
        self.cell = cell
        self.count = count
        self.due = due
        self.order = order


class Gathering:
    """Members of chords that were pressed together so far, each with its time and cell; settled at `due`."""

    __slots__ = ("due", "order", "pressed")

    def __init__(self, due: float, order: int) -> None:
        self.due = due
        self.order = order
        self.pressed: dict[str, tuple[float, Cell | None]] = {}


class Burst:
    """Presses of one key so close together that it may be one that sends its code several times; settled at `due`."""

    __slots__ = ("cell", "cells", "count", "down", "due", "order", "since")

    def __init__(self, since: float, cell: Cell | None, cells: dict[int, Cell], order: int) -> None:
        self.since = since
        self.cell = cell
        self.cells = cells
        self.order = order
        self.count = 0
        self.down = True
        self.due = inf


class Edge:
    """The last change of a contact that may bounce: when, to what, and how it stands; settled at `due`."""

    __slots__ = ("applied", "due", "order", "raw", "t")

    def __init__(self, t: float, on: bool, order: int) -> None:
        self.t = t
        self.applied = self.raw = on
        self.order = order
        self.due = inf


class Lean:
    """Where a stick or hat with diagonals is pushed: the directions, the cells that are pressed because of them, and
    when a single direction is believed that comes from rest, or is left of two (`leaving`)."""

    __slots__ = ("applied", "due", "leaving", "order", "pushed")

    def __init__(self, order: int) -> None:
        self.pushed: set[str] = set()
        self.applied: list[str] = []
        self.leaving = False
        self.order = order
        self.due = inf


class Run:
    """An action on its way through its steps; the next is due at `due`. `held`: by a control that is still down;
    `loops`: it begins anew as long as that is so; `holder` is who holds the keys that it presses to lift later."""

    __slots__ = ("due", "held", "holder", "lane", "loops", "next", "order", "steps", "stroke")

    def __init__(self, lane: str, steps: tuple[Step, ...], order: int, stroke: float, held: bool, loops: bool) -> None:
        self.lane = lane
        self.holder = f"action {order}"  # no cell is called so
        self.steps = steps
        self.next = 0
        self.due = inf
        self.order = order
        self.stroke = stroke
        self.held = held
        self.loops = loops
