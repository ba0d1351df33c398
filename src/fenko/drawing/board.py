"""Several surfaces on one board, for a screen: as many beside one another as keep it from becoming too high."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from fenko.drawing.labels import Label
from fenko.drawing.plans import Look, noted, plan
from fenko.drawing.scene import POINT, Item, Page, Words

LEAST, LARGEST = 6.5 * POINT, 13 * POINT
"""Letters on a screen."""
_EDGE, _GAP = 3.0, 3.5
_HEAD, _NAME, _NOTE = 12 * POINT, 8.5 * POINT, 7.5 * POINT
_LARGEST_SCALE = 1.2


class Block(Struct, frozen=True):
    """A surface: its name, its body (mm), what stands on its controls, and what has no place there."""

    name: str
    body: tuple[float, float]
    labels: tuple[Label, ...]
    more: tuple[str, ...]


def board(title: str, aside: str, blocks: Sequence[Block], wide: float, high: float, look: Look) -> Page:
    """A page so wide (mm), and as high as it has to be; no higher than `high` if that can be, and of those that are not the one on
    which most is said in its place."""
    ways = [_board(title, aside, blocks, wide, across, look) for across in range(1, max(1, len(blocks)) + 1)]
    return min(ways, key=lambda way: (max(0.0, way[0].high - high), way[1], way[0].high))[0]


def _board(title: str, aside: str, blocks: Sequence[Block], wide: float, across: int, look: Look) -> tuple[Page, int]:
    """The page with so many in a row, and how much has to be said beneath."""
    items: list[Item] = [*_heading(title, aside, wide, look)]
    y = _EDGE + _HEAD * 1.5
    inside = wide - 2 * _EDGE
    beneath = 0
    for begin in range(0, len(blocks), across):
        row = blocks[begin : begin + across]
        scale = min(_LARGEST_SCALE, (inside - _GAP * (len(row) - 1)) / sum(block.body[0] for block in row))
        x, lowest = _EDGE, y
        for block in row:
            drawn, bottom, notes = _block(block, x, y, scale, look)
            items += drawn
            beneath += notes
            x += block.body[0] * scale + _GAP
            lowest = max(lowest, bottom)
        y = lowest + _GAP
    return Page(wide, max(y, _EDGE * 2 + _HEAD * 1.5), look.theme.page, tuple(items), title), beneath


def _block(block: Block, x: float, y: float, scale: float, look: Look) -> tuple[list[Item], float, int]:
    room = look.measure(block.name, True)
    name = Words(x, y + room.above * _NAME, block.name, _NAME, room.wide * _NAME, look.theme.faint, True, middle=False)
    top = y + _NAME * 1.35
    found = plan(block.labels, block.body, x, top, scale, look)
    notes = list(noted((*found.notes, *block.more), x, top + found.high + 1.5, found.wide, look))
    bottom = max([top + found.high, *(words.y + _NOTE * 0.4 for words in notes)])
    return [name, *found.items, *notes], bottom, len(found.notes)


def _heading(title: str, aside: str, wide: float, look: Look) -> Iterator[Words]:
    """The profile, and why, in one line, each as small as it has to be."""
    room = wide - 2 * _EDGE
    side = look.measure(aside, False)
    small = min(8.5 * POINT, room * 0.6 / max(side.wide, 0.01))
    name = look.measure(title, True)
    large = min(_HEAD, (room - side.wide * small - 3) / max(name.wide, 0.01))
    y = _EDGE + name.above * _HEAD
    yield Words(_EDGE, y, title, large, name.wide * large, look.theme.text, True, middle=False)
    if aside:
        x = wide - _EDGE - side.wide * small
        yield Words(x, y, aside, small, side.wide * small, look.theme.faint, middle=False)
