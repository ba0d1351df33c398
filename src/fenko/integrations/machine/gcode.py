"""A small reader of machine programs (RS-274, "G-code"): words, modal groups, units and coordinates of one line.

It knows what a desk may say: moves, offsets, units, the spindle and coolant. What it does not know is refused, for a machine
that is told something unknown does something unknown. Source of the words and their groups: the RS274/NGC interpreter's
specification (NIST, version 3)."""

from __future__ import annotations

import re
from collections.abc import Mapping

from msgspec import Struct

AXES = "XYZABC"
MM_PER_INCH = 25.4
LONGEST = 250
"""Characters of a line."""
_WORD = re.compile(r"\s*([A-Z])\s*([+-]?(?:\d+\.?\d*|\.\d+))")
_COMMENT = re.compile(r"\([^()]*\)|;.*$")
_GROUPS: dict[str, tuple[str, ...]] = {
    "motion": ("G0", "G1", "G2", "G3", "G38.2", "G38.3", "G80"),
    "plane": ("G17", "G18", "G19"),
    "units": ("G20", "G21"),
    "distance": ("G90", "G91"),
    "feed": ("G93", "G94"),
    "offset": ("G54", "G55", "G56", "G57", "G58", "G59"),
    "once": ("G4", "G10", "G28", "G30", "G53", "G92", "G92.1"),
    "spindle": ("M3", "M4", "M5"),
    "coolant": ("M7", "M8", "M9"),
    "program": ("M0", "M1", "M2", "M30"),
}
KNOWN = {word: group for group, words in _GROUPS.items() for word in words}
"""Every command that is known, and its modal group: a line may have one of each."""
_LETTERS = "FSTPLRIJKN" + AXES


class GcodeError(ValueError):
    """What is wrong with a line, and the column where (from 1)."""

    def __init__(self, message: str, column: int) -> None:
        super().__init__(message)
        self.column = column


class Line(Struct, frozen=True):
    """One line: its commands in order, and the number of each other letter."""

    commands: tuple[str, ...]
    words: Mapping[str, float]

    @property
    def axes(self) -> dict[str, float]:
        """The coordinates that it names, by axis in small letters."""
        return {letter.lower(): number for letter, number in self.words.items() if letter in AXES}


def read_line(text: str) -> Line:
    """What a line says. Raises GcodeError."""
    if len(text) > LONGEST:
        raise GcodeError(f"longer than {LONGEST} characters", LONGEST + 1)
    odd = next((at for at, one in enumerate(text, 1) if not " " <= one <= "~" and one != "\t"), None)
    if odd is not None:
        raise GcodeError("only plain letters, digits and signs", odd)
    bare = _COMMENT.sub(lambda found: " " * len(found[0]), text.upper()).rstrip()
    commands: list[str] = []
    words: dict[str, float] = {}
    groups: dict[str, str] = {}
    at = 0
    while at < len(bare):
        found = _WORD.match(bare, at)
        if found is None:
            column = at + 1 + len(bare[at:]) - len(bare[at:].lstrip())
            raise GcodeError("a letter and a number were expected", column)
        letter, number = found[1], float(found[2])
        column = found.start(1) + 1
        at = found.end()
        if letter in "GM":
            command = f"{letter}{number:g}"
            group = KNOWN.get(command)
            if group is None:
                raise GcodeError(f"`{command}` is not known", column)
            if group in groups and not (command == "G53" or groups[group] == "G53"):
                raise GcodeError(f"`{groups[group]}` and `{command}` say two things about the same ({group})", column)
            groups[group] = command
            commands.append(command)
        elif letter not in _LETTERS:
            raise GcodeError(f"the letter `{letter}` is not known", column)
        elif letter in words:
            raise GcodeError(f"`{letter}` is said twice", column)
        else:
            words[letter] = number
    if words.get("F", 1.0) <= 0:
        raise GcodeError("a feed has to be more than nothing", 1 + bare.index("F"))
    if "G4" in commands and words.get("P", -1.0) < 0:
        raise GcodeError("`G4` needs `P` with its seconds", 1)
    return Line(tuple(commands), words)
