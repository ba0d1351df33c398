"""Effects that wait for a target which is slower than the hand, or away: bounded, and in order.

What an action sends waits whole and in its order. Only what *moves* (`fenko.core.changes.Moving`) is thinned, and only where
the target is behind: a newer number takes the place of the one that waits, and steps are added up, but never across anything
else for the same out.

When there is too much, the oldest is left out; when the target has been away, all that is old. Never left out are an end, a
mute, and the newest of a number; of these there is one for each key, so what waits is bounded whatever happens. How each
sort waits, its act sets (`fenko.core.registration.Queued`).
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable
from typing import NamedTuple

from fenko.core.changes import Effect, Moving
from fenko.core.registration import Queued
from fenko.core.verbs import ACTS

MOST = 256
"""Effects that wait, of those that may be left out."""
OLD = 1.0
"""Seconds after which what waited for a target that was away is no longer wanted."""
_KEPT = ("newest", "last", "flip", "end")
_FLIPPED = {"on": "off", "off": "on"}


def queued_as(effect: Effect) -> Queued:
    """How an effect waits."""
    act = ACTS[effect[1], effect[2]]
    if act.queued is not None:
        return act.queued(*effect[3:])
    if act.queues == "newest":
        return Queued("newest", effect[3:-1])
    return Queued(act.queues)


def goes_on(effect: Effect) -> bool:
    """Whether this is one of many small moves, which may be put together with the next."""
    return isinstance(effect, Moving) or queued_as(effect).how == "summed"


def place_of(effect: Effect, queued: Queued) -> tuple[str, str, Hashable]:
    """What an effect is one of: the out, how it waits, and its key."""
    return (effect[1], "last" if queued.how == "flip" else queued.how, queued.key)


def together(effects: Iterable[Effect]) -> list[Effect]:
    """Small moves put together: of each place the sum of its steps, or its newest number, where the last of them stood."""
    found: dict[Hashable, Effect] = {}
    for effect in effects:
        queued = queued_as(effect)
        before = found.pop(place := place_of(effect, queued), None)
        found[place] = added(before, effect) if before is not None and queued.how == "summed" else effect
    return list(found.values())


def added(effect: Effect, more: Effect) -> Effect:
    """Two steps of the same as one."""
    head = 3 + len(key if isinstance(key := queued_as(effect).key, tuple) else ())
    numbers = (round(x + y, 9) for x, y in zip(effect[head:], more[head:], strict=True))
    return type(more)((*more[:head], *numbers))


class _Entry(NamedTuple):
    since: float
    queued: Queued
    effect: Effect
    place: tuple[str, str, Hashable]
    """What it is one of."""


def _entry(since: float, queued: Queued, effect: Effect) -> _Entry:
    return _Entry(since, queued, effect, place_of(effect, queued))


class Backlog:
    """What waits for one target. `left_out` counts what will never be sent."""

    def __init__(self, most: int = MOST) -> None:
        self._most = most
        self._waiting: dict[int, _Entry] = {}  # in order
        self._number = 0
        self._kept: dict[Hashable, int] = {}  # the newest of each place that is never left out
        self._moving: dict[str, dict[Hashable, int]] = {}  # by out: what moves, with nothing else after it
        self.left_out = 0

    def __len__(self) -> int:
        return len(self._waiting)

    @property
    def urgent(self) -> bool:
        """Whether anything waits but what moves."""
        return any(not isinstance(entry.effect, Moving) for entry in self._waiting.values())

    def put(self, effect: Effect, now: float, behind: bool = True) -> Queued:
        """One more waits, since `now`; `behind`: the target is slower than what is sent. Returns how it waits."""
        queued = queued_as(effect)
        entry = _entry(now, queued, effect)
        if not isinstance(effect, Moving):
            self._moving.pop(effect[1], None)
        elif queued.how in ("newest", "summed"):
            if behind:
                entry = self._thinned(entry)
            self._moving.setdefault(effect[1], {})[entry.place] = self._number + 1
        self._add(entry)
        while len(self._waiting) - len(self._kept) > self._most:
            self._leave_out(next(number for number in self._waiting if not self._is_kept(number)))
        return queued

    def _thinned(self, entry: _Entry) -> _Entry:
        """Takes out what waits and is made needless by this; what it becomes."""
        out, how, key = entry.place
        moving = self._moving.get(out, {})
        if how == "newest" and (step := moving.pop((out, "summed", key), None)) is not None:
            self._remove(step)  # a step before it is set is a step of nothing
        before = self._waiting.get(moving.get(entry.place, 0))
        if before is None:
            return entry
        self._remove(moving[entry.place])
        return entry._replace(effect=added(before.effect, entry.effect)) if how == "summed" else entry

    def _add(self, entry: _Entry) -> None:
        self._number += 1
        self._waiting[self._number] = entry
        if entry.queued.how in _KEPT:
            self._kept[entry.place] = self._number

    def _remove(self, number: int) -> None:
        entry = self._waiting.pop(number)
        if self._kept.get(entry.place) == number:
            del self._kept[entry.place]

    def _is_kept(self, number: int) -> bool:
        return self._kept.get(self._waiting[number].place) == number

    def _leave_out(self, number: int) -> None:
        """One that is not kept will not be sent; what it leads to is the same as far as that can be."""
        entry = self._waiting[number]
        self._remove(number)
        self.left_out += 1
        if entry.queued.how not in ("summed", "flip", "last"):
            return
        after = next((one for one, other in self._waiting.items() if one > number and other.place == entry.place), None)
        if after is None:
            return
        later = self._waiting[after]
        if entry.queued.how == "summed":
            self._waiting[after] = later._replace(effect=added(entry.effect, later.effect))
        elif later.queued.how == "flip":
            turned = _FLIPPED.get(entry.effect[-1])
            if turned is None:
                self._remove(after)  # twice over is nothing at all
                self.left_out += 1
            else:
                self._waiting[after] = _entry(
                    later.since, Queued("last", later.queued.key), (*later.effect[:-1], turned)
                )

    def _leave_out_where(self, needless: Callable[[_Entry], bool]) -> None:
        for number in list(self._waiting):
            if number in self._waiting and not self._is_kept(number) and needless(self._waiting[number]):
                self._leave_out(number)

    def put_back(self, effects: Iterable[Effect], now: float) -> None:
        """These were taken and not done: of them, what is never left out waits on, before all that came since."""
        since = list(self._waiting.values())
        self.take()
        for effect in effects:
            if (queued := queued_as(effect)).how in _KEPT:
                self._add(_entry(now, queued, effect))
        left_out = self.left_out
        self._leave_out_where(lambda entry: True)
        self.left_out = left_out
        for entry in since:
            self._add(entry)

    def take(self) -> list[Effect]:
        """All that waits, in order; nothing waits any more."""
        found = [entry.effect for entry in self._waiting.values()]
        self._waiting.clear()
        self._kept.clear()
        self._moving.clear()
        return found

    def forget_old(self, now: float) -> None:
        """The target is away: what is old, and would come as a burst when it is back, is left out."""
        self._leave_out_where(lambda entry: now - entry.since > OLD)
