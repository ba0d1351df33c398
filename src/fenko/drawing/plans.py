"""A plan of a surface: every control where it sits, with what is written on it.

Sorts of control differ by outline as well as by colour; the colours (after Okabe and Ito's set for all kinds of colour
vision) keep apart in grey too.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from fenko.drawing.labels import SORT_WORDS, Label, Sort, covered_from
from fenko.drawing.lettering import LEADING, SMALL, Lettering, fitting, set_in_middle, squeezed, wrapped
from fenko.drawing.scene import POINT, Box, Item, Measure, Outline, Oval, Page, Pen, Words, mixed, readable_on
from fenko.system import icons

PAPERS: dict[str, tuple[float, float]] = {"a4": (210.0, 297.0), "letter": (215.9, 279.4)}
"""Width and height of sheets of paper, in mm."""
MARGIN = 14.0
_LARGEST, _LEAST = 15 * POINT, 5 * POINT
_NOTE = 7.5 * POINT
_NOTES_APART = 5.0
_ROUNDS = 6
"""How often the plan is made smaller, at most, so that there is room for what is said beneath."""


class Theme(Struct, frozen=True):
    """Colours: of the page, of a surface's body and its edge, of text, of less important text, of what is pressed; the fill and
    the edge of each sort of control."""

    page: str
    body: str
    body_edge: str
    text: str
    faint: str
    lit: str
    fills: dict[Sort, tuple[str, str]]


PAPER = Theme(
    "#ffffff", "#f1f1ee", "#8c8c88", "#111111", "#555555", "#ffd24a",
    {"button": ("#ffffff", "#333333"), "pushed": ("#cbe3f5", "#005a8f"), "directions": ("#fbe2b4", "#8a5a00"),
     "turned": ("#bfe8d9", "#00614a"), "silent": ("#f1f1ee", "#777777")},
)  # fmt: skip
DARK = Theme(
    "#121518", "#1d2226", "#5d666d", "#f4f3ee", "#b4bcc2", "#ffd24a",
    {"button": ("#2a3137", "#aeb8bf"), "pushed": ("#12405f", "#7cc4f5"), "directions": ("#553a06", "#f2b84b"),
     "turned": ("#0b4a3a", "#5fd6b3"), "silent": ("#1d2226", "#8b949b")},
)  # fmt: skip
_OUTLINES: dict[Sort, tuple[float, tuple[float, ...]]] = {
    "button": (0.39, ()), "pushed": (0.78, ()), "directions": (0.56, ()), "turned": (0.56, (3.4, 0.9)),
    "silent": (0.35, (0.35, 0.7)),
}  # fmt: skip
_WAYS = {"left": (-1, 0), "right": (1, 0), "up": (0, -1), "down": (0, 1)}


class Look(Struct, frozen=True):
    """How something is drawn: its colours, what measures text, the least and the largest letters (mm)."""

    theme: Theme
    measure: Measure
    sizes: tuple[float, float] = (_LEAST, _LARGEST)


class Plan(Struct, frozen=True):
    """What is drawn of a surface, where, and what could not be said in its place, by number."""

    items: tuple[Item, ...]
    notes: tuple[str, ...]
    wide: float
    high: float


def plan(labels: Sequence[Label], body: tuple[float, float], x: float, y: float, scale: float, look: Look) -> Plan:
    """The plan with its left upper corner there, so many mm for one of the surface's."""
    theme = look.theme
    items: list[Item] = [
        Box(x, y, body[0] * scale, body[1] * scale, 5.0 * scale, theme.body, Pen(theme.body_edge, 0.45))
    ]
    notes: list[str] = []
    boxes = {id(label): tuple(value * scale for value in label.box) for label in labels}
    texts = [_lettering(label, _room(label, labels, scale), notes, look) for label in labels]
    largest = _not_too_loud([text for text, _ in texts if text is not None])
    for label, (text, room) in zip(labels, texts, strict=True):
        left, top, right, bottom = boxes[id(label)]
        items += _control(label, (x + left, y + top, right - left, bottom - top), theme)
        middle = (x + (room[0] + room[2]) / 2, y + (room[1] + room[3]) / 2)
        if text is not None and text.size > largest:
            again = fitting(
                label.title, text.small, room[2] - room[0], room[3] - room[1], (look.sizes[0], largest), look.measure
            )
            text = _Text(again or text.lettering, text.small, text.icon)
        items += _written(label, text, middle, theme, look.measure)
    return Plan(tuple(items), tuple(notes), body[0] * scale, body[1] * scale)


def fitted(
    labels: Sequence[Label],
    body: tuple[float, float],
    area: tuple[float, float, float, float],
    look: Look,
    more: Sequence[str] = (),
) -> Plan:
    """The plan as large as it can be in an area (left, top, width, height in mm), with what could not be said in its place
    beneath it, by number, and what `more` there is to say."""
    x, y, wide, high = area
    for_notes = 0.0
    for _ in range(_ROUNDS):
        scale = min(wide / body[0], max(high * 0.3, high - for_notes) / body[1])
        found = plan(labels, body, x + (wide - body[0] * scale) / 2, y, scale, look)
        written = list(noted((*found.notes, *more), x, y + found.high + 2.5, wide, look))
        needed = 2.5 + sum(1 for _ in {item.y for item in written}) * _NOTE * LEADING if written else 0.0
        if needed <= max(for_notes, high - found.high) + 0.01:
            return Plan((*found.items, *written), found.notes, wide, found.high + needed)
        for_notes = needed
    return Plan((*found.items, *written), found.notes, wide, found.high + needed)


