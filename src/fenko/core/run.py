"""One action on its way through its steps."""

from __future__ import annotations

from typing import TypeAlias

from msgspec import Struct

from fenko.core.agenda import Waiting
from fenko.core.plan import Binding
from fenko.core.steps import Item, Step


class Mirror(Struct, frozen=True):
    """Items that the cell itself holds until it is let go."""

    items: tuple[Item, ...]


class Visit(Struct, frozen=True):
    """A profile does now what it does when it comes or goes, which is told."""

    address: str
    gesture: str
    profile: str
    binding: Binding


Doing: TypeAlias = Step | Mirror | Visit


class Run:
    """An action on its way through its steps. `held`: by a control that is still down; `loops`: it begins anew as long
    as that is so; `hurried`: somebody waits behind it; `striking`: it waits for its own stroke to end; `holder` is who
    holds the items that it begins to end later; what it steps goes `times` as far; what it
    toggles on is of this `group`; `moves`: it is one step of a number, by a dial."""

    __slots__ = (
        "cell", "ended", "group", "held", "holder", "hurried", "lane", "loops", "moves", "next", "steps", "striking", "stroke", "times",
        "waiting",
    )  # fmt: skip

    def __init__(
        self,
        cell: str,
        lane: str,
        steps: tuple[Doing, ...],
        stroke: float,
        held: bool,
        loops: bool,
        times: float = 1.0,
        group: str | None = None,
        moves: bool = False,
    ) -> None:
        self.cell = cell
        self.lane = lane
        self.steps = steps
        self.stroke = stroke
        self.held = held
        self.loops = loops
        self.times = times
        self.group = group
        self.moves = moves
        self.next = 0
        self.hurried = False
        self.striking = False
        self.ended = False
        self.holder = ""
        self.waiting: Waiting
