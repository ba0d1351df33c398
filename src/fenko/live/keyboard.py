"""The modifiers of the person's ordinary keyboards as a source: from the X server, or else from the kernel."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from math import inf

from fenko.core.changes import KEYBOARD, UNPLUG, Change
from fenko.desk.compiled import Compiled
from fenko.devices.modifiers import MODIFIER_CODES, X11Modifiers, held_modifiers
from fenko.live.aside import Aside, Unexpected
from fenko.live.loop import Loop
from fenko.live.registry import OrdinaryKeyboards
from fenko.live.source import Source, Surroundings
from fenko.live.surfaces import Surfaces
from fenko.system.pauses import Pauses
from fenko.system.session import DisplayError, display_name, on_wayland

Held = tuple[str, ...]


class KeyboardSource(Source):
    """Tells which modifiers are held on ordinary keyboards, where a layer is on while one is."""

    def __init__(self, around: Surroundings) -> None:
        self._around = around
        self._depends = False
        self._keyboard: _Keyboard | None = None
        self._pauses = Pauses()
        self._again = around.loop.timer(lambda now: self.start())

    def start(self) -> None:
        """Listens from now on, if any layer wants to know."""
        if not self._around.desk.plan.watches_keyboard:
            return
        if not self._depends:
            self._depends = True
            self._around.displays.depend(self)
        try:
            self._open(bool(display_name()) and not on_wayland())
        except DisplayError:
            self._open(False)

    def _open(self, by_display: bool) -> None:
        around = self._around
        self._keyboard = _Keyboard(around.desk, around.loop, self._changed, self._lost, by_display)
        where = f"display {display_name()}" if by_display else "the kernel"
        if self._keyboard.start():
            around.note(f"keyboard: which modifiers are held is told by {where}")
        else:
            around.note(
                "keyboard: none may be read, so layers with `while` on a modifier stay off (`fenko ready` helps)"
            )

    def _lost(self, why: DisplayError) -> None:
        if isinstance(why, Unexpected):
            self._around.note(f"unexpected error in following the modifiers: {why}; they are followed again")
            self.close()
            self._again.set_in(self._pauses.next(time.monotonic()))
        else:
            self._around.displays.lose()

    def _changed(self, t: float, held: Held) -> None:
        self._around.inbox.put([(t, KEYBOARD, held)])

    def use_desk(self, before: Compiled) -> None:
        """Listens, if any layer wants to know now."""
        if not self._around.desk.plan.watches_keyboard:
            self.close()
        elif self._keyboard is None:
            self.start()

    def display_lost(self) -> None:
        """The display is gone; nothing of it is asked any more."""
        self.close()

    def display_back(self) -> None:
        """It is there again. Raises DisplayError or PortError if not yet."""
        if self._keyboard is None and self._around.desk.plan.watches_keyboard:
            self._open(not on_wayland())

    def close(self) -> None:
        """Stops listening."""
        self._again.set(inf)
        if self._keyboard is not None:
            self._keyboard.close()
            self._keyboard = None


class _Keyboard:
    """Tells `changed` the modifiers that are held, at every change. Raises DisplayError if it is to ask the X server and
    there is none; `lost` is called when the server goes away."""

    def __init__(
        self,
        desk: Compiled,
        loop: Loop,
        changed: Callable[[float, Held], None],
        lost: Callable[[DisplayError], None],
        by_display: bool,
    ) -> None:
        self._loop = loop
        self._changed = changed
        self._lost = lost
        self._down: set[str] = set()
        self._before: Held = ()
        self._first: Held = ()
        self._server: Aside[Held] | None = None
        self._surfaces: Surfaces | None = None
        if by_display:
            server = X11Modifiers()
            self._first = server.held()
            self._server = Aside(server)
            loop.add(self._server.fd, self._readable)
        else:
            keyboards = OrdinaryKeyboards(desk)
            self._surfaces = Surfaces(
                keyboards, loop, self._feed, lambda raw: None, lambda line: None, frozenset(MODIFIER_CODES)
            )

    def start(self) -> bool:
        """Tells of what is held already, and from then on. Whether there is a keyboard that may be asked."""
        if self._surfaces is not None:
            self._surfaces.start()
            return self._surfaces.any_open
        self._tell(time.monotonic(), self._first)
        return True

    def _readable(self) -> None:
        assert self._server is not None
        try:
            while (held := self._server.read()) is not None:
                self._tell(time.monotonic(), held)
        except DisplayError as why:
            self._lost(why)

    def _feed(self, changes: Sequence[Change]) -> None:
        for t, address, value in changes:
            if address == UNPLUG:
                self._down = {key for key in self._down if not key.startswith(f"{value}.")}
            elif value in (0, 1):
                (self._down.add if value else self._down.discard)(address)
            self._tell(t, held_modifiers(key.partition(".")[2] for key in self._down))

    def _tell(self, t: float, held: Held) -> None:
        if held != self._before:
            self._before = held
            self._changed(t, held)

    def close(self) -> None:
        """Stops listening."""
        if self._server is not None:
            self._loop.remove(self._server.fd)
            self._server.close()
        if self._surfaces is not None:
            self._surfaces.close()
