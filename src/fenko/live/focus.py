"""The window in front as a source: it has to be in front for a moment before it counts, unless somebody presses."""

from __future__ import annotations

import time
from collections.abc import Sequence
from math import inf

from msgspec import structs

from fenko.core.changes import FOCUS, Change
from fenko.core.circumstances import Focus
from fenko.core.words import shortened
from fenko.focus.opening import open_front
from fenko.live.aside import Aside, Asks, Unexpected
from fenko.live.source import Source, Surroundings
from fenko.system.applications import Applications
from fenko.system.pauses import Pauses
from fenko.system.session import DisplayError

NOTHING_SETTLES = 1.0
"""Seconds for which no window has to be in front before that counts: between two windows there is none for a moment, which a busy
desktop draws out."""


class FocusSource(Source):
    """Follows the window in front, where there is somebody who tells."""

    def __init__(self, around: Surroundings) -> None:
        self._around = around
        self._engine = around.inbox.engine
        self._server: Asks[Focus] | None = None
        self.candidate: Focus | None = None
        """The window that has come in front, and does not count yet."""
        self._timer = around.loop.timer(self._settle)
        self._applications = Applications()
        self._pauses = Pauses()
        self._again = around.loop.timer(lambda now: self._open_again())

    def start(self) -> None:
        """Follows it from now on; without a display profiles change by hand."""
        self._around.displays.depend(self)
        try:
            self._open()
        except DisplayError as why:
            self._around.note(f"focus: unknown, profiles change by hand only ({why})")

    def _open(self) -> None:
        server = open_front()
        if not server.managed():
            self._around.note("focus: nobody tells which window is in front yet (there is no window manager)")
        current = server.current()
        self._around.note(f"focus: followed on {server.where}; in front is {shown_focus(current)}")
        self._server = Aside(server) if server.asks else server
        self._around.loop.add(self._server.fd, self._readable)
        self._around.inbox.put([(time.monotonic(), FOCUS, self._named(current))])
        self._readable()  # what came while the server was asked

    def _readable(self) -> None:
        assert self._server is not None
        try:
            while (focus := self._server.read()) is not None:
                self.came(focus)
        except Unexpected as why:
            self._around.note(f"unexpected error in following the active window: {why}; it is followed again")
            self.display_lost()
            self._again.set_in(self._pauses.next(time.monotonic()))
        except DisplayError:
            self._around.displays.lose()

    def _open_again(self) -> None:
        try:
            self.display_back()
        except DisplayError:
            self._around.displays.lose()

    def came(self, focus: Focus) -> None:
        """This window has come in front."""
        focus = self._named(focus)
        if self._around.desk.plan.ignores(focus):
            return  # whatever else has come waits on
        if focus == self._engine.focus:
            self._forget()  # it only flickered
        elif focus != self.candidate:
            settle = self._around.desk.plan.timing.settle
            if focus == _NOTHING:
                self._timer.set(time.monotonic() + max(settle, NOTHING_SETTLES))
            elif self.candidate is None or self.candidate == _NOTHING:
                self._timer.set(time.monotonic() + settle)
            self._around.inbox.before = self._look_before
            self.candidate = focus

    def _named(self, focus: Focus) -> Focus:
        """It with all names of its program."""
        owner = self._named(focus.owner) if focus.owner is not None else None
        return structs.replace(focus, owner=owner, also=self._applications.also(focus.app, focus.program))

    @property
    def busy(self) -> bool:
        """Whether a window has come in front that does not count yet."""
        return self.candidate is not None

    def _look_before(self, changes: Sequence[Change]) -> None:
        """What is pressed now goes to the window that is in front now, settled or not. A moment in which the window
        manager names none is no such window."""
        focus = self.candidate
        if focus is not None and focus != _NOTHING and any(map(self._engine.acts, changes)):
            self._forget()
            self._around.inbox.put_first((changes[0][0], FOCUS, focus))

    def _settle(self, now: float) -> None:
        focus = self.candidate
        self._forget()
        if focus is not None:
            self._around.inbox.put([(now, FOCUS, focus)])

    def _forget(self) -> None:
        self.candidate = None
        self._around.inbox.before = None
        self._timer.set(inf)

    def display_lost(self) -> None:
        """The display is gone; nothing of it is asked any more."""
        self._forget()
        self.close()

    def display_back(self) -> None:
        """It is there again. Raises DisplayError or PortError if not yet."""
        if self._server is None:
            self._open()

    def close(self) -> None:
        """Stops following."""
        self._again.set(inf)
        if self._server is not None:
            self._around.loop.remove(self._server.fd)
            self._server.close()
            self._server = None


_NOTHING = Focus()


def shown_focus(focus: Focus) -> str:
    """A window in words."""
    name = focus.app or focus.program
    title = f' "{shortened(focus.title)}"' if focus.title else ""
    return f"{name}{title}".strip() or "nothing"
