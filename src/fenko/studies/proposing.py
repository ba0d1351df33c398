"""From what a journal says to an arrangement: how often what is used, what follows what, and what an arrangement gains."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import numpy as np
from msgspec import Struct, structs

from fenko.studies.arranging import Arranged, Pair, Problem, arrange, gains
from fenko.studies.effort import Model, Site, hand_of, own_times, reaches
from fenko.studies.tally import Floats, Ints, Tally
from fenko.system.journal import Binding

DRAWS = 200
"""How often days and the model's constants are drawn again to say how sure a gain is."""
MOVING = 0.002
"""The share of all effort that each new place has to gain."""
_NEIGHBOURS = 1.7
"""How many times their own size two controls may be apart to be neighbours."""


class Uses(Struct):
    """How often things are used, and what follows what, of one surface: by the desk's names of controls, things that may move and others.
    `days` are the uses of each day in which there were any."""

    counts: dict[str, float]
    follows: dict[tuple[str, str], float]
    days: list[dict[str, float]]
    own: dict[str, float]
    """What the hand itself has shown (`effort.own_times`)."""


class Proposal(Struct):
    """Where things would sit: the controls that change, each to which other one; seconds of a thousand uses now and then; which share is
    gained, at least and at most (95 %); how far it is from the best there can be (0: it is the best)."""

    moves: dict[str, str]
    now: float
    then: float
    gain: float
    between: tuple[float, float]
    short_of: float
    exact: bool


def uses_of(
    counted: Tally, bindings: Mapping[int, Binding], surface: str, things: Mapping[str, str],
    deeds: Mapping[tuple[str, str], str], level: str,
) -> Uses:  # fmt: skip
    """What a journal says of a surface. What may move is known by what it does (`deeds`, by gesture and words), wherever it was; uses of
    anything else by where they were."""
    controls: dict[int, str] = {}
    counts: dict[str, float] = {}
    paces: dict[str, Ints] = {}
    for number, one in bindings.items():
        name, _, rest = one.control.partition(".")
        if name != surface or not one.counts or "+" in rest:
            continue
        place = rest.partition(".")[0]
        deed = deeds.get((one.gesture, one.does)) if one.level == level else None
        if deed is not None or place not in things:
            control = controls[number] = deed or place
            counts[control] = counts.get(control, 0) + int(counted.presses[number])
        paces[place] = paces.get(place, np.zeros(counted.paces.shape[1], np.int64)) + counted.paces[number]
    follows: dict[tuple[str, str], float] = {}
    for (one_number, other_number), times in counted.follows.items():
        if one_number in controls and other_number in controls:
            pair = (controls[one_number], controls[other_number])
            follows[pair] = follows.get(pair, 0) + times
    days = []
    for day in counted.days.values():
        found: dict[str, float] = {}
        for number, control in controls.items():
            found[control] = found.get(control, 0) + int(day[number])
        if any(found.get(thing) for thing in things):
            days.append(found)
    return Uses(counts, follows, days, own_times(paces))


def nothing_known(things: Mapping[str, str]) -> Uses:
    """Where there is no journal everything counts alike."""
    return Uses(dict.fromkeys(things, 1.0), {}, [], {})


def propose(
    places: Sequence[Site], things: Sequence[str], free: Sequence[str], uses: Uses,
    together: Callable[[str, str], bool], seed: int = 0,
) -> Proposal:  # fmt: skip
    """The arrangement with the least effort: `things` (by the control that they are on now) on their own and on `free` controls. Those
    that are `together` now, in a row or column, stay so in the same order, and neighbours neighbours."""
    spots = [*things, *free]
    by_name = {site.control: site for site in places}
    near = nearness([by_name[name] for name in spots])
    pairs = tuple(
        Pair(one, other, int(near[one, other, 0]), int(near[one, other, 1]), bool(near[one, other, 2]))
        for one in range(len(things))
        for other in range(one + 1, len(things))
        if not np.isnan(near[one, other, 0]) and together(things[one], things[other])
    )
    now = tuple(range(len(things)))
    hand = hand_of(places, uses.own)
    problem = _problem(places, things, spots, uses, near, pairs, hand.model)
    before = problem.cost(now)
    # A new place has to be learnt, so each has to gain something.
    learnt = structs.replace(problem, alone=problem.alone + MOVING * before * (1 - np.eye(*problem.alone.shape)))
    found: Arranged = arrange(learnt, now, seed)
    cost = problem.cost(found.places)
    total = sum(uses.counts.get(thing, 0.0) for thing in things) or 1.0
    luck = np.random.default_rng(seed)
    drawn = [
        _problem(places, things, spots, _drawn_uses(uses, luck), near, pairs, hand.drawn(luck)) for _ in range(DRAWS)
    ]  # fmt: skip
    moves = {things[at]: spots[to] for at, to in enumerate(found.places) if to != at}
    return Proposal(
        moves, 1000 * before / total, 1000 * cost / total, 1 - cost / before if before else 0.0,
        gains(drawn, now, found.places), max(found.cost / found.bound - 1, 0.0) if found.bound > 0 else 0.0, found.exact,
    )  # fmt: skip


def _drawn_uses(uses: Uses, luck: np.random.Generator) -> Uses:
    """As they would be on other days like these."""
    counts = uses.counts
    if uses.days:
        drawn = luck.integers(len(uses.days), size=len(uses.days))
        counts = {}
        for at in drawn:
            for control, times in uses.days[int(at)].items():
                counts[control] = counts.get(control, 0.0) + times
    follows = {pair: float(luck.poisson(times)) for pair, times in uses.follows.items()}
    return Uses(counts, follows, [], uses.own)


def _problem(
    places: Sequence[Site], things: Sequence[str], spots: Sequence[str], uses: Uses, near: Floats, pairs: tuple[Pair, ...],
    model: Model,
) -> Problem:  # fmt: skip
    at = {site.control: number for number, site in enumerate(places)}
    rest, between = reaches(places, model)
    where = [at[name] for name in spots]
    number = {thing: one for one, thing in enumerate(things)}
    flow = np.zeros((len(things), len(things)))
    alone = np.zeros((len(things), len(spots)))
    from_rest = np.array([uses.counts.get(thing, 0.0) for thing in things])
    for (one, other), times in uses.follows.items():
        if other in number:
            from_rest[number[other]] -= times
        if one in number and other in number:
            flow[number[one], number[other]] = times
        elif other in number and one in at:
            alone[number[other]] += times * between[at[one], where]
        elif one in number and other in at:
            alone[number[one]] += times * between[where, at[other]]
        elif other in number:
            from_rest[number[other]] += times  # from something that has no place
    alone += np.maximum(from_rest, 0.0)[:, None] * rest[where][None, :]
    return Problem(alone, flow, between[np.ix_(where, where)], near, pairs)


def nearness(sites: Sequence[Site]) -> Floats:
    """Where each lies from each other one in its row or column, across and down (-1, 0, 1); and whether they are neighbours."""
    found = np.full((len(sites), len(sites), 3), np.nan)
    for row, one in enumerate(sites):
        for column, other in enumerate(sites):
            across, down = other.at[0] - one.at[0], other.at[1] - one.at[1]
            far, aside = max(abs(across), abs(down)), min(abs(across), abs(down))
            if one is not other and aside < one.size / 2:
                level = abs(across) > abs(down)
                way = (np.sign(across), 0) if level else (0, np.sign(down))
                found[row, column] = (*way, far <= _NEIGHBOURS * max(one.size, other.size))
    return found
