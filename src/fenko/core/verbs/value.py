"""Values: numbers that a control drives. One grammar of changes serves all of them."""

from __future__ import annotations

import re
from typing import TypeAlias

from msgspec import Struct

from fenko.core import steps
from fenko.core.reader import NAME, PhraseError, Reader
from fenko.core.registration import Act, Argument, Said, Target, Verb
from fenko.core.steps import Amount, Item
from fenko.core.value import Value

_AMOUNT = re.compile(r"([+-]?)(\d+(?:\.\d+)?)([^\d\s.+-]\S*)?")
MOST = 1e9


class To(Struct, frozen=True):
    """The value becomes this."""

    amount: Amount


class By(Struct, frozen=True):
    """The value becomes so much more, or less."""

    amount: Amount


class Following(Struct, frozen=True):
    """The value is where the control is."""

    low: Amount | None = None
    high: Amount | None = None
    pick_up: bool = False


class Moving(Struct, frozen=True):
    """The value moves by so much a second."""

    speed: Amount


Change: TypeAlias = To | By | Following | Moving


class ChangeValue(Said, frozen=True):
    """A value of the desk's own changes."""

    name: str
    change: Change


def is_change(reader: Reader) -> bool:
    """Whether the next words change a value: not so `to` and a name."""
    word = reader.peek()
    if word != "to":
        return word in ("by", "follow", "rate")
    at = reader.at
    reader.word()
    after = reader.peek()
    reader.at = at
    return after.lstrip("+-")[:1].isdigit()


def _read_amount(reader: Reader, verb: str) -> tuple[Amount, str]:
    word, start = reader.argument(verb, "a number, such as 40 or 5%")
    found = _AMOUNT.fullmatch(word)
    if found is None or float(found[2]) > MOST:
        raise PhraseError(f"`{word}` is not a number, such as 40 or 5%", start, len(word))
    sign = -1.0 if found[1] == "-" else 1.0
    return Amount(sign * float(found[2]) + 0.0, found[3] or ""), found[1]


def read_change(reader: Reader, verb: str) -> Change:
    """`to V`, `by +V`, `follow [A to B] [pick-up]` or `rate V`."""
    word, start = reader.argument(verb, "to, by, follow or rate")
    match word:
        case "to":
            return To(_read_amount(reader, "to")[0])
        case "by":
            at = reader.at
            amount, sign = _read_amount(reader, "by")
            if not sign:
                written = _written(amount)
                raise PhraseError("a step says which way it goes", at + 1, len(written), f"+{written}")
            return By(amount)
        case "rate":
            return Moving(_read_amount(reader, "rate")[0])
        case "follow":
            low = high = None
            if _AMOUNT.fullmatch(reader.peek()) is not None or reader.peek().lstrip("+-")[:1].isdigit():
                low, _ = _read_amount(reader, "follow")
                between, at = reader.argument("follow", "`to` between its two ends")
                if between != "to":
                    raise reader.error(f"`to` stands between the two ends, not `{between}`", between, at, "to")
                high, _ = _read_amount(reader, "follow")
            pick_up = reader.peek() == "pick-up"
            if pick_up:
                reader.word()
            return Following(low, high, pick_up)
    raise reader.error(f"`{word}` is no change of a value: to, by, follow or rate", word, start)


def _written(amount: Amount, signed: bool = False) -> str:
    number = f"{amount.number:+.9f}" if signed else f"{amount.number:.9f}"
    return (number.rstrip("0").rstrip(".") if "." in number else number) + amount.unit


def write_change(change: Change) -> str:
    """The change as `read_change` reads it."""
    match change:
        case To():
            return f"to {_written(change.amount)}"
        case By():
            return f"by {_written(change.amount, signed=True)}"
        case Moving():
            return f"rate {_written(change.speed)}"
        case Following(low, high, pick_up):
            ends = f" {_written(low)} to {_written(high)}" if low is not None and high is not None else ""
            return f"follow{ends}" + (" pick-up" if pick_up else "")


def lowered(target: Item, change: Change) -> tuple[steps.Step, ...]:
    """What a change of a value comes down to."""
    match change:
        case To():
            return (steps.Set(target, change.amount),)
        case By():
            return (steps.Set(target, change.amount, step=True),)
        case Moving():
            return (steps.Rate(target, change.speed),)
        case Following():
            return (steps.Follow(target, change.low, change.high, change.pick_up),)


def _read_name(reader: Reader, verb: str) -> str:
    word, start = reader.argument(verb, "the name of a [value.NAME]")
    if NAME.fullmatch(word) is None:
        raise reader.error(f"`{word}` cannot be a value's name", word, start)
    return word


VALUE = Argument("NAME", _read_name, str, ("exposure", "zoom"), "value")
CHANGE = Argument(
    "CHANGE", read_change, write_change,
    (To(Amount(40, "%")), To(Amount(-2.5)), By(Amount(5)), By(Amount(-0.1)), By(Amount(3, "%")), Following(),
     Following(Amount(-1200), Amount(1200)), Following(pick_up=True), Following(Amount(0), Amount(50, "%"), True),
     Moving(Amount(30, "%")), Moving(Amount(-2))),
)  # fmt: skip

VERBS = (
    Verb("value", ChangeValue, (VALUE, CHANGE), lambda said: lowered(("value", said.name), said.change),
         "value exposure by +5",
         "changes a value of the desk: `to 40%`, `by +5`, `follow [A to B] [pick-up]` (it is where the control is), "
         "`rate 30%` (so much a second at full deflection)"),
)  # fmt: skip
ACTS = (
    Act("value", "set", ("name", "value"), lambda name, value: f"{name} = {value:g}", "a value of the desk, and what it is now",
        queues="newest", mood="change"),
)  # fmt: skip
HELD = ()
TARGETS = (
    Target("value", lambda name, tables: Value(name), str, lambda name: lambda number: ("set", name, number)),
)  # fmt: skip
