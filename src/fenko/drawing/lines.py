"""Lines of text for a window, in letters that are all as wide as one another."""

from __future__ import annotations

from collections.abc import Sequence

from fenko.drawing.plans import PAPER
from fenko.drawing.scene import Item, Page, Words

_MARGIN, _LINE, _SIZE = 14, 18, 13.5  # pixels
_HEAD = 3
_LONGEST = 200
_ALARM = "#a4001e"


def page_of_lines(lines: Sequence[str], wide: int, high: int, alarming: str) -> Page:
    """A page of so many pixels with these lines; where there are more than fit, the first three and the last ones. Those that end
    with `alarming` stand out."""
    room = (high - 2 * _MARGIN) // _LINE
    shown = [*lines[:_HEAD], *lines[_HEAD:][-(room - _HEAD) :]]
    items: list[Item] = []
    for number, text in enumerate(shown, 1):
        colour = _ALARM if text.endswith(alarming) else PAPER.text
        if text.strip():
            y = _MARGIN + _LINE * number - 5
            items.append(Words(_MARGIN, y, text[:_LONGEST], _SIZE, 0.0, colour, text is lines[_HEAD - 1], False, True))
    return Page(wide, high, PAPER.page, tuple(items))