def noted(notes: Sequence[str], x: float, y: float, wide: float, look: Look) -> Iterator[Words]:
    """What the numbers stand for, several in a line where they fit, broken where they are longer than one."""
    across, down = x, y
    for note in notes:
        lines = wrapped(note, False, wide / _NOTE, look.measure, anywhere=True) or [note]
        long = look.measure(lines[0], False).wide * _NOTE
        if across > x and (len(lines) > 1 or across + long > x + wide):
            across, down = x, down + _NOTE * LEADING
        for number, text in enumerate(lines):
            if number:
                across, down = x, down + _NOTE * LEADING
            room = look.measure(text, False)
            yield Words(
                across, down + room.above * _NOTE, text, _NOTE, room.wide * _NOTE, look.theme.text, middle=False
            )
            across += room.wide * _NOTE + _NOTES_APART


def poster(
    title: str,
    labels: Sequence[Label],
    body: tuple[float, float],
    remarks: Sequence[str],
    look: Look,
    paper: str = "a4",
) -> Page:
    """A lying page with one plan, what its outlines mean, and remarks."""
    high, wide = PAPERS[paper]
    items = [*heading(title, wide, look), *key(labels, MARGIN, MARGIN + 11, look)]
    small = 8.5 * POINT
    lines = [
        line
        for remark in remarks
        for line in wrapped(remark, False, (wide - 2 * MARGIN) / small, look.measure, True) or ()
    ]
    foot = high - MARGIN - len(lines) * small * LEADING
    for number, text in enumerate(lines):
        room = look.measure(text, False)
        y = foot + (number * LEADING + room.above) * small
        items.append(Words(MARGIN, y, text, small, room.wide * small, look.theme.faint, middle=False))
    top = MARGIN + 19
    found = fitted(labels, body, (MARGIN, top, wide - 2 * MARGIN, foot - 3 - top), look)
    return Page(wide, high, look.theme.page, (*items, *found.items), title)


def heading(title: str, wide: float, look: Look, right: str = "") -> Iterator[Words]:
    """The line at the top of a page, shrunk where it is long, with something less important at its right."""
    small = 9 * POINT
    aside = look.measure(right, False).wide * small
    text = squeezed(title, (), wide - 2 * MARGIN - (aside + 4 if right else 0), 9.0, 16 * POINT, look.measure)
    y = MARGIN
    for line, bold, size, long, above, below in text.lines:
        yield Words(MARGIN, y + above, line, size, long, look.theme.text, bold, middle=False)
        y += above + below
    if right:
        yield Words(wide - MARGIN - aside, MARGIN + 4.5, right, small, aside, look.theme.faint, middle=False)


def key(labels: Sequence[Label], x: float, y: float, look: Look) -> Iterator[Item]:
    """What the outlines and colours mean, in a row; only those that are there."""
    size = 8.5 * POINT
    for sort, words in SORT_WORDS.items():
        if any(label.sort == sort for label in labels):
            fill, edge = look.theme.fills[sort]
            width, dash = _OUTLINES[sort]
            room = look.measure(words, False)
            yield Box(x, y, 5.0, 3.3, 1.0, fill, Pen(edge, width, dash))
            yield Words(x + 6.5, y + 2.7, words, size, room.wide * size, look.theme.faint, middle=False)
            x += 13 + room.wide * size


def _control(label: Label, place: tuple[float, float, float, float], theme: Theme) -> Iterator[Item]:
    fill, edge = theme.fills[label.sort]
    width, dash = _OUTLINES[label.sort]
    if label.colour:
        fill, edge = mixed(label.colour, theme.page, 0.28), label.colour
    if not label.bound:
        fill, edge, width, dash = theme.body, theme.body_edge, 0.25, (0.6, 0.8)
    if label.fill:
        fill, edge = label.fill, readable_on(label.fill) if label.directions else edge
    if label.lit:
        fill, edge, width, dash = theme.lit, theme.lit, 1.1, ()
    x, y, wide, high = place
    pen = Pen(edge, width, dash)
    if label.spot.form == "round":
        yield Oval(x, y, wide, high, fill, pen)
    else:
        yield Box(x, y, wide, high, 2.5, fill, pen)
    for direction in label.directions if label.bound else ():
        yield _arrow(direction, x + wide / 2, y + high / 2, wide, high, theme.faint if label.lit else edge)


