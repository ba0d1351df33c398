"""Text that is broken and shrunk until it fits into its room: measured, never cut off, in any script."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator, Sequence
from functools import lru_cache

from msgspec import Struct

from fenko.drawing.scene import Measure, Words

LEADING = 1.2
"""From line to line, at least, in sizes of the font; scripts that reach further get more."""
SMALL = 0.74
"""Small lines, in sizes of the title."""
_FINE = 0.02
"""How exactly a size is looked for."""
_PIECES = re.compile(r"[^-+/\s]*[-+/]+\s*|[^-+/\s]+\s*|\s+")


class Lettering(Struct, frozen=True):
    """Lines, each with whether it is bold, its size and how it was measured (mm); and how high they are together."""

    lines: tuple[tuple[str, bool, float, float, float, float], ...]
    size: float
    high: float


def fitting(
    title: str, small: Sequence[str], wide: float, high: float, sizes: tuple[float, float], measure: Measure
) -> Lettering | None:
    """The title, bold, and smaller lines under it, as large as fits into so many mm, from the least to the largest of `sizes`.

    None where not even the least size does without breaking a word."""
    return _fitting(title, tuple(small), round(wide, 3), round(high, 3), sizes, measure)


@lru_cache(4096)
def _fitting(
    title: str, small: tuple[str, ...], wide: float, high: float, sizes: tuple[float, float], measure: Measure
) -> Lettering | None:
    least, largest = sizes
    found = _set(title, small, wide, largest, measure)
    if found is not None and found.high <= high:
        return found
    best = _set(title, small, wide, least, measure)
    if best is None or best.high > high:
        return None
    while largest - least > _FINE * least:
        size = (least + largest) / 2
        found = _set(title, small, wide, size, measure)
        if found is not None and found.high <= high:
            best, least = found, size
        else:
            largest = size
    return best


def squeezed(title: str, small: Sequence[str], wide: float, high: float, largest: float, measure: Measure) -> Lettering:
    """The same, however small it has to be; words are broken anywhere before letters are less than 1.2 mm."""
    found = fitting(title, small, wide, high, (1.2, max(1.2, largest)), measure)
    if found is not None:
        return found
    size = min(1.2, largest)
    while (broken := _set(title, tuple(small), wide, size, measure, anywhere=True)) is None or broken.high > high:
        size *= 0.93
    return broken


def _set(
    title: str, small: tuple[str, ...], wide: float, size: float, measure: Measure, anywhere: bool = False
) -> Lettering | None:
    """Everything at one size; None if a word is wider than the room."""
    lines: list[tuple[str, bool, float, float, float, float]] = []
    total = 0.0
    for text, bold, own in ((title, True, size), *((line, False, size * SMALL) for line in small)):
        if not text.strip():
            continue
        broken = wrapped(text, bold, wide / own, measure, anywhere)
        if broken is None:
            return None
        for piece in broken:
            room = measure(piece, bold)
            spare = max(0.0, LEADING - room.above - room.below) / 2
            lines.append((piece, bold, own, room.wide * own, (room.above + spare) * own, (room.below + spare) * own))
            total += lines[-1][4] + lines[-1][5]
    return Lettering(tuple(lines), size, total)


def wrapped(text: str, bold: bool, wide: float, measure: Measure, anywhere: bool = False) -> list[str] | None:
    """The text in lines no wider than that (in sizes of the font), broken where one may; None if that is not enough, unless it
    may be broken `anywhere`."""
    lines: list[str] = []
    now = ""
    for piece in pieces(text):
        if measure((now + piece).rstrip(), bold).wide <= wide:
            now += piece
            continue
        if now.strip():
            lines.append(now.strip())
        now = piece.lstrip()
        if measure(now.rstrip(), bold).wide > wide:
            if not anywhere:
                return None
            *full, now = _chopped(now, bold, wide, measure)
            lines += full
    return [*lines, now.strip()] if now.strip() or not lines else lines


def _chopped(text: str, bold: bool, wide: float, measure: Measure) -> list[str]:
    """A word in pieces that fit; one character at least in each."""
    found = [""]
    for cluster in _clusters(text):
        if found[-1] and measure(found[-1] + cluster, bold).wide > wide:
            found.append("")
        found[-1] += cluster
    return found


def pieces(text: str) -> Iterator[str]:
    """What is not broken: words, parts of words up to a hyphen, plus or stroke, single characters of scripts without blanks."""
    for piece in _PIECES.findall(text):
        now = ""
        for cluster in _clusters(piece):
            if now and (_stands_alone(cluster) or _stands_alone(now[0])) and not cluster.isspace():
                yield now
                now = ""
            now += cluster
        if now:
            yield now


def _clusters(text: str) -> Iterator[str]:
    """Characters with what combines with them."""
    now = ""
    for character in text:
        joins = unicodedata.combining(character) or character in "\u200d\ufe0f" or 0x1F3FB <= ord(character) <= 0x1F3FF
        if now and not joins and not now.endswith("\u200d"):
            yield now
            now = ""
        now += character
    if now:
        yield now


def _stands_alone(character: str) -> bool:
    """Whether a line may end before or after it: ideographs and kana, which are written without blanks."""
    return unicodedata.east_asian_width(character[0]) in "WF" and unicodedata.category(character[0])[0] in "LS"


def set_in_middle(lettering: Lettering, x: float, y: float, colours: tuple[str, str]) -> Iterator[Words]:
    """The lines about a middle, in a colour for the title and one for the rest."""
    top = y - lettering.high / 2
    for text, bold, size, wide, above, below in lettering.lines:
        yield Words(x, top + above, text, size, wide, colours[0] if bold else colours[1], bold)
        top += above + below
