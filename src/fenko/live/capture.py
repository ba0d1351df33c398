"""Hears what a person performs on the ordinary keyboard, and keeps it from everybody else for that moment."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from math import inf

from fenko.core.changes import Change
from fenko.core.controls import BUTTON_CODES
from fenko.core.keys import KEY_FOR_CODE, NAMED_KEYS
from fenko.core.macros import Stroke
from fenko.desk.load import Desk
from fenko.devices.capture import WaylandCapture, X11Capture
from fenko.live.loop import Loop
from fenko.live.registry import OrdinaryKeyboards
from fenko.live.surfaces import Surfaces
from fenko.outputs.layout import kernel_layout
from fenko.system.session import DisplayError, display_name, on_wayland

PATIENCE = 10.0
"""Seconds in which somebody who wants to perform something begins."""
PAUSE = 1.5
"""Seconds without a key after which a macro is over."""


class NoKeyboard(Exception):
    """There is no keyboard that could be heard; the message says why."""


class Capture:
    """Takes the keyboard until all keys are up again, or for a macro (`several`) until there is a pause; then tells
    `done` the strokes, none if nobody performed anything. Raises NoKeyboard."""

    def __init__(self, desk: Desk, loop: Loop, several: bool, done: Callable[[list[Stroke]], None]) -> None:
        self._loop = loop
        self._several = several
        self._done = done
        self._strokes: list[Stroke] = []
        self._down: set[str] = set()
        self._server: X11Capture | WaylandCapture | None = None
        self._surfaces: Surfaces | None = None
        self._timer = loop.timer(self._over)
        why = "there is no display that has the keyboard"
        if display_name() or on_wayland():
            try:
                self._server = WaylandCapture() if on_wayland() else X11Capture()
            except DisplayError as error:
                why = str(error)
        if self._server is not None:
            loop.add(self._server.fd, self._readable)
        else:
            self._listen(desk, why)
        self._timer.set_in(PATIENCE)

    def _listen(self, desk: Desk, why: str) -> None:
        self._names = _names(desk)
        keyboards = OrdinaryKeyboards(desk, keep=True)
        self._surfaces = Surfaces(keyboards, self._loop, self._feed, lambda raw: None, lambda line: None)
        self._surfaces.start()
        if not self._surfaces.any_open:
            self._surfaces.close()
            raise NoKeyboard(f"{why}, and no keyboard may be read (`fenko ready`); type a phrase instead")

    def _readable(self) -> None:
        assert self._server is not None
        try:
            strokes = self._server.read()
        except DisplayError:
            self._over(inf)
            return
        self._take(strokes)

    def _feed(self, changes: Sequence[Change]) -> None:
        strokes = []
        for t, address, value in changes:
            key = self._names.get(address.partition(".")[2])
            if key is not None and value in (0, 1):
                strokes.append((t, key, bool(value)))
        self._take(strokes)

    def _take(self, strokes: list[Stroke]) -> None:
        for _, key, on in strokes:
            (self._down.add if on else self._down.discard)(key)
        self._strokes += strokes
        if not strokes:
            return
        if self._down:
            self._timer.set(inf)
        elif self._several:
            self._timer.set_in(PAUSE)
        else:
            self._over(inf)

    def _over(self, now: float) -> None:
        self.close()
        self._done(self._strokes)

    def close(self) -> None:
        """Gives the keyboard back."""
        self._timer.set(inf)
        if self._server is not None:
            self._loop.remove(self._server.fd)
            self._server.close()
            self._server = None
        if self._surfaces is not None:
            self._surfaces.close()
            self._surfaces = None


def _names(desk: Desk) -> dict[str, str]:
    """The kernel's key names, with what a phrase calls them: by name, or by what the layout prints on them."""
    symbols = {codes[0]: symbol for symbol, codes in kernel_layout(desk.layout).table.items() if len(codes) == 1}
    return {
        BUTTON_CODES[code]: key if key in NAMED_KEYS else symbols.get(code, key) for code, key in KEY_FOR_CODE.items()
    }
