"""How sure a count is: intervals of shares and tests, with the share of false findings among all held down."""

from __future__ import annotations

from collections.abc import Sequence
from math import erfc, sqrt

import numpy as np
from numpy.typing import NDArray
from scipy.special import betainc, betaincinv

FALSE_FINDINGS = 0.01
"""The expected share of false findings among those of one sort (Benjamini and Hochberg 1995)."""
SURE = 0.95
"""How often an interval holds what it is about."""


def share_interval(hits: int, of: int, sure: float = SURE) -> tuple[float, float]:
    """Within which a share lies (Clopper and Pearson 1934): it never promises too much."""
    if not of:
        return (0.0, 1.0)
    out = (1 - sure) / 2
    low = float(betaincinv(hits, of - hits + 1, out)) if hits else 0.0
    high = float(betaincinv(hits + 1, of - hits, 1 - out)) if hits < of else 1.0
    return (low, high)


def at_least(hits: int, of: int, share: float) -> float:
    """How likely it is to see so many hits or more where the share is that (binomial)."""
    if hits <= 0:
        return 1.0
    return float(betainc(hits, of - hits + 1, min(max(share, 1e-12), 1 - 1e-12)))


def trend(values: Sequence[float] | NDArray[np.float64]) -> tuple[float, float]:
    """Kendall's tau of a series with its time, and how likely it is to be so far from 0 by chance (two-sided, normal
    approximation with ties, Kendall 1975). Neither asks how the values are spread."""
    series = np.asarray(values, float)
    n = len(series)
    if n < 4:
        return (0.0, 1.0)
    signs = np.sign(series[None, :] - series[:, None])
    score = float(np.triu(signs, 1).sum())
    _, ties = np.unique(series, return_counts=True)
    variance = (n * (n - 1) * (2 * n + 5) - float((ties * (ties - 1) * (2 * ties + 5)).sum())) / 18
    if variance <= 0:
        return (0.0, 1.0)
    z = max(abs(score) - 1, 0.0) / sqrt(variance)
    return (score / (n * (n - 1) / 2), erfc(z / sqrt(2)))


def found_among(chances: Sequence[float], false: float = FALSE_FINDINGS) -> list[bool]:
    """Which of several findings stand, each with how likely it is by chance (Benjamini and Hochberg 1995)."""
    n = len(chances)
    order = sorted(range(n), key=lambda one: chances[one])
    last = max((rank for rank, one in enumerate(order, 1) if chances[one] <= false * rank / n), default=0)
    standing = set(order[:last])
    return [one in standing for one in range(n)]
