"""The pointer: moves and scrolling, as fast as a control is deflected, a step at a time, or as a mouse moves."""

from __future__ import annotations

import re

from msgspec import Struct

from fenko.core import steps
from fenko.core.controls import TOWARDS
from fenko.core.reader import PhraseError, Reader
from fenko.core.registration import Act, Argument, Said, Verb

MOST = 100_000.0
"""Of anything: pixels or lines a second, pixels or lines at once."""
LEAST = 0.001
FACTORS = (0.001, 1000.0)
_FACTOR = re.compile(r"x(\d+(?:\.\d+)?)")
_NUMBER = re.compile(r"\d+(?:\.\d+)?")


class How(Struct, frozen=True):
    """How far: `number` pixels or lines a second (`way` empty), so many times as far as a mouse moves (`x`), or so many at
    once to one of `TOWARDS`."""

    number: float
    way: str = ""


class MovePointer(Said, frozen=True):
    """The pointer moves."""

    how: How

    def back(self) -> Said | None:
        """A step the other way."""
        return MovePointer(How(self.how.number, _OTHER_WAY[self.how.way])) if self.how.way in _OTHER_WAY else None


class Scroll(Said, frozen=True):
    """What is under the pointer scrolls."""

    how: How

    def back(self) -> Said | None:
        """A step the other way."""
        return Scroll(How(self.how.number, _OTHER_WAY[self.how.way])) if self.how.way in _OTHER_WAY else None


_OTHER_WAY = {"left": "right", "right": "left", "up": "down", "down": "up"}


def _read(reader: Reader, verb: str) -> How:
    word, start = reader.argument(verb, "a speed, such as 900, a factor, such as x0.5, or a step, such as right 20")
    factor = _FACTOR.fullmatch(word)
    if factor is not None:
        return How(_within(reader, float(factor[1]), word, start, *FACTORS), "x")
    way = ""
    if word in TOWARDS:
        way = word
        word, start = reader.argument(f"{verb} {way}", "a number, such as 20")
    if _NUMBER.fullmatch(word) is None:
        what = f"a number after `{verb}`" + (f" `{way}`" if way else ", or left, right, up or down")
        raise reader.error(f"`{word}` is not {what}", word, start)
    return How(_within(reader, float(word), word, start, LEAST, MOST), way)


def _within(reader: Reader, number: float, word: str, start: int, least: float, most: float) -> float:
    if not least <= number <= most:
        raise PhraseError(f"`{word}` is out of range: {least:g} to {most:g}", start, len(word))
    return number


def _write(how: How) -> str:
    number = f"{how.number:.6f}".rstrip("0").rstrip(".")
    return f"x{number}" if how.way == "x" else f"{how.way} {number}".strip()


HOW = Argument("V|xF|WAY N", _read, _write, (How(900), How(0.5, "x"), How(20, "right"), How(3, "up"), How(1.5)))


def _steps(act: str, how: How) -> tuple[steps.Step, ...]:
    if not how.way:
        return (steps.Move(act, how.number),)
    if how.way == "x":
        return (steps.Pass(act, how.number),)
    across, down = TOWARDS[how.way]
    return (steps.Send("pointer", act, (across * how.number, down * how.number)),)


def towards(across: float, down: float) -> str:
    """How far, in words: `right 300 down 20`; empty for nowhere."""
    ways = (("right" if across > 0 else "left", across), ("down" if down > 0 else "up", down))
    return " ".join(f"{way} {abs(far):g}" for way, far in ways if far)


VERBS = (
    Verb("pointer", MovePointer, (HOW,), lambda said: _steps("move", said.how), "pointer 900",
         "moves the pointer: at most so many pixels a second on a stick, hat, ring or tilt, `pointer right 20` one step, "
         "`pointer x0.5` half as far as the mouse moves, on its `motion`"),
    Verb("scroll", Scroll, (HOW,), lambda said: _steps("scroll", said.how), "scroll 20",
         "scrolls: at most so many lines a second on a stick or along one of its directions, `scroll down 3` one step, "
         "`scroll x0.1` by a mouse's `motion`"),
)  # fmt: skip
ACTS = (
    # Pixels; y grows downwards.
    Act(
        "pointer",
        "move",
        ("dx", "dy"),
        lambda dx, dy: f"pointer {towards(dx, dy) or 0}",
        "pixels, downwards positive",
        queues="summed",
    ),
    # Lines, to the right and downwards.
    Act(
        "pointer",
        "scroll",
        ("dx", "dy"),
        lambda dx, dy: f"scroll {towards(dx, dy) or 0}",
        "lines, to the right and downwards positive",
        queues="summed",
    ),
)
HELD = ()