def _arrow(direction: str, x: float, y: float, wide: float, high: float, colour: str) -> Item:
    """A small triangle inside the rim, pointing outwards."""
    across, down = _WAYS[direction]
    size = min(3.2, 0.07 * min(wide, high) + 0.6)
    tip = (x + across * (wide / 2 - 0.9), y + down * (high / 2 - 0.9))
    base = (tip[0] - across * size, tip[1] - down * size)
    side = (down * size * 0.62, across * size * 0.62)
    ends = ((base[0] + side[0], base[1] + side[1]), (base[0] - side[0], base[1] - side[1]))
    return Outline((("M", tip), ("L", ends[0]), ("L", ends[1]), ("Z", ())), fill=colour)


def _room(label: Label, labels: Sequence[Label], scale: float) -> tuple[float, float, float, float]:
    """Where the names of a control go: its box, less the rim, less the part that others on it cover."""
    left, top, right, bottom = (value * scale for value in label.box)
    covered = covered_from(label, labels)
    if covered is not None:
        return left + (right - left) * 0.22, top + 1.2, right - (right - left) * 0.22, covered * scale
    inset = 0.13 if label.spot.form == "round" else 0.0
    rim = min(1.0, 0.06 * (right - left))
    across, down = inset * (right - left) + rim, inset * (bottom - top) + min(0.8, 0.06 * (bottom - top))
    arrow = min(3.2, 0.07 * min(right - left, bottom - top) + 0.6) + 1.2
    if "left" in label.directions and label.bound:
        across = max(across, arrow)
    if "up" in label.directions and label.bound:
        down = max(down, arrow)
    return left + across, top + down, right - across, bottom - down


class _Text(Struct, frozen=True):
    """What is written on a control: lines, those of them that are small, and how high its icon is (0: it has none)."""

    lettering: Lettering
    small: tuple[str, ...]
    icon: float = 0.0

    @property
    def size(self) -> float:
        return self.lettering.size


def _lettering(
    label: Label, room: tuple[float, float, float, float], notes: list[str], look: Look
) -> tuple[_Text | None, tuple[float, float, float, float]]:
    """The title as large as it can be, with as many small lines as leave it readable, and the room that they have. What has to be
    said whole and has no room goes into the notes."""
    wide, high = max(0.5, room[2] - room[0]), max(0.5, room[3] - room[1])
    if label.icon:
        side = _icon_side(wide, high, bool(label.title))
        text = fitting(label.title, label.small, wide, high - side * 1.12, look.sizes, look.measure)
        if text is not None:
            return _Text(text, label.small, side), room
    small = list(label.small)
    while True:
        text = fitting(label.title, small, wide, high, look.sizes, look.measure)
        if text is not None:
            return _Text(text, tuple(small)), room
        if label.whole or not small:
            break
        small.pop()
    if not label.whole:
        if not label.bound:
            return None, room  # which is no loss: nothing happens there
        return _Text(squeezed(label.title, (), wide, high, look.sizes[0], look.measure), ()), room
    mark = f"#{len(notes) + 1}"
    text = fitting(label.title, (mark,), wide, high, look.sizes, look.measure) if small else None
    if text is not None:
        notes.append(f"{mark} {', '.join(small)}")
        return _Text(text, (mark,)), room
    notes.append(f"{mark} {', '.join((label.title, *small))}")
    if label.icon:
        side = _icon_side(wide, high, True)
        text = fitting("", (mark,), wide, high - side * 1.12, (look.sizes[0] / SMALL, look.sizes[1]), look.measure)
        if text is not None:
            return _Text(text, (mark,), side), room
    return _Text(squeezed(mark, (), wide, high, look.sizes[0], look.measure), ()), room


def _icon_side(wide: float, high: float, titled: bool) -> float:
    return min(0.36 * high, 0.6 * wide, 11.0) if titled else min(0.8 * high, 0.8 * wide, 20.0)


def _not_too_loud(texts: Sequence[_Text]) -> float:
    """A short name on a large key does not shout down the others."""
    sizes = sorted(text.size for text in texts)
    return 1.5 * sizes[len(sizes) // 4] if sizes else 0.0


def _written(
    label: Label, text: _Text | None, middle: tuple[float, float], theme: Theme, measure: Measure
) -> Iterator[Item]:
    if text is None:
        return
    title, small = theme.text, theme.faint
    if label.lit:
        title = small = readable_on(theme.lit)
    elif label.fill:
        title = small = readable_on(label.fill)
    elif label.sort == "silent" or not label.bound:
        title = theme.faint
    x, y = middle
    if text.icon:
        top = y - (text.icon * 1.12 + text.lettering.high) / 2
        yield from icon(label.icon, x, top + text.icon / 2, text.icon, title, measure)
        y += text.icon * 1.12 / 2
    yield from set_in_middle(text.lettering, x, y, (title, small))


def icon(name: str, x: float, y: float, side: float, colour: str, measure: Measure) -> Iterator[Item]:
    """An icon about a middle: one of the set, or characters."""
    if icons.by_name(name) and icons.known(name):
        scale = side / icons.SIDE
        yield Outline(icons.moves(name), x - side / 2, y - side / 2, scale, pen=Pen(colour, 2 * scale))
        return
    room = measure(name, False)
    size = min(side / (room.above + room.below), side * 1.6 / max(room.wide, 0.01))
    yield Words(x, y + size * (room.above - room.below) / 2, name, size, room.wide * size, colour)
