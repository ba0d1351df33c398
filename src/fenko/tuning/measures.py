"""What can be measured of a device and a hand, each number with its evidence.

Rest. A stick that is let go comes to rest near its centre, each time a little elsewhere (spread), and what it says there
trembles (noise). Both are taken as normal in each axis, so the distance from the centre is Rayleigh distributed: it is
beyond *d* with probability exp(-d²/2σ²), σ² = noise² + spread². The dead zone is where, of all that the device says at
rest in an hour, no more than the chosen number is expected beyond it.

Bounce. A contact changes several times within some milliseconds; no finger does. The debounce is a fifth more than the
longest time from a first change to the last one that followed it so closely.

Times of a hand. Reaction and movement times are close to log-normal (R. D. Luce, "Response Times", 1986), so a threshold
lies 2.6 standard deviations of the logarithm beyond the middle: one in two hundred is misjudged.
"""

from __future__ import annotations

from math import erf, exp, hypot, log, sqrt
from typing import Any

import numpy as np
from msgspec import Struct

from fenko.tuning.tracks import Numbers, Presses, Track, Turns

REST_AT_LEAST = 0.25
"""Seconds that a control has to be left alone to count as at rest."""
_SETTLES = 0.1  # s after it came there, in which its spring may still swing
_LEAVES = 0.05  # s before it left
NEAR = 0.25
"""How far from its rough centre a control can be at rest, as a share of its way."""
HOUR = 3600.0
BOUNCES_WITHIN = 0.025
"""Seconds; closer changes of one contact are its own doing."""
BEYOND = 2.6
"""Standard deviations; one in two hundred lies beyond on one side."""


class Rest(Struct, frozen=True):
    """Where a control rests: the centre, how much what it says trembles, how much its resting places differ, the furthest
    that it said at rest, how many rests there were, for how long in all, and how often it spoke in a second of them."""

    centre: tuple[float, float]
    noise: float
    spread: float
    furthest: float
    rests: int
    seconds: float
    rate: float

    def dead_zone(self, false_moves: float, axes: int) -> float:
        """The distance beyond which it strays so often in an hour at rest."""
        looks = max(self.rate * HOUR, 60.0) / max(false_moves, 1e-9)
        sigma = hypot(self.noise, self.spread)
        if axes == 2:
            return sigma * sqrt(2 * log(max(looks, 2.0)))
        return sigma * _normal_beyond(1 / max(looks, 2.0))


def _normal_beyond(share: float) -> float:
    """Beyond how many standard deviations, on either side, lies this share of a normal distribution."""
    low, high = 0.0, 10.0
    for _ in range(60):
        middle = (low + high) / 2
        if 1 - erf(middle / sqrt(2)) > share:
            low = middle
        else:
            high = middle
    return high


def rest_of(track: Track) -> Rest | None:
    """Where a control rests; None if it was never left alone for long enough."""
    x, y, lasted = track.x, track.y, track.lasted
    near = np.hypot(x, y) < 0.5
    if not near.any() or lasted[near].sum() <= 0:
        return None
    rough = (_weighted_median(x[near], lasted[near]), _weighted_median(y[near], lasted[near]))
    close = np.hypot(x - rough[0], y - rough[1]) < NEAR
    middles, off, weights, spoken, seconds = [], [], [], 0, 0.0
    for begin, end in _runs(close):
        came, left = track.t[begin], track.t[end] if end < len(track.t) else track.t[-1]
        if left - came < REST_AT_LEAST:
            continue
        since, until = came + _SETTLES, left - _LEAVES
        inside = slice(begin, end)
        starts = np.maximum(track.t[inside], since)
        ends = np.minimum(np.append(track.t[inside][1:], left), until)
        times = np.maximum(0.0, ends - starts)
        if times.sum() <= 0:
            continue
        middle = (np.average(x[inside], weights=times), np.average(y[inside], weights=times))
        middles.append(middle)
        used = times > 0
        off.append(np.column_stack([x[inside][used] - middle[0], y[inside][used] - middle[1]]))
        weights.append(times[used])
        spoken += int(((track.t[inside] >= since) & (track.t[inside] < until)).sum())
        seconds += until - since
    if not middles:
        return None
    places = np.array(middles)
    centre = places.mean(axis=0)
    axes = 2 if len(track.shape.axes) == 2 else 1
    strays, times = np.concatenate(off), np.concatenate(weights)
    noise = sqrt(float(np.average((strays**2).sum(axis=1), weights=times)) / axes)
    # Few places say little of how much they differ: the estimate is widened by its own uncertainty.
    few = 1 + 1 / sqrt(2 * max(1, len(places) - 1))
    spread = (
        float(np.sqrt(((places - centre) ** 2).sum() / (axes * max(1, len(places) - 1)))) * few
        if len(places) > 1
        else 0.0
    )
    furthest = float(max(np.hypot(*(one + place - centre).T).max() for one, place in zip(off, places, strict=True)))
    return Rest((float(centre[0]), float(centre[1])), noise, spread, furthest, len(places), seconds, spoken / seconds)


def _weighted_median(values: Numbers, weights: Numbers) -> float:
    order = np.argsort(values)
    total = np.cumsum(weights[order])
    return float(values[order][np.searchsorted(total, total[-1] / 2)])


