"""Numbers that controls drive: their ranges, their units, and how the way of a control is spread over them."""

from __future__ import annotations

from msgspec import Struct

from fenko.core.conditioning import Points, between
from fenko.core.steps import Amount

DECIBELS = 60.0
"""Of a value with the scale `dB`, from its least audible to its most; below that it is at its least."""
LOUDNESS = 60.0
"""Decibels of a tenfold volume: audio servers count in the cube root of the amplitude."""


class Value(Struct, frozen=True):
    """A number with a name. `least` and `most` are its range, `step` its grain (0: none), `scale` how the way of a control
    that it follows is spread over the range: `linear`, `dB`, or points from [0, 0] to [1, 1]. With `keep` it is still what
    it was when Fenko starts again. `full` is what 0 dB are, of a volume; 0 for what is not counted in dB. `free`: the range
    is only what `%` and a whole control mean, and it may be beyond."""

    name: str
    least: float = 0.0
    most: float = 100.0
    start: float = 0.0
    step: float = 0.0
    unit: str = ""
    scale: str | Points = "linear"
    keep: bool = False
    full: float = 0.0
    free: bool = False

    @property
    def units(self) -> tuple[str, ...]:
        """The units in which it can be told."""
        return ("", "%", *((self.unit,) if self.unit not in ("", "%") else ()), *(("dB",) if self.full else ()))

    def number(self, amount: Amount, change: bool = False) -> float:
        """What an amount means here, as a value of its own or as a `change` of one. `%` is a share of the range, unless
        the value itself counts in `%`. A change in dB has no number of its own (`Amount.unit` tells)."""
        if amount.unit == "dB" and self.full:
            return self.full * 10 ** (amount.number / LOUDNESS)
        if amount.unit != "%" or self.unit == "%":
            return amount.number
        share = amount.number / 100 * (self.most - self.least)
        return share if change else self.least + share

    def ends(self, low: Amount | None, high: Amount | None) -> tuple[float, float]:
        """The two numbers between which it follows a control: these, or its whole range."""
        return self.least if low is None else self.number(low), self.most if high is None else self.number(high)

    def between(self, share: float, low: Amount | None, high: Amount | None) -> float:
        """The number where a control is `share` (0 to 1) of its way from `low` to `high`; in even steps of dB where both
        ends are told so."""
        if low is not None and high is not None and low.unit == high.unit == "dB" and self.full:
            return self.number(Amount(low.number + (high.number - low.number) * share, "dB"))
        return self.at(share, *self.ends(low, high))

    def at(self, share: float, low: float, high: float) -> float:
        """The number where a control is `share` (0 to 1) of its way from `low` to `high`."""
        if self.scale == "dB":
            share = 10 ** ((share - 1) * DECIBELS / 20) if share > 0 else 0.0
        elif not isinstance(self.scale, str):
            share = between(self.scale, share)
        return low + (high - low) * share

    def fitting(self, number: float) -> float:
        """The number that the value can be which is closest."""
        if self.free:
            return round(number, 9)
        number = min(self.most, max(self.least, number))
        if self.step:
            number = min(self.most, self.least + round((number - self.least) / self.step) * self.step)
        return round(number, 9)
