"""What is written on each control of a plan, before anybody draws it."""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Iterable, Iterator
from itertools import accumulate, combinations, pairwise
from typing import Literal

from msgspec import Struct

from fenko.core.controls import BUTTON, FADER, PAD, TRIGGER
from fenko.core.descriptions import DescribedControl, Description
from fenko.core.plan import Surface
from fenko.system.icons import by_name

Sort = Literal["button", "pushed", "directions", "turned", "silent"]

SORT_WORDS: dict[Sort, str] = {
    "button": "pressed",
    "pushed": "pushed, more or less far",
    "directions": "pushed in a direction",
    "turned": "turned",
    "silent": "sends nothing",
}
"""What a hand does with each sort of control."""


class Label(Struct, frozen=True):
    """One control of a plan: the name by which a desk binds it, smaller lines beneath, and what sort it is."""

    spot: DescribedControl
    title: str
    small: tuple[str, ...]
    sort: Sort
    whole: bool = False
    """Whether every line has to be said, if not in its place then beneath the plan; and nothing else."""
    colour: str = ""
    icon: str = ""
    """The name of an icon, or characters."""
    bound: bool = True
    lit: bool = False
    """Whether a hand has it now."""
    fill: str = ""
    """A colour that says something of it, and is not that of its binding."""

    @property
    def spoken(self) -> str:
        """The title in characters, with the icon where that is one."""
        return f"{self.icon} {self.title}".strip() if self.icon and not by_name(self.icon) else self.title

    @property
    def directions(self) -> tuple[str, ...]:
        """The directions that are bound on their own."""
        return self.spot.shape.directions

    @property
    def box(self) -> tuple[float, float, float, float]:
        """Left, top, right and bottom, in mm."""
        (x, y), (w, h) = self.spot.at or (0.0, 0.0), self.spot.size
        return (x - w / 2, y - h / 2, x + w / 2, y + h / 2)


def labels(description: Description, surface: Surface) -> list[Label]:
    """The labels of a laid-out description, with the names of the desk's surface; large controls first, so that what
    lies on them is drawn on them."""
    found = []
    for spot in description.spots:
        if spot.at is not None:
            riding = tuple(surface.own_name(other.control) for other in description.spots if other.on == spot.control)
            found.append(_label(spot, surface, riding))
    return sorted(found, key=lambda label: -label.spot.size[0] * label.spot.size[1])


def _label(spot: DescribedControl, surface: Surface, riding: tuple[str, ...]) -> Label:
    own = surface.own_name(spot.control)
    title = own if own != spot.control else spot.name or own
    small = list(riding)
    if title != spot.control and spot.sends is None:
        small.append(spot.control)
    if spot.sends:
        small.append(f"as {' + '.join(spot.sends)}")
    if spot.printed and spot.printed.lower() != title:
        small.append(f"“{spot.printed}”")
    return Label(spot, title, tuple(small), _sort(spot))


def _sort(spot: DescribedControl) -> Sort:
    shape = spot.shape
    if spot.sends == ():
        return "silent"
    if shape.turns:
        return "turned"
    return "button" if shape is BUTTON else "pushed" if shape in (TRIGGER, FADER, PAD) else "directions"


def covered_from(label: Label, labels: Iterable[Label]) -> float | None:
    """Where, in mm, the first control begins that lies on this one; None where none does."""
    left, top, right, bottom = label.box
    tops = [
        other.box[1]
        for other in labels
        if other is not label and left < other.box[0] and other.box[2] < right and top < other.box[1] < bottom
    ]
    return min(tops, default=None)


def remarks(description: Description, surface: Surface) -> Iterator[str]:
    """What is odd about controls, a line each."""
    for spot in description.spots:
        if spot.trouble:
            yield f"{surface.own_name(spot.control)} {spot.trouble}"


def ways_to_break(text: str, most: int) -> Iterator[list[str]]:
    """The text in one line, two … `most`, broken after hyphens and at blanks."""
    parts = _PARTS.findall(text) or [text]
    for cuts in range(min(most, len(parts))):
        for places in combinations(range(1, len(parts)), cuts) if len(parts) <= _MOST_PARTS else _evenly(parts, cuts):
            edges = (0, *places, len(parts))
            yield ["".join(parts[a:b]).strip() for a, b in pairwise(edges)]


_PARTS = re.compile(r"[^-\s]*-+|[^-\s]+\s*|\s+")
_MOST_PARTS = 10  # of more, not every way is tried


def _evenly(parts: list[str], cuts: int) -> Iterator[tuple[int, ...]]:
    """One way to cut so often, in pieces of about the same length."""
    ends = list(accumulate(map(len, parts)))
    wanted = [ends[-1] * number / (cuts + 1) for number in range(1, cuts + 1)]
    places = sorted({bisect_left(ends, one) + 1 for one in wanted} - {len(parts)})
    if len(places) == cuts:
        yield tuple(places)