def _runs(flags: np.ndarray[Any, np.dtype[np.bool_]]) -> list[tuple[int, int]]:
    """The stretches in which this is so: first index, and the one behind the last."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], flags, [False]]).astype(int)))
    return list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))


class Reach(Struct, frozen=True):
    """How far a control goes in one direction: the way that nearly every full push reaches, and how many there were."""

    way: float
    pushes: int


def reach_of(along: Numbers) -> Reach | None:
    """How far it goes in the direction in which these places grow; None if it was hardly pushed there."""
    if not len(along) or along.max() < 0.4:
        return None
    peaks = np.array([along[begin:end].max() for begin, end in _runs(along > along.max() * 0.6)])
    # What came near the end on its way elsewhere was no full push.
    full = peaks[peaks > along.max() * 0.95]
    return Reach(float(np.quantile(full, 0.25)), len(full))


def outer_of(x: Numbers, y: Numbers) -> tuple[float, int] | None:
    """How far a calibrated stick goes in the direction in which it goes least, and in how many of 16 directions it was
    pushed; None if those are too few to tell."""
    far = np.hypot(x, y)
    pushed = far > 0.75
    if not pushed.any():
        return None
    slices = ((np.arctan2(y[pushed], x[pushed]) / (2 * np.pi) * 16).round() % 16).astype(int)
    most = np.zeros(16)
    np.maximum.at(most, slices, far[pushed])
    seen = most > 0
    return (float(most[seen].min()), int(seen.sum())) if seen.sum() >= 12 else None


class Bounce(Struct, frozen=True):
    """How contacts bounce: the time from the first change to the last of each that did, and how many changes there were."""

    times: tuple[float, ...]
    changes: int

    @property
    def debounce(self) -> float:
        """Seconds that cover all of it."""
        return max(self.times, default=0.0) * 1.2


def bounce_of(presses: Presses) -> Bounce:
    """How one button bounces."""
    times, changes, begun = [], 0, 0
    for number in range(1, len(presses.t) + 1):
        if number < len(presses.t) and presses.t[number] - presses.t[number - 1] < BOUNCES_WITHIN:
            continue
        changes += 1
        if number - begun > 1:
            times.append(float(presses.t[number - 1] - presses.t[begun]))
        begun = number
    return Bounce(tuple(times), changes)


def settled(presses: Presses) -> list[tuple[float, float]]:
    """When a button was down, from and until, its bounce left out."""
    found: list[tuple[float, float]] = []
    down, last = False, -1.0
    for t, on in zip(presses.t.tolist(), presses.on.tolist(), strict=True):
        if on == down or t - last < BOUNCES_WITHIN:
            continue
        if on:
            found.append((t, t))
        elif found:
            found[-1] = (found[-1][0], t)
        down, last = on, t
    return [(since, until) for since, until in found if until > since]


class HandTime(Struct, frozen=True):
    """A threshold between what a hand does fast and what it does slowly: seconds, the number of fast ones and of slow ones
    that were seen, and the share of both that it would misjudge."""

    seconds: float
    fast: int
    slow: int
    misjudged: float


def between_taps_and_holds(durations: Numbers) -> HandTime | None:
    """From which duration on a press was meant as a hold; None where the two cannot be told apart."""
    if len(durations) < 10:
        return None
    logs = np.sort(np.log(durations))
    # The split into two groups with the least spread in each (N. Otsu, 1979).
    splits = [float(logs[:n].var() * n + logs[n:].var() * (len(logs) - n)) for n in range(5, len(logs) - 4)]
    at = 5 + int(np.argmin(splits)) if splits else 0
    fast, slow = logs[:at], logs[at:]
    if len(fast) < 5 or len(slow) < 5:
        return None
    sigma_fast, sigma_slow = max(float(fast.std(ddof=1)), 0.02), max(float(slow.std(ddof=1)), 0.02)
    if slow.mean() - fast.mean() < 2 * (sigma_fast + sigma_slow):
        return None
    # Where both are misjudged equally often.
    threshold = (slow.mean() * sigma_fast + fast.mean() * sigma_slow) / (sigma_fast + sigma_slow)
    beyond = 0.5 * (1 - erf((threshold - fast.mean()) / sigma_fast / sqrt(2)))
    below = 0.5 * (1 - erf((slow.mean() - threshold) / sigma_slow / sqrt(2)))
    return HandTime(exp(float(threshold)), len(fast), len(slow), float((beyond + below) / 2))


def longest_of(times: Numbers) -> HandTime | None:
    """Up to which time something of that sort goes on; None if it was seen too rarely."""
    if len(times) < 5:
        return None
    logs = np.log(np.maximum(times, 1e-4))
    return HandTime(exp(float(logs.mean() + BEYOND * max(float(logs.std(ddof=1)), 0.05))), len(times), 0, 0.005)


def turning_rates(turns: Turns) -> tuple[float, float] | None:
    """The detents a second of slow and of fast turning (the quarter and nine tenths of all); None if it hardly turned."""
    steps = np.abs(turns.by[1:])
    apart = np.diff(turns.t)
    going = (apart > 0) & (apart < 1.0)
    if going.sum() < 15:
        return None
    rates = steps[going] / apart[going]
    return float(np.quantile(rates, 0.25)), float(np.quantile(rates, 0.9))
