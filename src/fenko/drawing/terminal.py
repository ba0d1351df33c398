"""A plan of a surface made of characters."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import groupby

from fenko.core.words import width
from fenko.drawing.labels import Label, ways_to_break

Style = Callable[[str, Label], str]

_COLUMNS_PER_MM = (0.6, 0.7, 0.8, 0.9)  # larger ones only where names would not fit otherwise
_LINES_PER_COLUMN = 0.46  # a character is about twice as high as it is wide
_LEAST_INSIDE = 2  # columns in which at least a number fits
_SQUARE, _ROUND, _SILENT = "┌┐└┘─│", "╭╮╰╯─│", "┌┐└┘┄┊"


def draw(labels: Sequence[Label], body: tuple[float, float], columns: int, style: Style) -> list[str] | None:
    """The lines of the plan, at most `columns` wide, with a key beneath to the numbers of names that do not fit.

    `style` gives a text the colour of its label. None if so few columns cannot show it."""
    widest = columns / body[0]
    if min(label.spot.size[0] for label in labels) * widest < _LEAST_INSIDE + 2:
        return None
    usual = sheet = _Sheet(labels, min(_COLUMNS_PER_MM[0], widest))
    for scale in _COLUMNS_PER_MM[1:]:
        if sheet.key() and scale <= widest:
            sheet = _Sheet(labels, scale)
    if sheet.key():
        sheet = usual
    return [*sheet.lines(style), *sheet.key()]


def columns_wanted(labels: Sequence[Label], body: tuple[float, float]) -> int:
    """How many columns `draw` needs."""
    return int(body[0] * (_LEAST_INSIDE + 2) / min(label.spot.size[0] for label in labels)) + 1


class _Sheet:
    """Characters in rows and columns, each with the label that it belongs to; what a wide one covers besides is empty."""

    def __init__(self, labels: Sequence[Label], scale: float) -> None:
        self._across, self._down = scale, scale * _LINES_PER_COLUMN
        self._cells: dict[tuple[int, int], tuple[str, Label | None]] = {}
        self._numbered: list[tuple[str, ...]] = []
        self._boxes = {id(label): self._box(label) for label in labels}
        for label in labels:
            self._draw(label)

    def _box(self, label: Label) -> tuple[int, int, int, int]:
        left, top, right, bottom = label.box
        x0, y0 = round(left * self._across), round(top * self._down)
        x1, y1 = round(right * self._across) - 1, round(bottom * self._down) - 1
        return x0, y0, max(x1, x0 + _LEAST_INSIDE + 1), max(y1, y0 + 2)

    def _draw(self, label: Label) -> None:
        x0, y0, x1, y1 = self._boxes[id(label)]
        corners = _SILENT if label.sort == "silent" else _ROUND if label.spot.form == "round" else _SQUARE
        for x in range(x0, x1 + 1):
            for y in range(y0, y1 + 1):
                edge = corners[4] if y in (y0, y1) else corners[5] if x in (x0, x1) else " "
                self._cells[x, y] = (edge, label)
        for corner, place in zip(corners, ((x0, y0), (x1, y0), (x0, y1), (x1, y1)), strict=False):
            self._cells[place] = (corner, label)
        inside = [
            box for other, box in self._boxes.items()
            if other != id(label) and x0 < box[0] and box[2] < x1 and y0 < box[1] <= y1
        ]  # fmt: skip
        bottom = min([box[1] for box in inside], default=y1)
        self._write(label, x0 + 1, y0 + 1, x1 - 1, bottom - 1)

    def _write(self, label: Label, x0: int, y0: int, x1: int, y1: int) -> None:
        wide, high = x1 - x0 + 1, y1 - y0 + 1
        title = next((lines for lines in ways_to_break(label.spoken, high) if max(map(width, lines)) <= wide), None)
        small = [line for line in (*label.small, _arrows(label)) if line and width(line) <= wide]
        fits = title is not None and (not label.whole or len(small) == len(label.small) <= high - len(title))
        if title is None or not fits:
            mark = f"#{len(self._numbered) + 1}"
            told = title is not None and len(title) < high
            self._numbered.append(
                label.small if told else (label.spoken, *label.small) if label.whole else (label.title,)
            )
            title, small = [*(title or ()), mark] if told else [mark], [] if label.whole else small
        lines = (title + small)[:high]
        top = y0 + (high - len(lines)) // 2
        for number, line in enumerate(lines):
            x, y = x0 + (wide - width(line)) // 2, top + number
            for character in line:
                covers = width(character)
                if not covers:
                    before, whose = self._cells[x - 1, y]
                    self._cells[x - 1, y] = (before + character, whose)
                    continue
                self._cells[x, y] = (character, label)
                for beside in range(1, covers):
                    self._cells[x + beside, y] = ("", label)
                x += covers

    def lines(self, style: Style) -> list[str]:
        """The rows as text."""
        if not self._cells:
            return []
        left, top = (min(place[axis] for place in self._cells) for axis in (0, 1))
        found = []
        for y in range(top, max(y for _, y in self._cells) + 1):
            last = max((x for x, row in self._cells if row == y), default=left - 1)
            row = [self._cells.get((x, y), (" ", None)) for x in range(left, last + 1)]
            found.append(
                "".join(
                    style(text, label) if label else text
                    for label, cells in groupby(row, key=lambda cell: cell[1])
                    for text in ["".join(character for character, _ in cells)]
                )
            )
        return found

    def key(self) -> list[str]:
        """What the numbers stand for."""
        names = [f"#{number} {', '.join(lines)}" for number, lines in enumerate(self._numbered, 1)]
        room = max(x for x, _ in self._cells) - min(x for x, _ in self._cells) if names else 0
        found: list[str] = []
        for name in names:
            if found and width(found[-1]) + 3 + width(name) <= room:
                found[-1] += f"   {name}"
            else:
                found.append(name)
        return ["", *found] if names else []


def _arrows(label: Label) -> str:
    if label.whole:
        return ""
    arrows = {"left": "←", "right": "→", "up": "↑", "down": "↓"}
    return " ".join(arrows[direction] for direction in label.directions)
