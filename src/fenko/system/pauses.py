"""How long a part that failed is left alone before it begins again: longer each time, until it has worked for a while."""

from __future__ import annotations

from math import inf

STEADY = 60.0
"""Seconds without a failure after which the pauses begin anew."""


class Pauses:
    """Pauses of `first` seconds, then each twice the one before, up to `longest`."""

    def __init__(self, first: float = 0.25, longest: float = 30.0) -> None:
        self._first = first
        self._longest = longest
        self._pause = first
        self._failed_at = -inf

    def next(self, now: float) -> float:
        """It has failed, at `now` (monotonic): how many seconds to wait."""
        if now - self._failed_at > STEADY + self._pause:
            self._pause = self._first
        else:
            self._pause = min(self._longest, self._pause * 2)
        self._failed_at = now
        return self._pause
