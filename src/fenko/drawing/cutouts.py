"""Key labels at true size, to be cut out and stuck on keys."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from fenko.drawing.labels import Label
from fenko.drawing.lettering import set_in_middle, squeezed
from fenko.drawing.plans import MARGIN, PAPERS, Look, heading, icon
from fenko.drawing.scene import POINT, Box, Item, Oval, Page, Pen, Words, line, mixed

TEST = 50.0
"""The side of the square by which a printer is measured, in mm."""
TOO_SMALL = 4.0
"""Points; smaller letters can hardly be read."""
_GAP = 7.0  # mm between labels: for the marks, and for the name of the key
_MARK = 2.2
_TOP = 12.0
_CUT = Pen("#9a9a9a", 0.1)
_NAME = 5.0 * POINT


class Cutout(Struct, frozen=True):
    """One key label, and the name of its control, which is printed beside it."""

    label: Label
    control: str


class Group(Struct, frozen=True):
    """Labels that belong together, with their heading."""

    title: str
    cutouts: tuple[Cutout, ...]


def cutout_pages(
    title: str, groups: Sequence[Group], copies: int, look: Look, paper: str
) -> tuple[list[Page], list[str]]:
    """Standing pages of labels, and the names of controls whose letters are too small to be read."""
    wide, high = PAPERS[paper]
    small: dict[str, None] = {}
    pages: list[list[Item]] = [[*heading(title, wide, look, "print at 100 %"), *_test_square(look)]]
    y = MARGIN + _TOP + TEST + 8
    for group in groups:
        for number in range(copies):
            name = group.title + (f", copy {number + 1}" if copies > 1 else "")
            rows = list(_rows(group.cutouts, wide - 2 * MARGIN))
            for index, row in enumerate(rows):
                tall = max(cutout.label.spot.size[1] for cutout in row) + _GAP
                top = 7.0 if index == 0 else 0.0
                if y + top + tall > high - MARGIN:
                    pages.append([*heading(title, wide, look, "print at 100 %")])
                    y = MARGIN + _TOP
                if top:
                    size = 9 * POINT
                    room = look.measure(name, True)
                    shrunk = min(size, (wide - 2 * MARGIN) / max(room.wide, 0.01))
                    pages[-1].append(
                        Words(MARGIN, y + 3.5, name, shrunk, room.wide * shrunk, look.theme.text, True, False)
                    )
                    y += top
                x = MARGIN + _GAP / 2
                for cutout in row:
                    pages[-1] += _cutout(cutout, x, y + 2.5, look, small)
                    x += cutout.label.spot.size[0] + _GAP
                y += tall
    return [Page(wide, high, look.theme.page, tuple(items), title) for items in pages], list(small)


def _rows(cutouts: Sequence[Cutout], wide: float) -> Iterator[list[Cutout]]:
    """The labels in rows that fit, in their order."""
    row: list[Cutout] = []
    used = 0.0
    for cutout in cutouts:
        needs = cutout.label.spot.size[0] + _GAP
        if row and used + needs > wide:
            yield row
            row, used = [], 0.0
        row.append(cutout)
        used += needs
    if row:
        yield row


def too_large(cutout: Cutout, paper: str) -> bool:
    """Whether a label is larger than what fits on such a sheet."""
    (wide, high), (own_wide, own_high) = PAPERS[paper], cutout.label.spot.size
    return own_wide + _GAP > wide - 2 * MARGIN or own_high + _GAP + 7 > high - 2 * MARGIN - _TOP


def _cutout(cutout: Cutout, x: float, y: float, look: Look, small: dict[str, None]) -> Iterator[Item]:
    label = cutout.label
    wide, high = label.spot.size
    fill = mixed(label.colour, look.theme.page, 0.22) if label.colour else look.theme.page
    if label.spot.form == "round":
        yield Oval(x, y, wide, high, fill, _CUT)
    else:
        yield Box(x, y, wide, high, 0.0, fill, _CUT)
        yield from _marks(x, y, wide, high)
    size = look.measure(cutout.control, False)
    shrunk = min(_NAME, (wide + _GAP - 1) / max(size.wide, 0.01))
    yield Words(
        x + wide / 2,
        y + high + _MARK + size.above * shrunk + 0.2,
        cutout.control,
        shrunk,
        size.wide * shrunk,
        look.theme.faint,
    )
    inset = 0.15 if label.spot.form == "round" else 0.0
    across, down = inset * wide + min(0.8, 0.06 * wide), inset * high + min(0.8, 0.06 * high)
    if label.colour:
        # The colour as such, so that it is seen from afar; inside the cut by so much that a careless one does not lose it.
        bar = min(1.6, 0.12 * high)
        if label.spot.form != "round":
            yield Box(x + wide * 0.12, y + high - bar - 0.5, wide * 0.76, bar, bar / 2, label.colour)
            high -= bar + 0.6
    room_wide, room_high = wide - 2 * across, high - 2 * down
    middle = x + wide / 2
    side = 0.0
    if label.icon:
        side = min(0.42 * room_high, 0.7 * room_wide) if label.title else min(0.9 * room_high, 0.9 * room_wide)
        yield from icon(label.icon, middle, y + down + side / 2, side, look.theme.text, look.measure)
        side *= 1.06
    if label.title or label.small:
        text = squeezed(label.title, label.small, room_wide, room_high - side, 11 * POINT, look.measure)
        if min(own for _, _, own, *_ in text.lines) < TOO_SMALL * POINT:
            small[cutout.control] = None
        yield from set_in_middle(
            text, middle, y + down + side + (room_high - side) / 2, (look.theme.text, look.theme.text)
        )


def _marks(x: float, y: float, wide: float, high: float) -> Iterator[Item]:
    """Lines that go on from the edges, where a knife begins."""
    for corner, out in ((x, -1), (x + wide, 1)):
        for edge, down in ((y, -1), (y + high, 1)):
            yield line(corner + out * 0.5, edge, corner + out * _MARK, edge, _CUT)
            yield line(corner, edge + down * 0.5, corner, edge + down * _MARK, _CUT)


def _test_square(look: Look) -> Iterator[Item]:
    top = MARGIN + _TOP
    yield Box(MARGIN, top, TEST, TEST, 0.0, "", Pen("#333333", 0.15))
    for at in range(0, int(TEST) + 1, 5):
        yield line(
            MARGIN + at, top + TEST - (3 if at % 10 == 0 else 1.8), MARGIN + at, top + TEST, Pen("#333333", 0.15)
        )
    text = squeezed(
        f"This square is {TEST:g} mm wide and high.", ("If it is not, print again at 100 %, without fitting to the page.",),
        TEST - 6, TEST - 12, 9 * POINT, look.measure,
    )  # fmt: skip
    yield from set_in_middle(text, MARGIN + TEST / 2, top + TEST / 2 - 2, (look.theme.text, look.theme.faint))


def icon_pages(title: str, names: Sequence[str], look: Look, paper: str) -> Iterator[Page]:
    """Standing pages of icons with their names."""
    wide, high = PAPERS[paper]
    across, cell = 6, (wide - 2 * MARGIN) / 6
    down = int((high - 2 * MARGIN - _TOP) / cell)
    for begin in range(0, len(names), across * down):
        items: list[Item] = [*heading(title, wide, look)]
        for number, name in enumerate(names[begin : begin + across * down]):
            x = MARGIN + (number % across + 0.5) * cell
            y = MARGIN + _TOP + number // across * cell
            items += icon(name, x, y + cell * 0.36, cell * 0.4, look.theme.text, look.measure)
            text = squeezed("", (name,), cell - 2, cell * 0.3, 9 * POINT, look.measure)
            items += set_in_middle(text, x, y + cell * 0.78, (look.theme.text, look.theme.text))
        yield Page(wide, high, look.theme.page, tuple(items), title)
