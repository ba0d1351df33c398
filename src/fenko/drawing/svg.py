"""Pages as SVG: text stays text, and is as wide as it was measured, whatever font the reader has."""

from __future__ import annotations

from collections.abc import Iterator
from xml.sax.saxutils import escape, quoteattr

from fenko.drawing.scene import Box, Item, Outline, Oval, Page, Pen, Words

_FONTS = "Sans, 'DejaVu Sans', sans-serif"


def svg(page: Page) -> str:
    """The page as a file of its own."""
    return f'<?xml version="1.0" encoding="UTF-8"?>\n{inline(page)}\n'


def inline(page: Page) -> str:
    """The page as an element of another one."""
    wide, high = _n(page.wide), _n(page.high)
    head = f'<svg xmlns="http://www.w3.org/2000/svg" width="{wide}mm" height="{high}mm" viewBox="0 0 {wide} {high}" role="img"'
    title = f"<title>{_text(page.title)}</title>" if page.title else ""
    body = "\n".join(_elements(page.items))
    return f'{head} font-family="{_FONTS}">\n{title}<rect width="100%" height="100%" fill="{page.colour}"/>\n{body}\n</svg>'


def _elements(items: tuple[Item, ...]) -> Iterator[str]:
    for item in items:
        match item:
            case Box(x, y, wide, high, rounding):
                round_ = _n(min(rounding, wide / 2.2, high / 2.2))
                place = f'x="{_n(x)}" y="{_n(y)}" width="{_n(wide)}" height="{_n(high)}"'
                yield f'<rect {place} rx="{round_}"{_style(item.fill, item.pen)}/>'
            case Oval(x, y, wide, high):
                place = f'cx="{_n(x + wide / 2)}" cy="{_n(y + high / 2)}" rx="{_n(wide / 2)}" ry="{_n(high / 2)}"'
                yield f"<ellipse {place}{_style(item.fill, item.pen)}/>"
            case Outline():
                yield f'<path d="{_path(item)}"{_style(item.fill, item.pen)}/>'
            case Words(_, y, text, size, wide):
                bold = ' font-weight="bold"' if item.bold else ""
                fits = f' textLength="{_n(wide)}" lengthAdjust="spacingAndGlyphs"' if wide > 0 else ""
                place = f'x="{_n(item.left)}" y="{_n(y)}" font-size="{_n(size)}" fill="{item.colour}"'
                yield f"<text {place}{bold}{fits}>{_text(text)}</text>"


def _path(outline: Outline) -> str:
    return "".join(letter + " ".join(map(_n, at)) for letter, at in outline.placed())


def _style(fill: str, pen: Pen | None) -> str:
    style = f" fill={quoteattr(fill or 'none')}"
    if pen is not None:
        style += f' stroke={quoteattr(pen.colour)} stroke-width="{_n(pen.width)}"'
        if pen.dash:
            style += f' stroke-dasharray="{" ".join(map(_n, pen.dash))}"'
        else:
            style += ' stroke-linecap="round" stroke-linejoin="round"'
    return style


def _text(text: str) -> str:
    """Without characters that XML does not have."""
    return escape("".join(" " if one < " " or one in "\x7f\ufffe\uffff" else one for one in text))


def _n(number: float) -> str:
    return f"{number:.3f}".rstrip("0").rstrip(".")
