"""Icons by name: those of Lucide, which Fenko ships (`data/icons`, with their licence), as outlines to be drawn with a pen."""

from __future__ import annotations

import gzip
import re
from collections.abc import Iterator
from functools import cache
from importlib import resources

import msgspec

from fenko.core.words import nearest

SIDE = 24.0
"""Icons lie in a square of that side; a pen of width 2 draws them."""
_PARTS = re.compile(r"([MLCZ])([^MLCZ]*)")
Move = tuple[str, tuple[float, ...]]


@cache
def _icons() -> dict[str, tuple[str, tuple[str, ...]]]:
    packed = (resources.files("fenko.data") / "icons" / "icons.json.gz").read_bytes()
    return msgspec.json.decode(gzip.decompress(packed), type=dict[str, tuple[str, tuple[str, ...]]])


def by_name(text: str) -> bool:
    """Whether an icon is called by name, instead of being some characters."""
    return len(text) > 2 and text.isascii()


def known(name: str) -> bool:
    """Whether there is an icon of that name."""
    return name in _icons()


def like(name: str) -> str | None:
    """The name most like it."""
    return nearest(name, _icons())


@cache
def outline(name: str) -> str:
    """What a pen draws, as the path of an SVG; empty if there is no such icon."""
    found = _icons().get(name)
    return found[0] if found else ""


@cache
def moves(name: str) -> tuple[Move, ...]:
    """The same as moves: M and L to a point, C along a cubic curve, Z to the beginning."""
    return tuple((letter, tuple(map(float, numbers.split()))) for letter, numbers in _PARTS.findall(outline(name)))


def search(words: tuple[str, ...]) -> Iterator[tuple[str, tuple[str, ...]]]:
    """Icons, and the words by which they are found, in whose name or words each of these occurs; those first in whose name
    all do."""
    wanted = [word.lower() for word in words]
    found = [
        (not all(word in name for word in wanted), name, tags)
        for name, (_, tags) in _icons().items()
        if all(word in name or any(word in tag.lower() for tag in tags) for word in wanted)
    ]
    for _, name, tags in sorted(found):
        yield name, tags
