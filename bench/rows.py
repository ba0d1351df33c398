"""A row of the table, and taking the medians of runs that alternate."""

from __future__ import annotations

import statistics
from collections.abc import Callable
from typing import NamedTuple


class Row(NamedTuple):
    """What was measured, what was seen, what is aimed at, and whether it was reached."""

    what: str
    seen: str
    aim: str
    reached: bool


def median_and_late(times: list[float]) -> tuple[float, float]:
    """The median and the 99th percentile."""
    return statistics.median(times), statistics.quantiles(times, n=100)[98]


def ratio_of(ours: Callable[[], float], bare: Callable[[], float], rounds: int) -> tuple[float, float, float]:
    """The median of ours/bare over rounds that take turns, and the medians of both sides."""
    ratios, left, right = [], [], []
    for _ in range(rounds):
        left.append(ours())
        right.append(bare())
        ratios.append(left[-1] / right[-1])
    return statistics.median(ratios), statistics.median(left), statistics.median(right)
