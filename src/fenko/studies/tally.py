"""Counts a journal, in pieces of about a million uses, whatever its length."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from fenko.system.journal import UNKNOWN, USE, Binding

USES = np.dtype(
    [("second", "<u4"), ("ms", "<u2"), ("binding", "<u2"), ("program", "<u2"), ("profile", "<u2"), ("lasted", "<u2"), ("count", "<u2")]
)  # fmt: skip
"""The packed records of a journal (`fenko.system.journal.USE`)."""
assert USES.itemsize == USE.size

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]

_AT_ONCE = 1_000_000
DAY = 86_400
SOON = 3000
"""Milliseconds within which what is done right after something has to do with it."""
AFTERWARDS = 10_000
"""Milliseconds; what is done later does not follow what was before."""
PACES = np.geomspace(20, AFTERWARDS, 65)
"""Milliseconds: the edges of the classes in which it is counted how soon something follows what was before."""
TIME_GRAIN, TIME_CLASSES = 5, 400
"""Milliseconds of a class of measured times, and how many there are; the last one holds all that are longer."""
_MOST_PAIRS = 4_000_000  # cells of a table; beyond that, pairs are sorted


class Tally(Struct):
    """What is counted of a journal. Arrays go by the number of the binding."""

    counts: Ints
    """How often each was used: detents one by one."""
    presses: Ints
    """The same, those in a row as one."""
    undone: Ints
    """How often each was taken back right after."""
    paces: Ints
    """By class (`PACES`): how soon after what came before, in the same program."""
    days: dict[int, Ints]
    """Uses by day (Unix days)."""
    programs: dict[tuple[int, int], int]
    """Uses by binding and program."""
    follows: dict[tuple[int, int], int]
    """How often one came right after the other."""
    instead: dict[tuple[int, int], int]
    """How often one was done where another had been taken back."""
    times: dict[int, Ints]
    """By what was measured: how many took how long, in classes of `TIME_GRAIN`."""
    layers: dict[int, tuple[int, int]]
    """By layer: how often it was on, and how often without anything being done in it."""
    first: int = 0
    last: int = 0
    """The first and the last second."""

    @property
    def uses(self) -> int:
        """All that hands did."""
        return int(self.counts.sum())


def read_uses(batches: Iterable[bytes]) -> Iterator[NDArray[np.void]]:
    """The uses of batches, many at once."""
    waiting: list[bytes] = []
    size = 0
    for batch in batches:
        waiting.append(batch)
        size += len(batch)
        if size >= _AT_ONCE * USE.size:
            yield np.frombuffer(b"".join(waiting), USES)
            waiting, size = [], 0
    if waiting:
        yield np.frombuffer(b"".join(waiting), USES)


def tally(
    pieces: Iterable[NDArray[np.void]], bindings: Mapping[int, Binding], since: float = 0.0, program: int | None = None
) -> Tally:
    """Counts uses, from a time on (Unix), with one program in front or with any."""
    size = max(bindings, default=0) + 1
    table = _Table(size, bindings)
    for uses in pieces:
        if since:
            uses = uses[uses["second"] >= since]
        if program is not None:
            uses = uses[uses["program"] == program]
        if len(uses):
            table.add(uses)
    return table.found


class _Table:
    def __init__(self, size: int, bindings: Mapping[int, Binding]) -> None:
        self._size = size
        self._hands, self._undoes, self._is_time, self._is_layer = (np.zeros(size, bool) for _ in range(4))
        self._levels: dict[str, list[int]] = {}
        self._layer_of: dict[int, str] = {}
        for number, binding in bindings.items():
            self._hands[number] = binding.counts
            self._undoes[number] = binding.counts and binding.undoes
            self._is_time[number] = binding.gesture.startswith("time ")
            self._is_layer[number] = not binding.control
            if binding.counts:
                self._levels.setdefault(binding.level, []).append(number)
            elif not binding.control:
                self._layer_of[number] = binding.level
        none = np.zeros(size, np.int64)
        self.found = Tally(
            none.copy(), none.copy(), none.copy(), np.zeros((size, len(PACES) - 1), np.int64), {}, {}, {}, {}, {}, {}
        )

    def add(self, uses: NDArray[np.void]) -> None:
        found, size = self.found, self._size
        at = uses["second"].astype(np.int64) * 1000 + uses["ms"]
        if len(at) > 1 and (at[1:] < at[:-1]).any():  # somebody set the clock, or something was told late
            order = np.argsort(at, kind="stable")
            uses, at = uses[order], at[order]
        binding = uses["binding"].astype(np.intp)
        binding[binding >= size] = 0
        found.first = min(found.first or int(at[0] // 1000), int(at[0] // 1000))
        found.last = max(found.last, int(at[-1] // 1000))
        self._times(uses, binding)
        hands = self._hands[binding]
        self._layers(uses, at, binding, hands)
        uses, at, binding = uses[hands], at[hands], binding[hands]
        if not len(uses):
            return
        count = uses["count"].astype(np.int64)
        found.counts += np.bincount(binding, count, size).astype(np.int64)
        found.presses += np.bincount(binding, minlength=size)
        self._by_day(at, binding, count)
        for (one, other), times in _pairs(binding, uses["program"].astype(np.intp), count):
            found.programs[one, other] = found.programs.get((one, other), 0) + times
        self._following(uses, at, binding)

    def _by_day(self, at: Ints, binding: Ints, count: Ints) -> None:
        day = at // (DAY * 1000)
        edges = np.flatnonzero(np.diff(day, prepend=day[0] - 1))
        for begin, end in zip(edges, [*edges[1:], len(day)], strict=True):
            counted = np.bincount(binding[begin:end], count[begin:end], self._size).astype(np.int64)
            key = int(day[begin])
            self.found.days[key] = self.found.days[key] + counted if key in self.found.days else counted

    def _times(self, uses: NDArray[np.void], binding: Ints) -> None:
        which = self._is_time[binding] & (uses["lasted"] != UNKNOWN)
        classes = np.minimum(uses["lasted"][which].astype(np.intp) // TIME_GRAIN, TIME_CLASSES - 1)
        measured = binding[which]
        for number in np.unique(measured):
            counted = np.bincount(classes[measured == number], minlength=TIME_CLASSES)
            self.found.times[int(number)] = self.found.times.get(int(number), 0) + counted

    def _layers(self, uses: NDArray[np.void], at: Ints, binding: Ints, hands: NDArray[np.bool_]) -> None:
        """Of each time that a layer was on, whether something was done in it."""
        ends = np.flatnonzero(self._is_layer[binding])
        for number in np.unique(binding[ends]):
            if int(number) not in self._layer_of:
                continue
            mine = ends[binding[ends] == number]
            own = np.isin(binding, self._levels.get(self._layer_of[int(number)], []))
            done = at[own & hands]
            since = at[mine] - uses["lasted"][mine]
            empty = np.searchsorted(done, at[mine], "right") == np.searchsorted(done, since, "left")
            before = self.found.layers.get(int(number), (0, 0))
            self.found.layers[int(number)] = (before[0] + len(mine), before[1] + int(empty.sum()))

    def _following(self, uses: NDArray[np.void], at: Ints, binding: Ints) -> None:
        found, size = self.found, self._size
        apart = np.diff(at)
        near = (apart < AFTERWARDS) & (uses["program"][1:] == uses["program"][:-1])
        classes = np.clip(np.searchsorted(PACES, apart[near], "right") - 1, 0, len(PACES) - 2)
        flat = np.bincount(binding[1:][near] * (len(PACES) - 1) + classes, minlength=size * (len(PACES) - 1))
        found.paces += flat.reshape(size, -1)
        quick = near & (apart < SOON)
        _add(found.follows, binding[:-1][quick], binding[1:][quick])
        # What is taken back: something, then undoing right after; and what was done in its place.
        undoes = self._undoes[binding]
        kept = np.flatnonzero(~undoes)
        if not len(kept):
            return
        ends = np.append(kept[1:], len(binding))
        followed = np.flatnonzero((ends - kept > 1) & (kept + 1 < len(binding)))
        first = kept[followed]
        soon = (at[np.minimum(first + 1, len(at) - 1)] - at[first] < SOON) & near[np.minimum(first, len(near) - 1)]
        first, after = first[soon], ends[followed][soon]
        found.undone += np.bincount(binding[first], minlength=size)
        there = after < len(binding)
        first, after = first[there], after[there]
        there = at[after] - at[after - 1] < SOON
        _add(found.instead, binding[first[there]], binding[after[there]])


def _add(table: dict[tuple[int, int], int], ones: Ints, others: Ints) -> None:
    for pair, times in _pairs(ones, others):
        table[pair] = table.get(pair, 0) + times


def _pairs(ones: Ints, others: Ints, count: Ints | None = None) -> Iterator[tuple[tuple[int, int], int]]:
    """How often each pair is there."""
    if not len(ones):
        return
    wide = int(others.max()) + 1
    keys = ones * wide + others
    if (int(ones.max()) + 1) * wide <= _MOST_PAIRS:
        counted = np.bincount(keys, count)
        there = np.flatnonzero(counted)
        counts = counted[there]
    else:
        there, back = np.unique(keys, return_inverse=True)
        counts = np.bincount(back, count)
    for key, times in zip(there.tolist(), counts.tolist(), strict=True):
        yield (key // wide, key % wide), int(times)
