"""A plan of a surface as a picture, for paper and for screens (SVG, PNG, PDF).

Sorts of control differ by outline as well as by colour; the colours (after Okabe and Ito's set for all kinds of colour
vision) keep apart in grey too.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import matplotlib
from matplotlib.figure import Figure
from matplotlib.font_manager import FontProperties
from matplotlib.patches import Ellipse, FancyBboxPatch, Patch, Polygon
from matplotlib.textpath import TextPath
from msgspec import Struct

from fenko.drawing.labels import SORT_WORDS, Label, Sort, ways_to_break
from fenko.system.files import whole_file

_PAGE = (297 / 25.4, 210 / 25.4)  # inches, A4 lying
_POINTS = 72.0
_MARGIN = 0.055  # of the page's width
_HEAD, _LINE = 0.115, 0.026  # of the page's height
_BOLD = FontProperties(family="DejaVu Sans", weight="bold")
_PLAIN = FontProperties(family="DejaVu Sans")
_LARGEST, _LEAST, _SMALL = 15.0, 5.5, 0.72  # pt; small lines are that much of the title
_LEADING = 1.25


class _Theme(Struct, frozen=True):
    page: str
    body: str
    body_edge: str
    text: str
    faint: str
    fills: dict[Sort, tuple[str, str]]
    """The fill and the edge of each sort."""


_PAPER = _Theme(
    "#ffffff", "#f1f1ee", "#8c8c88", "#111111", "#555555",
    {"button": ("#ffffff", "#333333"), "pushed": ("#cbe3f5", "#005a8f"), "directions": ("#fbe2b4", "#8a5a00"),
     "turned": ("#bfe8d9", "#00614a"), "silent": ("#f1f1ee", "#777777")},
)  # fmt: skip
_DARK = _Theme(
    "#121518", "#1d2226", "#5d666d", "#f4f3ee", "#b4bcc2",
    {"button": ("#2a3137", "#aeb8bf"), "pushed": ("#12405f", "#7cc4f5"), "directions": ("#553a06", "#f2b84b"),
     "turned": ("#0b4a3a", "#5fd6b3"), "silent": ("#1d2226", "#8b949b")},
)  # fmt: skip
_OUTLINES: dict[Sort, tuple[float, Any]] = {
    "button": (1.1, "-"), "pushed": (2.2, "-"), "directions": (1.6, "-"), "turned": (1.6, (0, (6, 1.5))), "silent": (1.0, ":"),
}  # fmt: skip


def draw(
    path: Path, title: str, labels: Sequence[Label], body: tuple[float, float], remarks: Sequence[str], dark: bool
) -> None:
    """Draws the plan into `path`, whose ending (svg, png, pdf) decides the format; what was there is replaced at once.

    Raises OSError."""
    theme = _DARK if dark else _PAPER
    with matplotlib.rc_context({"svg.fonttype": "none", "svg.hashsalt": "fenko", "pdf.fonttype": 42}):
        figure = Figure(figsize=_PAGE, facecolor=theme.page)
        axes, scale = _axes(figure, body, len(remarks))
        axes.add_patch(_box((0, 0), body, 5.0, theme.body, theme.body_edge, 1.4, "-"))
        texts = [_lettering(label, _room(label, labels), scale) for label in labels]
        # A short name on a large key does not shout down the others.
        largest = 1.5 * sorted(text.size for text in texts)[len(texts) // 4]
        for label, text in zip(labels, texts, strict=True):
            _control(axes, label, theme)
            _write(axes, label, text, min(text.size, largest), theme, scale)
        figure.text(_MARGIN, 1 - 0.07, title, color=theme.text, fontproperties=_sized(_BOLD, 17))
        _key(figure, labels, theme)
        for number, remark in enumerate(reversed(remarks)):
            y = 0.03 + number * _LINE
            figure.text(_MARGIN, y, remark, color=theme.faint, fontproperties=_sized(_PLAIN, 8.5))
        _save(figure, path)


def _save(figure: Figure, path: Path) -> None:
    form = path.suffix[1:].lower()
    # Without dates, so that the same plan is the same file.
    dates: dict[str, dict[str, Any]] = {"svg": {"Date": None}, "pdf": {"CreationDate": None}}
    with whole_file(path, 0o644) as file:
        figure.savefig(file, format=form, dpi=150, facecolor=figure.get_facecolor(), metadata=dates.get(form))


def _axes(figure: Figure, body: tuple[float, float], remarks: int) -> tuple[Any, float]:
    """Axes in mm of the surface, y downwards, as large as the page allows; and how many points one mm has."""
    foot = 0.05 + _LINE * max(1, remarks)
    room = (1 - 2 * _MARGIN) * _PAGE[0], (1 - _HEAD - foot) * _PAGE[1]
    scale = min(room[0] / body[0], room[1] / body[1])
    wide, high = body[0] * scale / _PAGE[0], body[1] * scale / _PAGE[1]
    bottom = foot + ((1 - _HEAD - foot) - high) / 2
    axes = figure.add_axes(((1 - wide) / 2, bottom, wide, high))
    axes.set_xlim(0, body[0])
    axes.set_ylim(body[1], 0)
    axes.set_axis_off()
    return axes, scale * _POINTS


def _sized(font: FontProperties, size: float) -> FontProperties:
    sized = font.copy()
    sized.set_size(size)
    return sized


def _box(
    corner: tuple[float, float],
    size: tuple[float, float],
    rounding: float,
    fill: str,
    edge: str,
    width: float,
    style: Any,
) -> Patch:
    """A box with round corners, its upper left one at `corner`; the outline lies within."""
    return FancyBboxPatch(
        corner, *size, boxstyle=f"round,pad=0,rounding_size={min(rounding, *(side / 2.2 for side in size))}",
        facecolor=fill, edgecolor=edge, linewidth=width, linestyle=style, clip_on=False,
    )  # fmt: skip


def _control(axes: Any, label: Label, theme: _Theme) -> None:
    fill, edge = theme.fills[label.sort]
    width, style = _OUTLINES[label.sort]
    left, top, right, bottom = label.box
    x, y, wide, high = (left + right) / 2, (top + bottom) / 2, right - left, bottom - top
    if label.spot.form == "round":
        patch: Patch = Ellipse((x, y), wide, high, facecolor=fill, edgecolor=edge, linewidth=width, linestyle=style)
    else:
        patch = _box((left, top), (wide, high), 2.5, fill, edge, width, style)
    axes.add_patch(patch)
    for direction in label.directions:
        axes.add_patch(_arrow(direction, x, y, wide, high, edge))


def _arrow(direction: str, x: float, y: float, wide: float, high: float, colour: str) -> Patch:
    """A small triangle inside the rim, pointing outwards."""
    across, down = {"left": (-1, 0), "right": (1, 0), "up": (0, -1), "down": (0, 1)}[direction]
    size = min(3.2, 0.11 * min(wide, high) + 0.8)
    tip = (x + across * (wide / 2 - 1.2), y + down * (high / 2 - 1.2))
    base = (tip[0] - across * size, tip[1] - down * size)
    side = (down * size * 0.62, across * size * 0.62)
    corners = [tip, (base[0] + side[0], base[1] + side[1]), (base[0] - side[0], base[1] - side[1])]
    return Polygon(corners, closed=True, facecolor=colour, edgecolor="none")


def _room(label: Label, labels: Sequence[Label]) -> tuple[float, float, float, float]:
    """Where the names of a control go: its box, less the rim, less the part that others on it cover."""
    left, top, right, bottom = label.box
    covering = [
        other.box[1] for other in labels
        if other is not label and left < other.box[0] and other.box[2] < right and top < other.box[1] < bottom
    ]  # fmt: skip
    if covering:
        return left + (right - left) * 0.22, top + 2, right - (right - left) * 0.22, min(covering)
    inset = 0.13 if label.spot.form == "round" else 0.0
    across, down = inset * (right - left) + 1.0, inset * (bottom - top) + 0.8
    if "left" in label.directions:
        across = max(across, 4.0)
    if "up" in label.directions:
        down = max(down, 4.0)
    return left + across, top + down, right - across, bottom - down


class _Lettering(Struct):
    """What is written on a control: its lines, the largest size that they can have (pt), and the middle of the room
    for them (mm)."""

    title: Sequence[str]
    small: Sequence[str]
    size: float
    middle: tuple[float, float]


def _lettering(label: Label, room: tuple[float, float, float, float], scale: float) -> _Lettering:
    """The title as large as it can be, broken at hyphens where that helps, and as many small lines as leave it so."""
    wide, high = (room[2] - room[0]) * scale, (room[3] - room[1]) * scale
    small = list(label.small)
    while True:
        size, title = max((_fitting(lines, small, wide, high), lines) for lines in ways_to_break(label.title, 3))
        if size >= _LEAST or not small:
            return _Lettering(title, small, size, ((room[0] + room[2]) / 2, (room[1] + room[3]) / 2))
        small.pop()


def _write(axes: Any, label: Label, text: _Lettering, size: float, theme: _Theme, scale: float) -> None:
    lines = [*((line, size, _BOLD) for line in text.title), *((line, size * _SMALL, _PLAIN) for line in text.small)]
    x, y = text.middle
    y -= sum(points for _, points, _ in lines) * _LEADING / 2 / scale
    for line, points, font in lines:
        high = points * _LEADING / scale
        colour = theme.text if font is _BOLD and label.sort != "silent" else theme.faint
        axes.text(
            x, y + high / 2, line, ha="center", va="center_baseline", color=colour, fontproperties=_sized(font, points)
        )
        y += high


def _fitting(title: Sequence[str], small: Sequence[str], wide: float, high: float) -> float:
    """The largest size of the title, in points, with which everything fits into so many points."""
    widest = max(
        *(_width(line, _BOLD) for line in title), *(_width(line, _PLAIN) * _SMALL for line in small), 0.01
    )  # fmt: skip
    lines = _LEADING * (len(title) + _SMALL * len(small))
    return min(_LARGEST, wide / widest, high / lines)


def _width(text: str, font: FontProperties) -> float:
    """How wide a text is at one point."""
    return float(TextPath((0, 0), text, size=100, prop=font).get_extents().width) / 100 if text.strip() else 0.0


def _key(figure: Figure, labels: Sequence[Label], theme: _Theme) -> None:
    """What the outlines and colours mean, in a row under the title; only those that are on the page."""
    sorts = [sort for sort in SORT_WORDS if any(label.sort == sort for label in labels)]
    x = _MARGIN
    axes = figure.add_axes((0, 0, 1, 1), zorder=-1)
    axes.set_xlim(0, _PAGE[0])
    axes.set_ylim(0, _PAGE[1])
    axes.set_axis_off()
    for sort in sorts:
        fill, edge = theme.fills[sort]
        width, style = _OUTLINES[sort]
        axes.add_patch(_box((x * _PAGE[0], (1 - 0.103) * _PAGE[1]), (0.2, 0.13), 0.04, fill, edge, width, style))
        text = SORT_WORDS[sort]
        figure.text(x + 0.024, 1 - 0.101, text, color=theme.faint, fontproperties=_sized(_PLAIN, 9))
        x += 0.05 + _width(text, _PLAIN) * 9 / _POINTS / _PAGE[0]
