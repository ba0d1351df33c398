"""Who holds what. What lasts is derived from that: an item begins with its first holder, and ends with its last."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from math import inf
from operator import attrgetter
from typing import Any

from fenko.core.agenda import after
from fenko.core.changes import Effect
from fenko.core.steps import Item
from fenko.core.verbs import HELD


class Lasting:
    """One item: how many hold it, its place in the order in which items began, when it ended last, and the effects,
    without their time, with which it begins and ends."""

    __slots__ = ("began", "begins", "count", "ended", "ends", "item")

    def __init__(self, item: Item) -> None:
        self.item = item
        self.count = 0
        self.began = 0
        self.ended = -inf
        out, name = item
        self.begins: tuple[Any, ...] = (out, *HELD[out].begins(name))
        self.ends: tuple[Any, ...] = (out, *HELD[out].ends(name))


class HeldItems:
    """Keys, mouse buttons and whatever else can be held, by who holds them: a cell, an action, the stroke in flight. One
    that ended begins again `gap` seconds later at the soonest. `out` takes the effects."""

    __slots__ = ("_known", "_out", "begun", "free_at", "gap", "holders", "lasting_now")

    def __init__(self, gap: float, out: list[Effect]) -> None:
        self.holders: dict[str, tuple[Item, ...]] = {}
        self.begun = 0
        """How many items have begun so far."""
        self.lasting_now = 0
        """How many last now."""
        self.free_at = -inf
        """From when on any item may begin."""
        self.gap = gap
        self._out = out
        self._known: dict[Item, Lasting] = {}

    @property
    def items(self) -> tuple[Item, ...]:
        """Everything that is held, in the order in which it began."""
        return tuple(one.item for one in self._on())

    def _on(self) -> list[Lasting]:
        return sorted((one for one in self._known.values() if one.count), key=attrgetter("began"))

    def lasting(self, item: Item) -> Lasting:
        """What is known of an item."""
        known = self._known.get(item)
        if known is None:
            known = self._known[item] = Lasting(item)
        return known

    def ready(self, t: float, items: Iterable[Item]) -> float:
        """When all of these may begin: now, or soon after one of them ended."""
        if t >= self.free_at:
            return t
        ones = map(self.lasting, items)
        return max((after(one.ended, self.gap) for one in ones if not one.count and one.ended > -inf), default=t)

    def hold(self, t: float, holder: str, items: tuple[Item, ...]) -> None:
        """Somebody holds further items; those that nobody held begin."""
        mine = self.holders.get(holder)
        if mine:
            items = tuple(item for item in items if item not in mine)
            self.holders[holder] = mine + items
        else:
            self.holders[holder] = items
        self.begin(t, tuple(map(self.lasting, items)))

    def begin(self, t: float, ones: Sequence[Lasting]) -> None:
        """Somebody, who need not be known, holds each of these."""
        for one in ones:
            if one.count:
                one.count += 1
            else:
                one.count = 1
                one.began = self.begun = self.begun + 1
                self.lasting_now += 1
                self._out.append((t, *one.begins))

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
        self.end(t, tuple(map(self.lasting, items)))

    def end(self, t: float, ones: Sequence[Lasting]) -> None:
        """Somebody lets go of each of these, the last one first."""
        for one in reversed(ones):
            if one.count > 1:
                one.count -= 1
            else:
                one.count = 0
                self.lasting_now -= 1
                one.ended = t
                self.free_at = t + self.gap
                self._out.append((t, *one.ends))

    def note_begin(self, ones: Iterable[Lasting]) -> None:
        """Takes note of what nobody held, and somebody does now without being told here."""
        for one in ones:
            one.count = 1
            one.began = self.begun = self.begun + 1
            self.lasting_now += 1

    def note_end(self, t: float, ones: Iterable[Lasting]) -> None:
        """Takes note of what was held and ended without being told here."""
        for one in ones:
            one.ended = t
        self.free_at = t + self.gap

    def lift_all(self, t: float) -> None:
        """Everybody lets go; what began last ends first."""
        ones = self._on()
        for one in ones:
            one.count = 1
        self.end(t, ones)
        self.holders.clear()
