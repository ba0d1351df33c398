"""What Pango does for a line of text: its font, its shape in any script, and its drawing on a Cairo context.

Bound here, for the packages that bind all of it take a quarter of a second to be loaded."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Any

import cffi
from cairocffi import ffi as cairo_ffi

UNITS = 1024
"""Of Pango's, for one of Cairo's."""
_LIBRARY = "libpangocairo-1.0.so.0"
_ffi = cffi.FFI()
_ffi.include(cairo_ffi)
_ffi.cdef("""
typedef struct _PangoLayout PangoLayout;
typedef struct _PangoFontDescription PangoFontDescription;
typedef struct { int x; int y; int width; int height; } PangoRectangle;
PangoLayout *pango_cairo_create_layout(cairo_t *context);
void pango_cairo_update_layout(cairo_t *context, PangoLayout *layout);
void pango_cairo_show_layout(cairo_t *context, PangoLayout *layout);
void pango_layout_set_text(PangoLayout *layout, const char *text, int length);
void pango_layout_set_font_description(PangoLayout *layout, const PangoFontDescription *font);
void pango_layout_get_extents(PangoLayout *layout, PangoRectangle *ink, PangoRectangle *logical);
int pango_layout_get_baseline(PangoLayout *layout);
PangoFontDescription *pango_font_description_from_string(const char *name);
void pango_font_description_set_absolute_size(PangoFontDescription *font, double size);
void g_object_unref(void *object);
""")
_pango: Any = _ffi.dlopen(_LIBRARY)


@lru_cache(16)
def _font(name: str, size: float) -> Any:
    font = _pango.pango_font_description_from_string(name.encode())
    _pango.pango_font_description_set_absolute_size(font, size * UNITS)
    return font


class Line:
    """One line of text in a font (such as `Sans Bold`) of a size, for a context of cairocffi's."""

    def __init__(self, context: Any, text: str, font: str, size: float) -> None:
        self._context = context
        self._layout = _ffi.gc(_pango.pango_cairo_create_layout(_pointer(context)), _pango.g_object_unref)
        raw = text.encode("utf-8", "replace")
        _pango.pango_layout_set_text(self._layout, raw, len(raw))
        _pango.pango_layout_set_font_description(self._layout, _font(font, size))

    @property
    def size(self) -> Sequence[float]:
        """Its width and height."""
        logical = _ffi.new("PangoRectangle *")
        _pango.pango_layout_get_extents(self._layout, _ffi.NULL, logical)
        return logical.width / UNITS, logical.height / UNITS

    @property
    def baseline(self) -> float:
        """How far beneath its upper edge letters stand."""
        return float(_pango.pango_layout_get_baseline(self._layout)) / UNITS

    def draw(self) -> None:
        """Draws it with its left upper corner where the context stands, whatever that has been scaled to."""
        _pango.pango_cairo_update_layout(_pointer(self._context), self._layout)
        _pango.pango_cairo_show_layout(_pointer(self._context), self._layout)


def _pointer(context: Any) -> Any:
    return _ffi.cast("cairo_t *", context._pointer)
