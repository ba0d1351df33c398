"""Made-up devices of which everything is known: worn sticks and triggers, bouncing contacts, hands with habits.

A stick: where it rests differs each time, normally in each axis, as springs do; what it says trembles normally (thermal
noise of a potentiometer and its converter); let go, it swings back and settles within 80 ms. A contact that bounces
changes to and fro, evenly spread over the time that its blades swing (J. Ganssle, "A Guide to Debouncing", saw 1 to 10 ms in most
switches). A hand's times are log-normal (R. D. Luce, 1986).
"""

from __future__ import annotations

from math import cos, exp, pi, sin

import numpy as np
from msgspec import Struct

from fenko.core.changes import Change
from fenko.core.inputs import Raw

RATE = 250.0
"""Reports a second."""
_LEAST, _MOST = -32768, 32767


class WornStick(Struct):
    """A stick, in shares of what it can say; `ends` are how far it goes to the left, right, up and down."""

    centre: tuple[float, float] = (0.02, -0.03)
    noise: float = 0.004
    spread: float = 0.015
    ends: tuple[float, float, float, float] = (0.93, 0.96, 0.95, 0.9)
    drift: float = 0.0
    """How far its centre wanders across in a minute."""
    rate: float = RATE


def stick_take(
    stick: WornStick, seed: int, rests: int = 10, rest_seconds: float = 0.6, control: str = "stick-left"
) -> list[Change]:
    """A stick that is let go so many times, and moved round its edge in between."""
    noise = np.random.default_rng(seed)
    places: list[tuple[float, float]] = []

    def centre_now() -> tuple[float, float]:
        return stick.centre[0] + stick.drift * len(places) / stick.rate / 60, stick.centre[1]

    def edge(angle: float) -> tuple[float, float]:
        left, right, up, down = stick.ends
        x, y = cos(angle), sin(angle)
        return x * (right if x > 0 else left), y * (down if y > 0 else up)

    for _ in range(rests):
        middle = centre_now()
        at = (middle[0] + noise.normal(0, stick.spread), middle[1] + noise.normal(0, stick.spread))
        places += [at] * int((rest_seconds + noise.random() * 0.6) * stick.rate)
        start = noise.random() * 2 * pi
        far = edge(start)
        steps = int(0.12 * stick.rate)
        places += [tuple(a + (b - a) * n / steps for a, b in zip(at, far, strict=True)) for n in range(steps)]  # type: ignore[misc]
        places += [edge(start + 2 * pi * n / (0.9 * stick.rate)) for n in range(int(0.9 * stick.rate))]
        middle = centre_now()
        for n in range(int(0.08 * stick.rate)):  # it swings back
            share = exp(-n / stick.rate / 0.015) * cos(2 * pi * 25 * n / stick.rate)
            places.append((middle[0] + (far[0] - middle[0]) * share, middle[1] + (far[1] - middle[1]) * share))
    middle = centre_now()
    places += [middle] * int(stick.rate)
    return _reports(np.array(places) + noise.normal(0, stick.noise, (len(places), 2)), control, stick.rate)


def rest_positions(stick: WornStick, seed: int, rests: int, looks: int) -> np.ndarray:
    """What a stick says in so many rests, so many times in each."""
    noise = np.random.default_rng(seed)
    places = np.repeat(noise.normal(stick.centre, stick.spread, (rests, 2)), looks, axis=0)
    return places + noise.normal(0, stick.noise, places.shape)


def _reports(places: np.ndarray, control: str, rate: float) -> list[Change]:
    raw = np.clip(np.round((places + 1) / 2 * (_MOST - _LEAST) + _LEAST), _LEAST, _MOST).astype(int)
    changes: list[Change] = []
    before = [None, None]
    for n, point in enumerate(raw.tolist()):
        for axis, value in enumerate(point):
            if value != before[axis]:
                before[axis] = value
                changes.append((1 + n / rate, f"pad.{control}.{'xy'[axis]}", Raw(value, _LEAST, _MOST)))
    return changes


def trigger_take(rest: float, full: float, noise: float, seed: int, pushes: int = 8) -> list[Change]:
    """A trigger of 0 to 255 that rests at `rest` and reaches `full`, as shares."""
    random = np.random.default_rng(seed)
    values: list[float] = []
    for _ in range(pushes):
        values += [rest] * int((0.5 + random.random() * 0.4) * RATE)
        peak = full + random.normal(0, 0.004)
        values += [rest + (peak - rest) * sin(pi / 2 * min(1, n / 30)) for n in range(80)]
        values += [peak - (peak - rest) * n / 25 for n in range(25)]
    values += [rest] * int(RATE)
    raw = np.clip(np.round((np.array(values) + random.normal(0, noise, len(values))) * 255), 0, 255).astype(int)
    changes: list[Change] = []
    for n, value in enumerate(raw.tolist()):
        if n == 0 or value != raw[n - 1]:
            changes.append((1 + n / RATE, "pad.trigger-right", Raw(value, 0, 255)))
    return changes


class Hand(Struct):
    """How long a hand's presses are in the middle, in seconds, and how much they differ (of the logarithm)."""

    tap: float = 0.085
    hold: float = 0.6
    varies: float = 0.25
    again: float = 0.12
    together: float = 0.012


def button_take(hand: Hand, bounce: float, share: float, seed: int, taps: int = 40, holds: int = 20) -> list[Change]:
    """Presses of some buttons; a share of the changes bounces for at most `bounce` seconds."""
    random = np.random.default_rng(seed)
    changes: list[Change] = []
    t = 1.0

    def change(at: float, button: str, on: int) -> None:
        changes.append((at, f"pad.{button}", on))
        if bounce and random.random() < share:
            times = np.sort(random.uniform(0.0005, bounce, 2 * random.integers(1, 3)))
            for n, after in enumerate(times.tolist()):
                changes.append((at + after, f"pad.{button}", on if n % 2 else 1 - on))

    def long(middle: float) -> float:
        return float(middle * exp(random.normal(0, hand.varies)))

    kinds = ["tap"] * taps + ["hold"] * holds + ["twice"] * 10 + ["both"] * 10
    random.shuffle(kinds)
    for kind in kinds:
        button = ("south", "east", "west")[random.integers(3)]
        length = long(hand.hold if kind == "hold" else hand.tap)
        change(t, button, 1)
        if kind == "both":
            apart = long(hand.together)
            change(t + apart, "north", 1)
            change(t + apart + length, "north", 0)
        change(t + length, button, 0)
        t += length + 0.05
        if kind == "twice":
            gap = max(0.03, long(hand.again))
            t += gap - 0.05
            length = long(hand.tap)
            change(t, button, 1)
            change(t + length, button, 0)
            t += length
        t += 0.6 + random.random()
    return sorted(changes, key=lambda one: one[0])
