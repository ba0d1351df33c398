"""Pages on paper, in files and in memory: Cairo draws, Pango sets the text, with every script that a font of the machine has."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path
from typing import IO, Any

import cairocffi as cairo
from msgspec import structs

from fenko.drawing.pango import Line
from fenko.drawing.scene import POINT, Box, Item, Outline, Oval, Page, Pen, Size, Words
from fenko.system.files import whole_file
from fenko.system.xpicture import Picture

FAMILY, EVEN_FAMILY = "Sans", "Monospace"
"""The fonts; of characters that they lack, whatever has them."""
_SET_AT = 100.0
_PICTURES = 600 / 25.4  # points in a mm of what is a picture on paper
_COLOURED = re.compile("[\U0001f000-\U0001faff\ufe0f]")
_KAPPA = 4 * (math.sqrt(2) - 1) / 3


class _Unhinted:
    """A place to measure where letters keep their shape at every size."""

    def __init__(self) -> None:
        surface = cairo.RecordingSurface(cairo.CONTENT_COLOR_ALPHA, None)
        self.context = cairo.Context(surface)
        _plain_metrics(self.context)


@lru_cache(1)
def _ruler() -> _Unhinted:
    return _Unhinted()


def _plain_metrics(context: Any) -> None:
    options = cairo.FontOptions()
    options.set_hint_metrics(cairo.HINT_METRICS_OFF)
    options.set_hint_style(cairo.HINT_STYLE_NONE)
    context.set_font_options(options)


def _line(context: Any, text: str, bold: bool, family: str = FAMILY) -> Line:
    """A line in a font of `_SET_AT`, for Pango rounds where letters stand to whole units."""
    return Line(context, _one_line(text), f"{family} Bold" if bold else family, _SET_AT)


@lru_cache(20000)
def measure(text: str, bold: bool) -> Size:
    """How much room one line takes, in a font of size 1."""
    line = _line(_ruler().context, text, bold)
    wide, high = line.size
    return Size(wide / _SET_AT, line.baseline / _SET_AT, (high - line.baseline) / _SET_AT)


def _one_line(text: str) -> str:
    """Without anything that would begin a new line or end the text."""
    return "".join(" " if character < " " or character in "\x7f\u2028\u2029" else character for character in text)


def paint(context: Any, items: Sequence[Item]) -> None:
    """Draws on a context whose unit is the millimetre."""
    for item in items:
        match item:
            case Box():
                _box(context, item)
                _finish(context, item.fill, item.pen)
            case Oval():
                _oval(context, item)
                _finish(context, item.fill, item.pen)
            case Outline():
                _outline(context, item)
                _finish(context, item.fill, item.pen)
            case Words():
                _words(context, item)


def _finish(context: Any, fill: str, pen: Pen | None) -> None:
    if fill:
        _colour(context, fill)
        if pen is None:
            context.fill()
            return
        context.fill_preserve()
    if pen is not None:
        _colour(context, pen.colour)
        context.set_line_width(pen.width)
        context.set_dash(list(pen.dash))
        context.set_line_cap(cairo.LINE_CAP_BUTT if pen.dash else cairo.LINE_CAP_ROUND)
        context.set_line_join(cairo.LINE_JOIN_ROUND)
        context.stroke()
    context.new_path()


def _colour(context: Any, colour: str) -> None:
    context.set_source_rgb(*(int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5)))


def _box(context: Any, box: Box) -> None:
    x, y, wide, high = box.x, box.y, box.wide, box.high
    r = min(box.rounding, wide / 2.2, high / 2.2)
    if r <= 0:
        context.rectangle(x, y, wide, high)
        return
    context.new_sub_path()
    quarter = math.pi / 2
    for number, (cx, cy) in enumerate(
        ((x + wide - r, y + r), (x + wide - r, y + high - r), (x + r, y + high - r), (x + r, y + r)), -1
    ):
        context.arc(cx, cy, r, number * quarter, (number + 1) * quarter)
    context.close_path()


def _oval(context: Any, oval: Oval) -> None:
    # Four curves, for an arc under a scale would bend the pen too.
    a, b = oval.wide / 2, oval.high / 2
    x, y = oval.x + a, oval.y + b
    context.new_sub_path()
    context.move_to(x + a, y)
    for (ux, uy), (vx, vy) in (((1, 0), (0, 1)), ((0, 1), (-1, 0)), ((-1, 0), (0, -1)), ((0, -1), (1, 0))):
        context.curve_to(
            x + a * (ux + _KAPPA * vx), y + b * (uy + _KAPPA * vy), x + a * (vx + _KAPPA * ux),
            y + b * (vy + _KAPPA * uy), x + a * vx, y + b * vy,
        )  # fmt: skip
    context.close_path()


def _outline(context: Any, outline: Outline) -> None:
    context.new_path()
    for letter, at in outline.placed():
        match letter:
            case "M":
                context.move_to(*at)
            case "L":
                context.line_to(*at)
            case "C":
                context.curve_to(*at)
            case _:
                context.close_path()


def _words(context: Any, words: Words) -> None:
    if _COLOURED.search(words.text) and isinstance(context.get_target(), cairo.PDFSurface):
        _words_as_picture(context, words)
        return
    _colour(context, words.colour)
    line = _line(context, words.text, words.bold, EVEN_FAMILY if words.even else FAMILY)
    scale = words.size / _SET_AT
    context.save()
    context.translate(words.left, words.y - line.baseline * scale)
    context.scale(scale, scale)
    context.move_to(0, 0)
    line.draw()
    context.restore()


def _words_as_picture(context: Any, words: Words) -> None:
    """Draws a line with pictograms, of which Cairo's PDF would keep a few grey points."""
    room = measure(words.text, words.bold)
    wide, high = (room.wide + 0.4) * words.size, (room.above + room.below) * words.size
    image = cairo.ImageSurface(cairo.FORMAT_ARGB32, math.ceil(wide * _PICTURES), math.ceil(high * _PICTURES))
    inner = cairo.Context(image)
    _plain_metrics(inner)
    inner.scale(_PICTURES, _PICTURES)
    inside = structs.replace(words, x=0.2 * words.size, y=room.above * words.size, middle=False)
    _words(inner, inside)
    context.save()
    context.translate(words.left - 0.2 * words.size, words.y - room.above * words.size)
    context.scale(1 / _PICTURES, 1 / _PICTURES)
    context.set_source_surface(image, 0, 0)
    context.paint()
    context.restore()


