"""A picture that a window of the X server shows by itself, however often it is covered and seen again."""

from __future__ import annotations

import io
import struct
from typing import NamedTuple

from fenko.system.session import DisplayError
from fenko.system.xserver import Display

_STRIP = 24  # rows; so many fit into a request, and of a picture that changes a little not all is sent
_PUT_IMAGE = 72  # the request's number in the core protocol


class Picture(NamedTuple):
    """Four bytes a pixel (blue, green, red, nothing), in rows of `stride` bytes."""

    rows: bytes
    wide: int
    high: int
    stride: int


class Backdrop:
    """What a window shows. Raises DisplayError where the display does not have 24 bits a pixel, or goes away."""

    def __init__(self, display: Display, window: int) -> None:
        self._display = display
        self._window = window
        screen = display.connection.get_setup().roots[display.connection.pref_screen]
        self._depth = screen.root_depth
        if self._depth not in (24, 32):
            raise DisplayError(f"display {display.name} has {self._depth} bits a pixel, where 24 are needed")
        self._pen = display.connection.generate_id()
        display.tell(display.connection.core.CreateGC, self._pen, window, 0, [])
        self._pixmap = 0
        self._shown: Picture | None = None

    def show(self, picture: Picture) -> None:
        """It is that from now on."""
        display, x, core = self._display, self._display.x, self._display.connection.core
        wide, high, stride = picture.wide, picture.high, picture.stride
        before = self._shown if self._shown is not None and self._shown[1:] == picture[1:] else None
        if before is None:
            if self._pixmap:
                display.tell(core.FreePixmap, self._pixmap)
            self._pixmap = display.connection.generate_id()
            display.tell(core.CreatePixmap, self._depth, self._pixmap, self._window, wide, high)
        self._shown = picture
        rows = memoryview(picture.rows)
        for top in range(0, high, _STRIP):
            count = min(_STRIP, high - top)
            piece = rows[top * stride : (top + count) * stride]
            if before is None or before.rows[top * stride : (top + count) * stride] != piece:
                self._put(piece, stride // 4, count, top)
        display.tell(core.ChangeWindowAttributes, self._window, x.CW.BackPixmap, [self._pixmap])
        display.tell(core.ClearArea, False, self._window, 0, 0, 0, 0)
        display.flush()

    def _put(self, piece: memoryview, wide: int, high: int, top: int) -> None:
        """Puts a strip of the picture in its place."""
        z_pixmap = self._display.x.ImageFormat.ZPixmap
        head = struct.pack(
            "=xB2xIIHHhhBB2x", z_pixmap, self._pixmap, self._pen, wide, high, 0, top, 0, self._depth
        )  # fmt: skip
        # As it is, for the library would take every byte into its hand.
        self._display.tell(self._display.connection.core.send_request, _PUT_IMAGE, io.BytesIO(head + piece))
