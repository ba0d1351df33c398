"""What a journal says of a desk: what is used, how often and how fast, what never is, what is missed, what comes and goes."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import numpy as np
from msgspec import Struct

from fenko.core.plan import Plan, Timing
from fenko.studies.confidence import at_least, found_among, share_interval, trend
from fenko.studies.tally import DAY, PACES, TIME_CLASSES, TIME_GRAIN, Floats, Ints, Tally
from fenko.system.journal import Binding, undoes, words_of

FEWEST = 20
"""Uses below which nothing is said of how something is used."""
OFTEN_MISSED = 2.0
"""How many times as often as all others something has to be taken back to be called a miss."""
DRIFT = 1.5
"""How many times as often something has to be used at the end as at the beginning, or the other way round."""
SEARCHED = 0.2
"""The share of times that a layer was on for nothing, above which it is said to be searched."""
_WEEKS_FOR_DRIFT = 8
_ENOUGH = 300
"""Uses of a profile after which what was never used in it says something."""
Place = tuple[str, str, str]
"""A level, a cell and a gesture."""


class Used(Struct):
    """One binding and what became of it. `pace`: the time in the middle (seconds) from what came before to it, nan where too little is
    known; `undone` of `presses` were taken back right after; `share` of its level's uses, `later` times as many at the end as at the
    beginning (1 where nothing is certain)."""

    level: str
    control: str
    gesture: str
    does: str
    uses: int
    presses: int
    pace: float
    undone: int
    undone_between: tuple[float, float]
    missed: bool
    instead: str
    later: float
    programs: dict[str, int]
    there: bool
    """Whether the desk still has it, doing that."""


class Unused(Struct):
    """A binding that was never used, in a profile with so many other uses; used in fewer than `below` of them, 95 % sure. `certain` where
    that says something."""

    level: str
    control: str
    gesture: str
    does: str
    others: int
    below: float
    certain: bool


class Judged(Struct):
    """How long a hand took at one cell, against the time that judges it. `near`: the share within a fifth of it on either side;
    seconds."""

    level: str
    control: str
    which: str
    threshold: float
    times: int
    middle: float
    low: float
    high: float
    near: float


class Searched(Struct):
    """A layer, how often it was on, and how often for nothing."""

    level: str
    on: int
    empty: int
    between: tuple[float, float]
    searched: bool


class Usage(Struct):
    """All that is said."""

    uses: int
    days: int
    first: int
    last: int
    programs: dict[str, int]
    """Uses by the program in front."""
    used: list[Used]
    unused: list[Unused]
    judged: list[Judged]
    layers: list[Searched]


def bound(plan: Plan) -> dict[Place, Binding]:
    """Every binding of a desk, as a journal would name it."""
    found: dict[Place, Binding] = {}
    for level in plan.levels.values():
        for cell in level.cells.values():
            surface, _, rest = cell.address.partition(".")
            shape = plan.surfaces[surface].shape(rest.partition(".")[0]) if "+" not in rest else None
            for gesture, binding in cell.gestures():
                told = "turn" if gesture == "press" and shape is not None and shape.turns else gesture
                found[level.name, cell.address, told] = Binding(
                    level.name, cell.address, told, words_of(binding), undoes(binding)
                )
    return found


def usage_of(plan: Plan, counted: Tally, bindings: Mapping[int, Binding], names: Mapping[int, str]) -> Usage:
    """What the tally of a journal says of a desk."""
    here = bound(plan)
    hands = {number: one for number, one in bindings.items() if one.counts and counted.counts[number]}
    used = [_used(number, one, counted, bindings, names, here) for number, one in hands.items()]
    _find_misses(used)
    _find_drift(used, list(hands), hands, counted)
    used.sort(key=lambda one: -one.uses)
    days = len(counted.days)
    return Usage(
        counted.uses, days, counted.first, counted.last, programs_of(used), used, list(_unused(plan, here, used)),
        list(_judged(plan, counted, bindings)), list(_layers(counted, bindings)),
    )  # fmt: skip


def programs_of(used: Iterable[Used]) -> dict[str, int]:
    """Uses with each program in front, the most used first."""
    found: dict[str, int] = {}
    for one in used:
        for program, times in one.programs.items():
            found[program] = found.get(program, 0) + times
    return dict(sorted(found.items(), key=lambda item: -item[1]))


def _used(
    number: int,
    one: Binding,
    counted: Tally,
    bindings: Mapping[int, Binding],
    names: Mapping[int, str],
    here: Mapping[Place, Binding],
) -> Used:
    presses, undone = int(counted.presses[number]), int(counted.undone[number])
    after = [(times, other) for (first, other), times in counted.instead.items() if first == number and other != number]
    instead = max(after, default=(0, 0))
    known = here.get((one.level, one.control, one.gesture))
    programs = {
        names.get(program, ""): times for (binding, program), times in counted.programs.items() if binding == number
    }
    return Used(
        one.level, one.control, one.gesture, one.does, int(counted.counts[number]), presses, middle_of(counted.paces[number]),
        undone, share_interval(undone, presses), False, bindings[instead[1]].control if instead[0] >= 3 else "", 1.0, programs,
        known is not None and known.does == one.does,
    )  # fmt: skip


def middle_of(counts: Ints, share: float = 0.5) -> float:
    """The time (seconds) that so large a share of the counted ones is below; nan for too few."""
    total = int(counts.sum())
    if total < FEWEST:
        return float("nan")
    at = int(np.searchsorted(np.cumsum(counts), share * total))
    return float(np.sqrt(PACES[at] * PACES[at + 1])) / 1000


def _find_misses(used: list[Used]) -> None:
    """What is taken back more often than everything else is."""
    presses, undone = sum(one.presses for one in used), sum(one.undone for one in used)
    chances = []
    for one in used:
        others = (undone - one.undone + 1) / (presses - one.presses + 2)
        likely = at_least(one.undone, one.presses, others) if one.presses >= FEWEST else 1.0
        chances.append(likely if one.undone / max(one.presses, 1) >= OFTEN_MISSED * others else 1.0)
    for one, stands in zip(used, found_among(chances), strict=True):
        one.missed = stands


def _find_drift(used: list[Used], numbers: list[int], hands: Mapping[int, Binding], counted: Tally) -> None:
    """What is used more and more, or less and less, of all that its level is used: by weeks, so that busy ones count no more."""
    weeks = by_week(counted, list(range(len(counted.counts))))[1].T
    if len(weeks) < _WEEKS_FOR_DRIFT:
        return
    levels: dict[str, list[int]] = {}
    for number, one in hands.items():
        levels.setdefault(one.level, []).append(number)
    of_level = {level: weeks[:, mine].sum(axis=1) for level, mine in levels.items()}
    chances, times = [], []
    for number, each in zip(numbers, used, strict=True):
        whole = of_level[each.level]
        there = whole >= FEWEST
        shares = weeks[there, number] / whole[there]
        third = len(shares) // 3
        if each.uses < 2 * FEWEST or third < 2 or len(levels[each.level]) < 2:
            chances.append(1.0)
            times.append(1.0)
            continue
        early, late = (
            (weeks[there, number][part].sum() + 0.5) / whole[there][part].sum()
            for part in (slice(third), slice(-third, None))
        )
        times.append(float(late / early))
        changes = times[-1] >= DRIFT or times[-1] <= 1 / DRIFT
        chances.append(trend(shares)[1] if changes else 1.0)
    for each, stands, later in zip(used, found_among(chances), times, strict=True):
        each.later = later if stands else 1.0


def _unused(plan: Plan, here: Mapping[Place, Binding], used: Iterable[Used]) -> Iterable[Unused]:
    done = {(one.level, one.control, one.gesture) for one in used}
    uses: dict[str, int] = {}
    for one in used:
        uses[one.level] = uses.get(one.level, 0) + one.presses
    for (level, control, gesture), binding in here.items():
        if (level, control, gesture) not in done:
            of = uses.get(level, 0)
            below = share_interval(0, of, 0.9)[1]  # one-sided, so 95 % sure
            yield Unused(level, control, gesture, binding.does, of, below, of >= _ENOUGH)


def timing_of(plan: Plan, level: str, control: str) -> Timing:
    """The times that judge a cell."""
    return _own_timing(plan, level, control) or plan.timing


def _own_timing(plan: Plan, level: str, control: str) -> Timing | None:
    cell = plan.levels[level].cell(control) if level in plan.levels else None
    return cell.timing if cell is not None else None


def _judged(plan: Plan, counted: Tally, bindings: Mapping[int, Binding]) -> Iterable[Judged]:
    for number, classes in counted.times.items():
        one, total = bindings[number], int(classes.sum())
        if total < FEWEST:
            continue
        which = one.gesture.removeprefix("time ")
        threshold = float(getattr(timing_of(plan, one.level, one.control), which))
        low, middle, high = (time_at(classes, share) for share in (0.05, 0.5, 0.95))
        near = share_between(classes, threshold * 0.8, threshold * 1.2)
        yield Judged(one.level, one.control, which, threshold, total, middle, low, high, near)


def times_of(plan: Plan, counted: Tally, bindings: Mapping[int, Binding], surface: str) -> dict[str, Floats]:
    """How long a hand took on a surface (seconds), by which of the desk's times judges that; without cells that have times of their
    own."""
    found: dict[str, list[Floats]] = {}
    middles = (np.arange(TIME_CLASSES) + 0.5) * TIME_GRAIN / 1000
    for number, classes in counted.times.items():
        one = bindings[number]
        if one.control.startswith(f"{surface}.") and _own_timing(plan, one.level, one.control) is None:
            found.setdefault(one.gesture.removeprefix("time "), []).append(np.repeat(middles, classes))
    return {which: np.concatenate(parts) for which, parts in found.items()}


def time_at(classes: Ints, share: float) -> float:
    """The time (seconds) that such a share is below."""
    return (int(np.searchsorted(np.cumsum(classes), share * classes.sum())) + 0.5) * TIME_GRAIN / 1000


def share_between(classes: Ints, low: float, high: float) -> float:
    """The share of times between two (seconds)."""
    total = int(classes.sum())
    edges = [min(round(seconds * 1000 / TIME_GRAIN), TIME_CLASSES) for seconds in (low, high)]
    return float(classes[edges[0] : edges[1]].sum()) / total if total else 0.0


def _layers(counted: Tally, bindings: Mapping[int, Binding]) -> Iterable[Searched]:
    for number, (on, empty) in counted.layers.items():
        between = share_interval(empty, on)
        yield Searched(bindings[number].level, on, empty, between, between[0] > SEARCHED)


def by_week(counted: Tally, wanted: list[int]) -> tuple[list[float], Ints]:
    """Uses of these bindings by week: the weeks' beginnings (Unix time), and a row for each binding."""
    if not counted.days:
        return [], np.zeros((len(wanted), 0), np.int64)
    first = min(counted.days)
    table = np.zeros((len(wanted), (max(counted.days) - first) // 7 + 1), np.int64)
    for day, counts in counted.days.items():
        table[:, (day - first) // 7] += counts[wanted]
    return [float((first + 7 * week) * DAY) for week in range(table.shape[1])], table
