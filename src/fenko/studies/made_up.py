"""A made-up year at a desk, with habits, misses and drift that are known: to show what journals say, and to test that they are read right.

Somebody works on five evenings a week, in one program after the other. In each profile a few bindings are used much and most little (shares fall as 1/rank, in an order
that the seed decides); a fifth is never used. Nothing else is known of a hand that is made up:

- `missed` is pressed by mistake in place of a neighbour: in 12 of 100 times that the neighbour is meant, undone within a second and done
  right. So is any other one, in 2 of 100.
- `rising` is used four times as often at the end of the year as at its beginning, and `falling` a quarter as often; by and by.
- after the first of a `pair` the other one follows in 7 of 10 times.
- `searched` is a layer that is on for nothing in 4 of 10 times; other layers in 1 of 20.
- a tap takes 95 ms in the middle, a hold 420 ms, log-normally (sigma 0.25 and 0.3)."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from fenko.core.plan import Plan
from fenko.studies.tally import DAY, USES
from fenko.studies.usage import Place, bound
from fenko.system.journal import UNKNOWN, Binding, Journal

BEGINS = 1_767_225_600
"""2026-01-01, Unix time."""
PROGRAMS = {"frames": "snipwell", "titles": "snipwell", "stream": "beamcart", "rail": "railmoth", "sound": "hushdesk"}
"""The program in front in which each profile is in force; what lies under all of them is used in any."""
_AT_A_STRETCH = 150
"""Uses after which somebody has been in every program once."""
MISSED, ANY_MISS, FOLLOWS = 0.12, 0.02, 0.7
SEARCHED, EMPTY = 0.4, 0.05
TIMES = {True: (0.095, 0.25), False: (0.42, 0.3)}
"""Of taps and of holds: the time in the middle (seconds) and its spread."""


class Truth(Struct):
    """What is known of it: what is missed and for what, what rises, what falls, what is never used, pairs, the layer that is searched."""

    missed: Place
    meant: Place
    rising: Place
    falling: Place
    never: tuple[Place, ...]
    pair: tuple[Place, Place]
    searched: str


class MadeUp(Struct):
    """The bindings (numbered from 1) and programs (so too), one batch of packed uses for each day, the truth, and when it ends (Unix
    time)."""

    bindings: list[Binding]
    programs: list[str]
    batches: list[bytes]
    truth: Truth
    ends: int


def made_up_year(plan: Plan, seed: int = 1, days: int = 365, an_evening: int = 900) -> MadeUp:
    """A year at this desk: on each working evening about so many uses."""
    luck = np.random.default_rng(seed)
    every = {place: one for place, one in bound(plan).items() if _is_worked_with(plan, place)}
    levels: dict[str, list[Place]] = {}
    for place in every:
        levels.setdefault(place[0], []).append(place)
    places = [place for mine in levels.values() for place in mine]
    largest = max(levels.values(), key=len)
    chosen = [largest[at] for at in luck.permutation(len(largest)) if not every[largest[at]].undoes]
    missed, meant, rising, falling, one, other = chosen[:6]
    layers = [
        level.name
        for profile in plan.profiles.values()
        for layer in profile.layers.values()
        for level in layer.levels[-1:]
    ]
    layers = [level for level in dict.fromkeys(layers) if level in levels]
    truth = Truth(
        missed, meant, rising, falling, (), (one, other), layers[int(luck.integers(len(layers)))] if layers else ""
    )
    special = {missed, meant, rising, falling, one, other}
    weights = np.zeros(len(places))
    never = []
    for mine in levels.values():
        order = luck.permutation(len(mine))
        for rank, at in enumerate(order):
            place = mine[at]
            if place not in special and not every[place].undoes and len(mine) > 4 and rank >= 0.8 * len(mine):
                never.append(place)
                continue
            weights[places.index(place)] = len(mine) / (rank + 1.5)
    for place in special:
        weights[places.index(place)] = max(weights[places.index(place)], 0.25 * len(largest))
    truth.never = tuple(never)
    bindings = [every[place] for place in places]
    # Undoing is seen where something was wrong, and nowhere else.
    weights[[one.undoes for one in bindings]] = 0.0
    undo = next(at for at, one in enumerate(bindings) if one.undoes)
    numbers = {place: at for at, place in enumerate(places)}
    batches = []
    profiles = [
        name for name in plan.profiles if any(level.partition("/")[0] == name for level in levels) and name in PROGRAMS
    ]
    home = np.array(
        [profiles.index(root) if (root := place[0].partition("/")[0]) in profiles else -1 for place in places]
    )
    programs = list(dict.fromkeys(PROGRAMS[name] for name in profiles))
    numbered = np.array(
        [[programs.index(PROGRAMS[name]) + 1, len(programs) + 1 + at] for at, name in enumerate(profiles)]
    )
    times = [Binding(place[0], place[1], "time hold") for place in places if place[2] in ("tap", "hold")]
    offs = [Binding(level, "", "layer") for level in layers]
    whole = [*bindings, *times, *offs]
    for day in range(days):
        if (BEGINS // DAY + day + 3) % 7 >= 5:
            continue  # Saturday, Sunday
        along = day / max(days - 1, 1)
        today = weights.copy()
        today[numbers[rising]] *= 0.5 * 4**along
        today[numbers[falling]] *= 2 * 0.25**along
        uses = _evening(luck, today / today.sum(), luck.poisson(an_evening), numbers, truth, undo, home)
        batches.append(_packed(luck, uses, day, whole, numbered, truth).tobytes())
    return MadeUp(whole, [*programs, *profiles], batches, truth, BEGINS + days * DAY)


def _is_worked_with(plan: Plan, place: Place) -> bool:
    return place[2] in ("press", "tap", "hold", "double", "turn")


def _evening(
    luck: np.random.Generator,
    shares: NDArray[np.float64],
    number: int,
    numbers: dict[Place, int],
    truth: Truth,
    undo: int,
    home: NDArray[np.int64],
) -> NDArray[np.int64]:
    """What is done one after the other, how many milliseconds after what came before, and in which profile: three columns."""
    meant = luck.choice(len(shares), number, p=shares)
    profile = np.where(home[meant] >= 0, home[meant], luck.integers(home.max() + 1, size=number))
    order = np.argsort(np.arange(number) // _AT_A_STRETCH * len(shares) + profile, kind="stable")
    meant, profile = meant[order], profile[order]
    rows = np.full((number, 4), -1, np.int64)  # by mistake, undone, done, what follows
    rows[:, 2] = meant
    near = np.clip(np.arange(number) + luck.integers(-20, 21, number), 0, number - 1)
    anything = meant[near]
    slips = (luck.random(number) < ANY_MISS) & (profile[near] == profile)
    rows[slips, 0] = anything[slips]
    slips_there = (meant == numbers[truth.meant]) & (luck.random(number) < MISSED)
    rows[slips_there, 0] = numbers[truth.missed]
    rows[rows[:, 0] >= 0, 1] = undo
    follows = (meant == numbers[truth.pair[0]]) & (luck.random(number) < FOLLOWS)
    rows[follows, 3] = numbers[truth.pair[1]]
    after = np.empty((number, 4), np.int64)
    after[:, 0] = after[:, 2] = 400 + luck.lognormal(8.0, 1.0, number)
    after[:, 1] = 250 + luck.lognormal(5.8, 0.4, number)
    after[:, 3] = 200 + luck.lognormal(5.5, 0.4, number)
    right = rows[:, 0] >= 0
    after[right, 2] = 200 + luck.lognormal(5.5, 0.4, int(right.sum()))
    there = rows >= 0
    return np.stack([rows[there], after[there], np.broadcast_to(profile[:, None], rows.shape)[there]], axis=1)


def _packed(
    luck: np.random.Generator,
    done: NDArray[np.int64],
    day: int,
    whole: list[Binding],
    numbered: NDArray[np.int64],
    truth: Truth,
) -> NDArray[np.void]:
    """The records of an evening, with the times that were measured, and the layers that went off."""
    begins = (BEGINS + day * DAY + 18 * 3600) * 1000
    at = begins + np.cumsum(done[:, 1])
    timed = {(one.level, one.control): number for number, one in enumerate(whole, 1) if one.gesture == "time hold"}
    offs = {one.level: number for number, one in enumerate(whole, 1) if one.gesture == "layer"}
    uses = np.zeros(len(done), USES)
    uses["binding"] = done[:, 0] + 1
    uses["lasted"] = UNKNOWN
    uses["program"], uses["profile"] = numbered[done[:, 2]].T
    parts, times = [uses], [at]
    for number, one in enumerate(whole):
        which = done[:, 0] == number
        mine, where = at[which], numbered[done[which, 2]]
        if (one.level, one.control) in timed and one.gesture in ("tap", "hold"):
            middle, spread = TIMES[one.gesture == "tap"]
            lasted = np.clip(1000 * middle * luck.lognormal(0, spread, len(mine)), 5, 60_000)
            parts.append(_like(len(mine), timed[one.level, one.control], lasted, where))
            times.append(mine + (0 if one.gesture == "tap" else 1))
        if one.level in offs and one.control and len(mine):
            parts.append(_like(len(mine), offs[one.level], np.full(len(mine), 600), where))
            times.append(mine + 300)
            share = SEARCHED if one.level == truth.searched else EMPTY
            empty = luck.poisson(len(mine) * share / (1 - share))
            parts.append(_like(empty, offs[one.level], np.full(empty, 400), where[:1]))
            times.append(luck.integers(begins, begins + 3 * 3_600_000, empty))
    uses, at = np.concatenate(parts), np.concatenate(times)
    order = np.argsort(at, kind="stable")
    uses, at = uses[order], at[order]
    uses["second"], uses["ms"], uses["count"] = at // 1000, at % 1000, 1
    return uses


def _like(
    number: int, binding: int, lasted: NDArray[np.float64] | NDArray[np.int64], where: NDArray[np.int64]
) -> NDArray[np.void]:
    made = np.zeros(number, USES)
    made["binding"], made["lasted"] = binding, lasted
    made["program"], made["profile"] = where.T
    return made


def write_made_up(path: Path, year: MadeUp) -> None:
    """Writes it as a journal."""
    journal = Journal(path, new=True)
    try:
        journal.add_batches(year.bindings, year.programs, year.batches)
    finally:
        journal.close()
