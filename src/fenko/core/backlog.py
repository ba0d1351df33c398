"""Effects that wait for an end which is slower than the hand, or away: bounded, coalescing, in order.

How each sort waits, its act says (`fenko.core.registration.Queued`). What comes later takes the place of what it makes
needless, at the end of the queue. When there is too much, what is oldest goes first, but never an end, a mute, or the newest
of a value; of these there is one for each key, so what waits is bounded whatever happens.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable

from fenko.core.changes import Effect
from fenko.core.registration import Queued
from fenko.core.verbs import ACTS

MOST = 256
"""Effects that wait, of those that may be left out."""
OLD = 1.0
"""Seconds after which what waited for an end that was away is no longer what anybody wants."""
_KEPT = ("newest", "last", "flip", "end")
_MOVING = ("newest", "summed")
_FLIPPED = {"on": "off", "off": "on"}


def queued_as(effect: Effect) -> Queued:
    """How an effect waits."""
    act = ACTS[effect[1], effect[2]]
    if act.queued is not None:
        return act.queued(*effect[3:])
    if act.queues == "newest":
        return Queued("newest", effect[3:-1])
    return Queued(act.queues)


class Backlog:
    """What waits for one end. `left_out` counts what nobody will see any more."""

    def __init__(self, most: int = MOST) -> None:
        self._most = most
        self._waiting: dict[Hashable, tuple[float, Queued, Effect]] = {}  # in order; one of a kind by its key
        self._number = 0
        self._loose = 0  # of those that may be left out
        self.left_out = 0

    def __len__(self) -> int:
        return len(self._waiting)

    @property
    def urgent(self) -> bool:
        """Whether anything waits but numbers that move on and on."""
        return any(queued.how not in _MOVING for _, queued, _ in self._waiting.values())

    def put(self, effect: Effect, now: float) -> Queued:
        """One more waits, since `now`: how it does."""
        queued = queued_as(effect)
        how, key = queued
        if how in ("all", "begin"):
            self._number += 1
            self._add((self._number,), (now, queued, effect))
            self._loose += 1
            if self._loose > self._most:
                self._drop_oldest()
            return queued
        place = (effect[1], "last" if how == "flip" else how, key)
        if how == "newest" and self._waiting.pop((effect[1], "summed", key), None) is not None:
            self._loose -= 1  # a step before it was set is a step of nothing
        before = self._waiting.get(place)
        if how == "summed":
            self._sum(place, before, (now, queued, effect))
        elif how == "flip" and before is not None:
            self._flip(place, before, now)
        else:
            self._add(place, (now, queued, effect))
        return queued

    def _add(self, place: Hashable, one: tuple[float, Queued, Effect]) -> None:
        self._waiting.pop(place, None)  # its place is at the end
        self._waiting[place] = one

    def _sum(
        self, place: Hashable, before: tuple[float, Queued, Effect] | None, one: tuple[float, Queued, Effect]
    ) -> None:
        now, queued, effect = one
        if before is None:
            self._loose += 1
        else:
            head = 3 + _key_length(queued)
            added = (round(x + y, 9) for x, y in zip(before[2][head:], effect[head:], strict=True))
            one = (now, queued, (*effect[:head], *added))
        self._add(place, one)
        if self._loose > self._most:
            self._drop_oldest()

    def _flip(self, place: Hashable, before: tuple[float, Queued, Effect], now: float) -> None:
        _, queued, effect = before
        turned = _FLIPPED.get(effect[-1])
        if turned is None:
            del self._waiting[place]  # twice over is nothing at all
        else:
            self._add(place, (now, queued, (*effect[:-1], turned)))

    def _drop_oldest(self) -> None:
        place = next(place for place, (_, queued, _) in self._waiting.items() if queued.how not in _KEPT)
        del self._waiting[place]
        self._loose -= 1
        self.left_out += 1

    def put_back(self, effects: Iterable[Effect], now: float) -> None:
        """These were taken and not done: of them, what has to come whatever happens waits on, before all that came since."""
        since = list(self._waiting.values())
        self._waiting.clear()
        self._loose = 0
        for effect in effects:
            if queued_as(effect).how in _KEPT:
                self.put(effect, now)
        for then, _, effect in since:
            self.put(effect, then)

    def take(self) -> list[Effect]:
        """All that waits, in order; nothing waits any more."""
        found = [effect for _, _, effect in self._waiting.values()]
        self._waiting.clear()
        self._loose = 0
        return found

    def forget_old(self, now: float) -> None:
        """The other end is away: what is old, and would come as a burst when it is back, is left out."""
        for place, (since, queued, _) in list(self._waiting.items()):
            if queued.how not in _KEPT and now - since > OLD:
                del self._waiting[place]
                self._loose -= 1
                self.left_out += 1


def _key_length(queued: Queued) -> int:
    return len(queued.key) if isinstance(queued.key, tuple) else 0
