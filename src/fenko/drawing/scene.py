"""What is drawn, before anybody draws it: shapes and words on a page, in millimetres from its left upper corner."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from msgspec import Struct

from fenko.system.icons import Move

POINT = 25.4 / 72
"""Millimetres of a printer's point."""


class Pen(Struct, frozen=True):
    """How a line is drawn: its colour, its width in mm, and the lengths of dashes and gaps (mm); empty for an unbroken one."""

    colour: str
    width: float = 0.3
    dash: tuple[float, ...] = ()


class Box(Struct, frozen=True):
    """A rectangle with round corners. A pen draws on its edge, half within and half outside."""

    x: float
    y: float
    wide: float
    high: float
    rounding: float = 0.0
    fill: str = ""
    pen: Pen | None = None


class Oval(Struct, frozen=True):
    """The ellipse that fills such a rectangle."""

    x: float
    y: float
    wide: float
    high: float
    fill: str = ""
    pen: Pen | None = None


class Outline(Struct, frozen=True):
    """Moves, each coordinate times `scale`, with their origin at a place; round at ends and corners."""

    moves: tuple[Move, ...]
    x: float = 0.0
    y: float = 0.0
    scale: float = 1.0
    fill: str = ""
    pen: Pen | None = None

    def placed(self) -> Iterator[Move]:
        """The moves where they are drawn."""
        origin = (self.x, self.y)
        for letter, numbers in self.moves:
            yield letter, tuple(origin[at % 2] + number * self.scale for at, number in enumerate(numbers))


class Words(Struct, frozen=True):
    """One line of text. `x` is where it begins, or its middle; `y` the line on which letters stand; `size` that of the font, and
    `wide` how wide it was measured, in mm."""

    x: float
    y: float
    text: str
    size: float
    wide: float
    colour: str
    bold: bool = False
    middle: bool = True
    even: bool = False
    """In a font whose letters are all as wide as one another."""

    @property
    def left(self) -> float:
        """Where it begins."""
        return self.x - self.wide / 2 if self.middle else self.x


Item = Box | Oval | Outline | Words


class Page(Struct, frozen=True):
    """A page with what is on it, what was first beneath."""

    wide: float
    high: float
    colour: str
    items: tuple[Item, ...]
    title: str = ""


class Size(Struct, frozen=True):
    """How much room a line takes: its width, and how far it reaches above and below the line on which letters stand."""

    wide: float
    above: float
    below: float


Measure = Callable[[str, bool], Size]
"""The size of a text, bold or not, in a font of size 1, on whatever will draw it."""


def line(x0: float, y0: float, x1: float, y1: float, pen: Pen) -> Outline:
    """A straight line."""
    return Outline((("M", (x0, y0)), ("L", (x1, y1))), pen=pen)


def mixed(colour: str, with_other: str, share: float) -> str:
    """A colour (#rrggbb) with so much of it and the rest of another."""
    pairs = zip(_parts(colour), _parts(with_other), strict=True)
    return "#" + "".join(f"{round(one * share + other * (1 - share)):02x}" for one, other in pairs)


def readable_on(colour: str) -> str:
    """Black or white, whichever has the greater contrast (WCAG 2)."""
    light = 0.0
    for part, weight in zip(_parts(colour), (0.2126, 0.7152, 0.0722), strict=True):
        share = part / 255
        light += weight * (share / 12.92 if share <= 0.04045 else ((share + 0.055) / 1.055) ** 2.4)
    return "#000000" if light > 0.179 else "#ffffff"


def _parts(colour: str) -> tuple[int, int, int]:
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)
