"""Programs of the X server that runs behind a Wayland compositor. They read a keymap when they come to it, not in order with
the keys; so what was lent has to stay until they have read these."""

from __future__ import annotations

import contextlib
import select
import threading
import time
from collections.abc import Generator

from fenko.outputs.keys import LAST_OF_16_BITS, in_halves
from fenko.outputs.reading import LOOK_EVERY, PATIENCE, Read, Reader
from fenko.system.session import DisplayError, display_name
from fenko.system.xserver import SOCKETS, NoWindow, open_display, socket_name
from fenko.system.xwindows import in_front, takes_halves

_CONNECTED = "03"
_TELLS_WITHIN = 1.0
"""Seconds that the server has to say which program is in front."""


class Behind:
    """Asks the programs of the X server behind, in a thread of its own, for a server that hangs is waited for by nobody."""

    def __init__(self) -> None:
        self._changed = threading.Condition()
        self._typed = False
        self._asking = False

    def typed(self) -> None:
        """Keys have arrived at the window in front. Nobody is asked where that server has not been started."""
        if not _has_clients(display_name()):
            return
        with self._changed:
            self._typed = True
            if not self._asking:
                self._asking = True
                threading.Thread(target=self._ask, daemon=True).start()

    @property
    def reading(self) -> bool:
        """Whether a program may still have keys to read."""
        return self._asking

    def as_taken(self, text: str) -> Generator[float, None, str]:
        """The text as the program in front takes it, once that is known; what a server that hangs has in front gets it as it is."""
        if max(text, default="") <= LAST_OF_16_BITS or not _has_clients(display_name()):
            return text
        found: list[bool] = []
        asking = threading.Thread(target=self._ask_front, args=[found], daemon=True)
        asking.start()
        end = time.monotonic() + _TELLS_WITHIN
        while asking.is_alive() and time.monotonic() < end:
            yield LOOK_EVERY
        return in_halves(text) if any(found) else text

    def _ask_front(self, found: list[bool]) -> None:
        with contextlib.suppress(DisplayError, NoWindow, OSError):
            display = open_display()
            try:
                found.append(takes_halves(display, in_front(display)))
            finally:
                display.close()

    def wait(self, seconds: float) -> None:
        """Waits until all have been read, at most so long."""
        with self._changed:
            self._changed.wait_for(lambda: not self._asking, seconds)

    def _ask(self) -> None:
        try:
            display = open_display()
            try:
                display.select(display.root, display.x.EventMask.SubstructureNotify)
                readers: dict[int, tuple[float, Reader]] = {}
                while self._goes_on(bool(readers)):
                    if self._taken():
                        window = in_front(display)
                        if window:
                            readers[window] = time.monotonic() + PATIENCE, Reader(display, window)
                    for event in display.events():
                        for _, reader in readers.values():
                            reader.heard(event)
                    now = time.monotonic()
                    readers = {w: one for w, one in readers.items() if now < one[0] and one[1].look() is Read.NO}
                    if readers:
                        select.select([display.fd], [], [], LOOK_EVERY)
            finally:
                display.close()
        except (DisplayError, NoWindow, OSError):
            with self._changed:
                self._asking = False
                self._changed.notify_all()

    def _taken(self) -> bool:
        with self._changed:
            typed, self._typed = self._typed, False
            return typed

    def _goes_on(self, reading: bool) -> bool:
        with self._changed:
            self._asking = reading or self._typed
            if not self._asking:
                self._changed.notify_all()
            return self._asking


def _has_clients(display: str) -> bool:
    """Whether programs are on that display of this machine. To ask the server itself would start it."""
    name = socket_name(display)
    try:
        with open("/proc/net/unix", encoding="utf-8", errors="replace") as file:
            return any(
                fields[5:6] == [_CONNECTED] and fields[-1].lstrip("@") == f"{SOCKETS}/{name}"
                for fields in map(str.split, file)
            )
    except OSError:
        return False
