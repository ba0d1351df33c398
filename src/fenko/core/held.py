"""Who holds what. What lasts is derived from that: an item begins with its first holder, and ends with its last."""

from __future__ import annotations

from collections.abc import Iterable
from math import inf

from fenko.core.agenda import after
from fenko.core.changes import Effect
from fenko.core.steps import Item
from fenko.core.verbs import HELD


class HeldItems:
    """Keys, mouse buttons and whatever else can be held, by who holds them: a cell, an action, the stroke in flight. One
    that ended begins again `gap` seconds later at the soonest. `out` takes the effects."""

    __slots__ = ("_count", "_ended", "_gap", "_out", "free_at", "holders")

    def __init__(self, gap: float, out: list[Effect]) -> None:
        self.holders: dict[str, tuple[Item, ...]] = {}
        self.free_at = -inf
        """From when on any item may begin."""
        self._gap = gap
        self._out = out
        self._count: dict[Item, int] = {}
        self._ended: dict[Item, float] = {}

    @property
    def items(self) -> tuple[Item, ...]:
        """Everything that is held, in the order in which it began."""
        return tuple(self._count)

    def ready(self, t: float, items: Iterable[Item]) -> float:
        """When all of these may begin: now, or soon after one of them ended."""
        if t >= self.free_at:
            return t
        count, ended = self._count, self._ended
        return max((after(ended[one], self._gap) for one in items if one in ended and one not in count), default=t)

    def hold(self, t: float, holder: str, items: tuple[Item, ...]) -> None:
        """Somebody holds further items; those that nobody held begin."""
        mine = self.holders.get(holder)
        if mine:
            items = tuple(item for item in items if item not in mine)
            self.holders[holder] = mine + items
        else:
            self.holders[holder] = items
        count = self._count
        for item in items:
            if item in count:
                count[item] += 1
            else:
                count[item] = 1
                self._out.append((t, item[0], *HELD[item[0]].begins(item[1])))

    def lift(self, t: float, holder: str, only: tuple[Item, ...] | None = None) -> None:
        """Somebody lets go of everything, or of `only` some; what nobody else holds ends."""
        items = self.holders.pop(holder, None)
        if not items:
            return
        if only is not None:
            rest = tuple(item for item in items if item not in only)
            if rest:
                self.holders[holder] = rest
            items = tuple(item for item in items if item in only)
        count = self._count
        for item in reversed(items):
            if count[item] > 1:
                count[item] -= 1
            else:
                del count[item]
                self._ended[item] = t
                self.free_at = after(t, self._gap)
                self._out.append((t, item[0], *HELD[item[0]].ends(item[1])))

    def take_over(self, holder: str, items: tuple[Item, ...]) -> None:
        """Takes note of what somebody holds already, and nobody else."""
        self.holders[holder] = items
        self._count.update(dict.fromkeys(items, 1))

    def note_end(self, t: float, items: Iterable[Item]) -> None:
        """Takes note of what was held and ended without being told here."""
        for item in items:
            self._ended[item] = t
        self.free_at = after(t, self._gap)

    def lift_all(self, t: float) -> None:
        """Everybody lets go; what began last ends first."""
        for item in reversed(self._count):
            self._ended[item] = t
            self._out.append((t, item[0], *HELD[item[0]].ends(item[1])))
        if self._count:
            self.free_at = after(t, self._gap)
        self._count.clear()
        self.holders.clear()
