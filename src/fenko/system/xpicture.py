"""A picture that a window of the X server shows by itself, however often it is covered and seen again."""

from __future__ import annotations

from typing import NamedTuple

from fenko.system.xserver import Display, DisplayError


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
        self._size = (0, 0)

    def show(self, picture: Picture) -> None:
        """It is that from now on."""
        display, x, core = self._display, self._display.x, self._display.connection.core
        wide, high, stride = picture.wide, picture.high, picture.stride
        if (wide, high) != self._size:
            if self._pixmap:
                display.tell(core.FreePixmap, self._pixmap)
            self._pixmap = display.connection.generate_id()
            display.tell(core.CreatePixmap, self._depth, self._pixmap, self._window, wide, high)
            self._size = (wide, high)
        # In strips, for a request may only be so long.
        most = max(1, (display.connection.get_maximum_request_length() * 4 - 64) // stride)
        for top in range(0, high, most):
            count = min(most, high - top)
            piece = picture.rows[top * stride : (top + count) * stride]
            display.tell(
                core.PutImage, x.ImageFormat.ZPixmap, self._pixmap, self._pen, stride // 4, count, 0, top, 0,
                self._depth, len(piece), piece,
            )  # fmt: skip
        display.tell(core.ChangeWindowAttributes, self._window, x.CW.BackPixmap, [self._pixmap])
        display.tell(core.ClearArea, False, self._window, 0, 0, 0, 0)
        display.flush()
