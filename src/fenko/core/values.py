"""What every value is now: numbers of the desk's own, and numbers at another end, within their ranges.

Every change of one of the desk's own is an effect. A number at another end (a volume, a MIDI controller) is told there, in
the words that `fenko.core.registration.Target` gives it; what it is, only the other end knows, so it is told whenever it is
set, and where it only moves by so much, that is what is told."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from fenko.core.changes import Effect, Moving
from fenko.core.steps import Amount, Item
from fenko.core.value import Value
from fenko.core.verbs import TARGETS

Tells = Callable[[float], tuple[Any, ...]]
Moves = Callable[[Amount], tuple[Any, ...]]


class Values:
    """What every value is now. `out` takes the effects."""

    def __init__(self, known: Mapping[Item, Value], out: list[Effect]) -> None:
        self._out = out
        self._listed = self._known = known
        self._exact = {item: value.fitting(value.start) for item, value in known.items()}
        self._told = dict(self._exact)
        self._tells: dict[Item, Tells] = {}
        self._moves: dict[Item, Moves | None] = {}
        self.changes = 0
        """How often one has changed so far."""

    @property
    def now(self) -> dict[Item, float]:
        """What each is that the desk knows."""
        return {item: self._told[item] for item in self._listed}

    def use(self, known: Mapping[Item, Value]) -> None:
        """Other values are in the desk; those that were known before stay what they are, as far as they fit. What is known no
        longer is not listed, but an action that began before, or a stick that is still pushed, can change it."""
        before = self._told
        self._listed = known
        self._known = {**self._known, **known}
        self._exact = {item: value.fitting(before.get(item, value.start)) for item, value in self._known.items()}
        self._told = dict(self._exact)

    def restore(self, item: Item, number: float) -> None:
        """It is this, as somebody else knows, without an effect."""
        value = self._known.get(item)
        if value is not None:
            number = value.fitting(number)
            if number != self._told[item]:
                self.changes += 1
                self._exact[item] = self._told[item] = number

    def told(self, item: Item) -> float:
        """What it is, as was told last."""
        return self._told[item]

    def value(self, item: Item) -> Value:
        """What is known of it."""
        return self._known[item]

    def change(
        self, t: float, item: Item, amount: Amount, step: bool, times: float = 1.0, moving: bool = False
    ) -> None:
        """It becomes this, or, by a step that counts so many times, so much more or less; `moving`: by a dial."""
        value = self._known[item]
        moves = self._moved_by(item) if step else None
        if moves is not None:
            far = amount if amount.unit == "dB" else Amount(value.number(amount, change=True))
            effect = (t, item[0], *moves(Amount(round(far.number * times, 9), far.unit)))
            self._out.append(Moving(effect) if moving else effect)
            return
        number = value.number(amount, change=step)
        self.set(t, item, self._told[item] + number * times if step else number, again=not step, moving=moving)

    def add(self, t: float, item: Item, number: float) -> None:
        """It has moved that far; parts of its grain are kept until they are whole."""
        moves = self._moved_by(item)
        if moves is not None:
            if number := round(number, 9):
                self._out.append(Moving((t, item[0], *moves(Amount(number)))))
            return
        value = self._known[item]
        exact = self._exact[item] + number
        self._exact[item] = exact = exact if value.free else min(value.most, max(value.least, exact))
        self._tell(t, item, value.fitting(exact), moving=True)

    def set(self, t: float, item: Item, number: float, again: bool = False, moving: bool = False) -> None:
        """It is this now, or the closest that it can be; with `again` somebody else is told that it is, also where it was;
        `moving`: it follows a control, or is turned by a dial."""
        self._exact[item] = number = self._known[item].fitting(number)
        self._tell(t, item, number, again and item[0] != "value", moving)

    def _tell(self, t: float, item: Item, number: float, again: bool = False, moving: bool = False) -> None:
        if number != self._told[item] or again:
            self._told[item] = number
            self.changes += 1
            tells = self._tells.get(item)
            if tells is None:
                tells = self._tells[item] = TARGETS[item[0]].tells(item[1])
            effect = (t, item[0], *tells(number))
            self._out.append(Moving(effect) if moving else effect)

    def _moved_by(self, item: Item) -> Moves | None:
        if item not in self._moves:
            moves = TARGETS[item[0]].moves
            self._moves[item] = None if moves is None else moves(item[1])
        return self._moves[item]