def write_pdf(path: Path, pages: Sequence[Page], title: str) -> None:
    """Writes pages as PDF. Raises OSError."""
    with whole_file(path, 0o644) as file:
        surface = cairo.PDFSurface(file, 1, 1)
        surface.set_metadata(cairo.PDF_METADATA_TITLE, title)
        surface.set_metadata(cairo.PDF_METADATA_CREATE_DATE, "")
        context = cairo.Context(surface)
        _plain_metrics(context)
        for page in pages:
            surface.set_size(page.wide / POINT, page.high / POINT)
            context.identity_matrix()
            context.scale(1 / POINT, 1 / POINT)
            _page(context, page)
            context.show_page()
        surface.finish()


def write_png(file: IO[bytes], page: Page, per_inch: float = 150.0) -> None:
    """Writes a page as PNG."""
    _image(page, per_inch / 25.4).write_to_png(file)


def pixels(page: Page, per_mm: float) -> Picture:
    """A page as a picture for a screen."""
    image = _image(page, per_mm)
    return Picture(bytes(image.get_data()), image.get_width(), image.get_height(), image.get_stride())


def _image(page: Page, per_mm: float) -> Any:
    image = cairo.ImageSurface(cairo.FORMAT_RGB24, max(1, round(page.wide * per_mm)), max(1, round(page.high * per_mm)))
    context = cairo.Context(image)
    _plain_metrics(context)
    context.scale(per_mm, per_mm)
    _page(context, page)
    image.flush()
    return image


def _page(context: Any, page: Page) -> None:
    _colour(context, page.colour)
    context.paint()
    paint(context, page.items)
