"""Values: numbers of the desk's own, within their ranges. Every change of one is an effect."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from fenko.core.changes import Effect
from fenko.core.conditioning import Points, between
from fenko.core.steps import Amount, Item

DECIBELS = 60.0
"""Of a value with the scale `dB`, from its least audible to its most; below that it is at its least."""


class Value(Struct, frozen=True):
    """A number with a name. `least` and `most` are its range, `step` its grain (0: none), `scale` how the way of a control
    that it follows is spread over the range: `linear`, `dB`, or points from [0, 0] to [1, 1]. With `keep` it is still what
    it was when Fenko starts again."""

    name: str
    least: float = 0.0
    most: float = 100.0
    start: float = 0.0
    step: float = 0.0
    unit: str = ""
    scale: str | Points = "linear"
    keep: bool = False

    def number(self, amount: Amount, change: bool = False) -> float:
        """What an amount means here, as a value of its own or as a `change` of one. `%` is a share of the range, unless
        the value itself counts in `%`."""
        if amount.unit != "%" or self.unit == "%":
            return amount.number
        share = amount.number / 100 * (self.most - self.least)
        return share if change else self.least + share

    def ends(self, low: Amount | None, high: Amount | None) -> tuple[float, float]:
        """The two numbers between which it follows a control: these, or its whole range."""
        return self.least if low is None else self.number(low), self.most if high is None else self.number(high)

    def at(self, share: float, low: float, high: float) -> float:
        """The number where a control is `share` (0 to 1) of its way from `low` to `high`."""
        if self.scale == "dB":
            share = 10 ** ((share - 1) * DECIBELS / 20) if share > 0 else 0.0
        elif not isinstance(self.scale, str):
            share = between(self.scale, share)
        return low + (high - low) * share

    def fitting(self, number: float) -> float:
        """The number that the value can be which is closest."""
        number = min(self.most, max(self.least, number))
        if self.step:
            number = min(self.most, self.least + round((number - self.least) / self.step) * self.step)
        return round(number, 9)


class Values:
    """What every value is now. `out` takes the effects."""

    def __init__(self, known: Mapping[Item, Value], out: list[Effect]) -> None:
        self._out = out
        self._known = known
        self._exact = {item: value.fitting(value.start) for item, value in known.items()}
        self._told = dict(self._exact)
        self.changes = 0
        """How often one has changed so far."""

    @property
    def now(self) -> dict[Item, float]:
        """What each is."""
        return dict(self._told)

    def use(self, known: Mapping[Item, Value]) -> None:
        """Other values are known; those that were known before stay what they are, as far as they fit."""
        before = self._told
        self._known = known
        self._exact = {item: value.fitting(before.get(item, value.start)) for item, value in known.items()}
        self._told = dict(self._exact)

    def restore(self, item: Item, number: float) -> None:
        """It is what it was when Fenko ended, without an effect."""
        value = self._known.get(item)
        if value is not None:
            self._exact[item] = self._told[item] = value.fitting(number)

    def told(self, item: Item) -> float:
        """What it is, as was told last."""
        return self._told[item]

    def value(self, item: Item) -> Value:
        """What is known of it."""
        return self._known[item]

    def change(self, t: float, item: Item, amount: Amount, step: bool, times: float = 1.0) -> None:
        """It becomes this, or, by a step that counts so many times, so much more or less."""
        value = self._known[item]
        number = value.number(amount, change=step)
        self.set(t, item, self._told[item] + number * times if step else number)

    def add(self, t: float, item: Item, number: float) -> None:
        """It has moved that far; parts of its grain are kept until they are whole."""
        value = self._known[item]
        self._exact[item] = exact = min(value.most, max(value.least, self._exact[item] + number))
        self._tell(t, item, value.fitting(exact))

    def set(self, t: float, item: Item, number: float) -> None:
        """It is this now, or the closest that it can be."""
        self._exact[item] = number = self._known[item].fitting(number)
        self._tell(t, item, number)

    def _tell(self, t: float, item: Item, number: float) -> None:
        if number != self._told[item]:
            self._told[item] = number
            self.changes += 1
            out, name = item
            self._out.append((t, out, "set", name, number))
