"""Waits for a display to come back. Sleeps until the socket of the display appears, then tries every quarter of a second, and after
ten seconds every three seconds for as long as the socket is there: a server that hangs may continue, and a shell that locks the
screen switches its extensions off."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

from fenko.live.loop import Loop
from fenko.system.inotify import FolderWatch
from fenko.system.session import display_name, wayland_name
from fenko.system.wayland import socket_of
from fenko.system.xserver import SOCKETS, socket_name

_TRY_EVERY = 0.25
_TRIES = 40
_LOOK_EVERY = 3.0


class Returning:
    """Once `wait` is called: calls `attempt` until it says True, some times after the display's socket has appeared,
    and not otherwise."""

    def __init__(self, loop: Loop, attempt: Callable[[], bool]) -> None:
        self._loop = loop
        self._attempt = attempt
        self._tries = 0
        self._socket: Path | None = None
        self._watch: FolderWatch | None = None
        self.waiting = False
        self._timer = loop.timer(self._try)

    def wait(self) -> None:
        """Begins to wait."""
        self.waiting = True
        if wayland_name():
            self._socket = socket_of(wayland_name())
        else:
            name = socket_name(display_name())
            self._socket = SOCKETS / name if name is not None else None
        try:
            watch = self._watch = FolderWatch(SOCKETS if self._socket is None else self._socket.parent)
        except OSError:
            self._start()  # nothing tells when it is back
            return
        self._loop.add(watch.fd, lambda: self._changed(watch))
        if self._may_be_there():
            self._start()

    def _may_be_there(self) -> bool:
        return self._socket is None or self._socket.exists()

    def _changed(self, watch: FolderWatch) -> None:
        appeared = [name for name, there in watch.read() if there]
        if self._socket is not None and self._socket.name in appeared:
            self._start()

    def _start(self) -> None:
        self._tries = _TRIES
        self._timer.set(time.monotonic() + _TRY_EVERY)

    def _try(self, now: float) -> None:
        if self._attempt():
            self.waiting = False
            if self._watch is not None:
                self._loop.remove(self._watch.fd)
                self._watch.close()
                self._watch = None
            return
        self._tries -= 1
        if self._tries > 0:
            self._timer.set(now + _TRY_EVERY)
        elif self._watch is None or self._may_be_there():
            self._timer.set_in(_LOOK_EVERY)
