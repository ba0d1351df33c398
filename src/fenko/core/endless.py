"""Controls that turn without end and send steps of seven bits: in one of three codings, and they never tell in which. It is
recognised from what comes."""

from __future__ import annotations

from itertools import pairwise

CODINGS = ("twos-complement", "offset", "sign-magnitude")
"""How a step is written in seven bits: 1 is one right and 127 one left; 65 right and 63 left; 1 right and 65 left."""
_WAITS_FOR_OTHER = 4  # steps that may be one way or the other, until it is taken for certain
_SMALL = 16  # detents; a step of an endless control is smaller


def steps_in(coding: str, value: int) -> int:
    """How many detents a step of that coding is, to the right."""
    if coding == "offset":
        return value - 64
    if coding == "sign-magnitude":
        return -(value & 0x3F) if value & 0x40 else value
    return value - 128 if value & 0x40 else value


class EndlessReader:
    """The steps of one endless control. Nothing comes of them until it is certain which way they go: the first few are kept
    meanwhile."""

    def __init__(self, coding: str = "") -> None:
        self.coding = coding
        self._could = [coding] if coding else list(CODINGS)
        self._kept: list[int] = []

    def turn(self, value: int) -> int:
        """Detents to the right, by this step and those that were kept."""
        if self.coding:
            return steps_in(self.coding, value)
        if not value:
            return 0
        self._kept.append(value)
        left = [one for one in self._could if abs(steps_in(one, value)) < _SMALL]
        self._could = left or list(CODINGS)
        ways = [sum(steps_in(one, step) for step in self._kept) for one in self._could]
        certain = len(self._could) == 1 or len(self._kept) >= _WAITS_FOR_OTHER
        if not certain and len(set(ways)) > 1:
            return 0
        # More than one is left only where all come to the same, or where nobody can tell: then by how common they are.
        if certain:
            self.coding = self._could[0]
        self._kept.clear()
        return ways[0]


def sort_and_coding(values: list[int]) -> tuple[str, str]:
    """The sort of a controller of seven bits, and its coding, by what it sent while one control was used: a switch says all or
    nothing, an endless one the same small step again and again, a fader hardly ever the same twice."""
    if {*values} == {0, 127}:
        return "button", ""
    for coding in CODINGS:
        steps = [steps_in(coding, value) for value in values]
        small = all(0 < abs(step) < _SMALL for step in steps)
        if len(steps) >= 3 and small and any(one == other for one, other in pairwise(steps)):
            turns = EndlessReader()
            for value in values:
                turns.turn(value)
            return "dial", turns.coding or coding
    return "fader", ""
