"""What is due, and when: everything in the engine that will happen by itself, in order of time.

An entry is set for a time, set anew, or dropped, at a cost that does not grow with how much is waiting.
"""

from __future__ import annotations

from collections.abc import Callable
from heapq import heapify, heappop, heappush
from math import inf


def after(t: float, seconds: float) -> float:
    """The time that much later, in whole microseconds: sums of decimal times are never on the wrong side of a border."""
    later = ((t + seconds) * 1e6 + 0.5) // 1 / 1e6  # less than half of what `round` costs
    return later if later > t else t


class Waiting:
    """Something that happens by itself at `due` (seconds; inf: it does not). Of two things at one time, the one that
    began first happens first. What `repeats` goes on until somebody ends it."""

    __slots__ = ("due", "happen", "order", "repeats")

    def __init__(self, happen: Callable[[float], None], order: int, repeats: bool = False) -> None:
        self.happen = happen
        self.order = order
        self.due = inf
        self.repeats = repeats


class Agenda:
    """Keeps entries in order of time. Entries that were set anew leave their old place behind, which is passed over."""

    def __init__(self) -> None:
        self._places: list[tuple[float, int, Waiting]] = []
        self._set = 0
        self.begun = 0
        """How many things have begun: the place of the newest among all that is due at one time."""
        self.ending = 0
        """How many entries are set that do not repeat."""

    def entry(self, happen: Callable[[float], None], repeats: bool = False) -> Waiting:
        """A new entry that is not set yet."""
        self.begun += 1
        return Waiting(happen, self.begun, repeats)

    def set(self, entry: Waiting, due: float) -> None:
        """Sets an entry for a time; inf drops it."""
        if due == entry.due:
            return
        change = (due < inf) - (entry.due < inf)
        self._set += change
        if not entry.repeats:
            self.ending += change
        entry.due = due
        if due < inf:
            heappush(self._places, (due, entry.order, entry))
            if len(self._places) > 64 + 2 * self._set:
                self._places = [place for place in self._places if place[0] == place[2].due]
                heapify(self._places)

    @property
    def deadline(self) -> float:
        """When the next thing happens; inf if nothing does."""
        places = self._places
        while places and places[0][0] != places[0][2].due:
            heappop(places)
        return places[0][0] if places else inf

    def waits_for_nothing_but(self, entry: Waiting) -> bool:
        """Whether this entry is the only one that is set."""
        return len(self._places) == 1 and self._places[0][2] is entry

    def pass_time(self, now: float) -> None:
        """Lets everything happen that is due by now, each thing at its own time."""
        while self.deadline <= now:
            due, _, entry = heappop(self._places)
            self.set(entry, inf)
            entry.happen(due)

    def clear(self) -> None:
        """Drops everything."""
        for _, _, entry in self._places:
            entry.due = inf
        self._places.clear()
        self._set = self.ending = 0
