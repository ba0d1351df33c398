"""Tables on paper: columns as wide as what stands in them, text broken in its column, as many pages as it takes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from fenko.drawing.lettering import LEADING, wrapped
from fenko.drawing.plans import MARGIN, PAPERS, Look, heading
from fenko.drawing.scene import POINT, Item, Page, Pen, Words, line

_SIZE = 8.5 * POINT
_LINE = _SIZE * LEADING
_GAP, _APART = 4.0, 1.1
_TOP = 13.0
_LEAST_COLUMN = 18.0

Group = tuple[str, Sequence[Sequence[str]]]
"""A heading, and rows under it."""


def table_pages(title: str, head: Sequence[str], groups: Sequence[Group], look: Look, paper: str) -> Iterator[Page]:
    """Lying pages with a table, whose groups begin with their headings; the head stands on every page."""
    high, wide = PAPERS[paper]
    columns = _columns(head, [row for _, rows in groups for row in rows], wide - 2 * MARGIN, look)
    bottom = high - MARGIN
    page: list[Item] = []
    y = 0.0
    for name, rows in groups:
        for number, row in enumerate(rows):
            cells = [
                wrapped(text, False, room / _SIZE, look.measure, True) or [""]
                for text, room in zip(row, columns, strict=True)
            ]
            tall = max(map(len, cells)) * _LINE + _APART
            before = _LINE * 2.2 if number == 0 else 0.0
            # A heading does not stand alone at the end of a page.
            if page and y + before + tall > bottom:
                yield Page(wide, high, look.theme.page, tuple(page), title)
                page = []
            if not page:
                page = [
                    *heading(title, wide, look),
                    *_row([[text] for text in head], columns, MARGIN + _TOP, True, look),
                ]
                y = MARGIN + _TOP + _LINE + 1.5
            if before or y < MARGIN + _TOP + _LINE + 2:
                y += _LINE * 0.7 if before else 0.0
                page += _row([[name if before else f"{name}, continued"]], [wide - 2 * MARGIN], y, True, look)
                y += _LINE * 1.5
            page.append(line(MARGIN, y - 0.55, wide - MARGIN, y - 0.55, Pen(look.theme.body_edge, 0.12)))
            page += _row(cells, columns, y, False, look)
            y += tall
    if page:
        yield Page(wide, high, look.theme.page, tuple(page), title)


def _columns(head: Sequence[str], rows: Sequence[Sequence[str]], wide: float, look: Look) -> list[float]:
    """How wide each is: as wide as it needs where there is room, else the wide ones share what is left."""
    needs = [
        max([look.measure(text, True).wide * _SIZE, *(look.measure(row[column], False).wide * _SIZE for row in rows)])
        + 0.1
        for column, text in enumerate(head)
    ]
    room = wide - _GAP * (len(needs) - 1)
    found = list(needs)
    large = list(range(len(needs)))
    left = room
    while large:
        share = left / len(large)
        fits = [column for column in large if needs[column] <= max(share, _LEAST_COLUMN)]
        if not fits:
            for column in large:
                found[column] = share
            break
        for column in fits:
            left -= needs[column]
            large.remove(column)
    return found


def _row(cells: Sequence[Sequence[str]], columns: Sequence[float], y: float, bold: bool, look: Look) -> Iterator[Words]:
    x = MARGIN
    for lines, room in zip(cells, columns, strict=True):
        for number, text in enumerate(lines):
            size = look.measure(text, bold)
            shrunk = min(_SIZE, room / size.wide) if bold and size.wide else _SIZE
            down = y + (number * LEADING + size.above) * _SIZE
            yield Words(x, down, text, shrunk, size.wide * shrunk, look.theme.text, bold, middle=False)
        x += room + _GAP
