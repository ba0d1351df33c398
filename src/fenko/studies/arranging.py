"""Which binding should sit on which control: the assignment with the least effort, under what has to stay.

What is done from rest costs the same whatever else is where: that part is an assignment, and solved exactly (Kuhn's method, as SciPy has
it). What follows something else costs what it takes from there: with that it is a quadratic assignment, of which nobody knows how to find
the best in good time. Small ones are tried out whole; of others the best of several searches is taken, each of which goes on as long as
exchanging two, moving one, or moving a pair gains anything. How far from the best that can be at most says the bound of Gilmore and
Lawler (1962)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import combinations, permutations
from math import inf

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray
from scipy.optimize import linear_sum_assignment

from fenko.studies.tally import Floats

TRIED_WHOLE = 50_000
"""Arrangements up to which all of them are tried."""
STARTS = 24
"""Searches of larger ones, from as many different beginnings."""
_GAINS = 1e-9
Places = tuple[int, ...]
"""For each thing the number of its control."""


class Pair(Struct, frozen=True):
    """Two things that belong together: in a row or column, the second in that direction from the first (-1, 0, 1 across and down), and
    side by side if they are `close`."""

    first: int
    second: int
    across: int
    down: int
    close: bool


class Problem(Struct):
    """Things to put on controls. `alone[thing, control]` is what a thing costs there by itself; `flow[one, other]` how often the other follows
    the one, and `between[from, to]` what that costs; all costs in seconds over the same time. `near[from, to]` tells where a control lies from
    another one in the same row or column, across and down (-1, 0, 1; nan: it is in neither), and whether they are neighbours (1, 0)."""

    alone: Floats
    flow: Floats
    between: Floats
    near: NDArray[np.float64]
    pairs: tuple[Pair, ...] = ()

    def cost(self, places: Sequence[int]) -> float:
        """What an arrangement costs."""
        at = np.asarray(places, int)
        own = self.alone[np.arange(len(at)), at].sum()
        return float(own + (self.flow * self.between[np.ix_(at, at)]).sum())

    def allowed(self, places: Sequence[int]) -> bool:
        """Whether all pairs are together, the right way round."""
        return all(self._together(pair, places[pair.first], places[pair.second]) for pair in self.pairs)

    def _together(self, pair: Pair, first: int, second: int) -> bool:
        found = self.near[first, second]
        return bool(found[0] == pair.across and found[1] == pair.down and (found[2] or not pair.close))

    def spots_of(self, pair: Pair) -> Iterator[tuple[int, int]]:
        """Where a pair may go."""
        wide = self.between.shape[0]
        for first in range(wide):
            for second in range(wide):
                if first != second and self._together(pair, first, second):
                    yield first, second


class Arranged(Struct):
    """An arrangement, what it costs, the least that any could cost, and whether all were tried."""

    places: Places
    cost: float
    bound: float
    exact: bool


def arrange(problem: Problem, now: Sequence[int], seed: int = 0) -> Arranged:
    """The best arrangement that is found; never worse than the one that is there."""
    things, controls = problem.alone.shape
    ways = 1
    for number in range(things):
        ways *= controls - number
    if ways <= TRIED_WHOLE:
        best = _try_all(problem, now)
        return Arranged(best, problem.cost(best), problem.cost(best), True)
    luck = np.random.default_rng(seed)
    best, cost = tuple(now), problem.cost(now)
    for start in _starts(problem, now, luck):
        found = _improve(problem, start)
        if (value := problem.cost(found)) < cost - _GAINS:
            best, cost = found, value
    return Arranged(best, cost, lower_bound(problem), False)


def _try_all(problem: Problem, now: Sequence[int]) -> Places:
    things, controls = problem.alone.shape
    best, least = tuple(now), problem.cost(now)
    for places in permutations(range(controls), things):
        if problem.allowed(places) and (cost := problem.cost(places)) < least - _GAINS:
            best, least = places, cost
    return best


def _starts(problem: Problem, now: Sequence[int], luck: np.random.Generator) -> Iterator[Places]:
    yield tuple(now)
    exact = assigned(problem.alone)
    if problem.allowed(exact):
        yield exact
    # The same again with what following costs where things are now.
    at = np.asarray(now)
    out = problem.between[:, at] @ problem.flow.T + problem.between[at, :].T @ problem.flow
    again = assigned(problem.alone + out.T)
    if problem.allowed(again):
        yield again
    for _ in range(STARTS):
        yield _shaken(problem, tuple(now), luck)


def _shaken(problem: Problem, places: Places, luck: np.random.Generator) -> Places:
    """Another arrangement that is allowed, some exchanges away."""
    for _ in range(2 * len(places)):
        moves = list(_moves(problem, places))
        if not moves:
            return places
        places = moves[int(luck.integers(len(moves)))]
    return places


def assigned(costs: Floats) -> Places:
    """The assignment with the least cost, exactly."""
    rows, columns = linear_sum_assignment(costs)
    found = dict(zip(rows.tolist(), columns.tolist(), strict=True))
    return tuple(found[row] for row in range(len(costs)))


def _moves(problem: Problem, places: Places) -> Iterator[Places]:
    """Every arrangement that is one step away, and allowed."""
    controls = problem.alone.shape[1]
    free = [control for control in range(controls) if control not in places]
    paired = {thing for pair in problem.pairs for thing in (pair.first, pair.second)}
    for one, other in combinations(range(len(places)), 2):
        new = list(places)
        new[one], new[other] = new[other], new[one]
        if not paired & {one, other} or problem.allowed(new):
            yield tuple(new)
    for one in range(len(places)):
        for control in free:
            new = list(places)
            new[one] = control
            if one not in paired or problem.allowed(new):
                yield tuple(new)
    for pair in problem.pairs:
        for spots in problem.spots_of(pair):
            yield from _pair_moved(problem, places, pair, spots)


def _pair_moved(problem: Problem, places: Places, pair: Pair, spots: tuple[int, int]) -> Iterator[Places]:
    old = (places[pair.first], places[pair.second])
    if spots == old:
        return
    new = list(places)
    new[pair.first], new[pair.second] = spots
    displaced = [
        thing for thing, control in enumerate(places) if control in spots and thing not in (pair.first, pair.second)
    ]
    left = [control for control in old if control not in spots]
    for order in permutations(left, len(displaced)) if len(left) >= len(displaced) else ():
        for thing, control in zip(displaced, order, strict=True):
            new[thing] = control
        if problem.allowed(new):
            yield tuple(new)


def _improve(problem: Problem, places: Places) -> Places:
    """Takes the best step as long as there is one."""
    cost = problem.cost(places)
    while True:
        best, least = places, cost - _GAINS
        for other in _moves(problem, places):
            if (value := problem.cost(other)) < least:
                best, least = other, value
        if best == places:
            return places
        places, cost = best, least


def lower_bound(problem: Problem) -> float:
    """Less than that no arrangement costs (Gilmore 1962, Lawler 1963): for each thing on each control, the least that what follows it
    can cost, and then the best assignment of those."""
    things, controls = problem.alone.shape
    least = np.zeros((things, controls))
    for thing in range(things):
        others = [other for other in range(things) if other != thing]
        flows = np.sort(problem.flow[thing, others])[::-1]
        own = problem.flow[thing, thing]
        for control in range(controls):
            ways = np.sort(np.delete(problem.between[control], control))[: len(flows)]
            least[thing, control] = float(flows @ ways) + own * problem.between[control, control]
    whole = problem.alone + least
    rows, columns = linear_sum_assignment(whole)
    return float(whole[rows, columns].sum())


def gains(problems: Sequence[Problem], now: Sequence[int], then: Sequence[int]) -> tuple[float, float]:
    """Between which shares of its effort an arrangement gains, 95 % sure, of several problems that say the same of different times
    (resampled days)."""
    shares = []
    for one in problems:
        before = one.cost(now)
        if before > 0 and before < inf:
            shares.append(1 - one.cost(then) / before)
    if not shares:
        return (0.0, 0.0)
    low, high = np.quantile(shares, [0.025, 0.975])
    return float(low), float(high)
