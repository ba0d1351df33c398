"""Whether a program has read the keys that it was sent: asked of the program, or seen in how it sleeps.

Many windows answer `_NET_WM_PING`, and do so after all that came before. (Some answer so that only the window manager hears
it.) Of programs on this machine the X server knows the process, and of that the kernel knows whether any of its threads
works, is stopped, or all sleep because there is nothing left to read."""

from __future__ import annotations

import os
import time
from enum import Enum
from typing import Any

from fenko.system.xserver import Display, NoWindow

PATIENCE = 10.0
"""Seconds after which it is believed that a program never reads its keys."""
LAST_PATIENCE = 5.0
"""Seconds that a program has at the end to read what was typed."""
LOOK_EVERY = 0.02
"""Seconds between two looks at a program that has not read its keys yet."""
_ASLEEP = 0.05
"""Seconds that a process has to sleep through to have read everything."""
_BLIND = 0.5
"""Seconds after which a program of which nothing can be known is believed to have read everything."""


class Read(Enum):
    """What is known of a program and its keys."""

    YES = "it has read them"
    NO = "it has not read them"
    PERHAPS = "it had time to, and nothing else is known"


class Reader:
    """One window that was sent keys; asked from then on, by who hears what is sent to the root window.

    Raises DisplayError when the server is gone."""

    def __init__(self, display: Display, window: int) -> None:
        self.window = window
        self._display = display
        self._since = time.monotonic()
        self._asked = 0
        self._answered = False
        self._seen: tuple[bool, int] | None = None
        self._seen_at = 0.0
        self._process = _process_of(display, window)
        top = self._top()
        if top:
            self._ask(top)

    def _top(self) -> int:
        """The window, or one around it, that answers pings; 0 if none does."""
        display, window = self._display, self.window
        try:
            ping, protocols = display.atom("_NET_WM_PING"), "WM_PROTOCOLS"
            while window and window != display.root:
                if ping in display.numbers_property(window, protocols):
                    return window
                window = display.ask(display.connection.core.QueryTree, window).parent
        except NoWindow:
            pass
        return 0

    def _ask(self, top: int) -> None:
        display = self._display
        # Nothing else tells one question from another, so each has a time of its own.
        self._asked = int(time.monotonic() * 1000) & 0x7FFFFFFF or 1
        display.message(top, "WM_PROTOCOLS", display.atom("_NET_WM_PING"), self._asked, top)

    def heard(self, event: Any) -> None:
        """Takes note of an event, which may be the answer."""
        display = self._display
        if self._asked and isinstance(event, display.x.ClientMessageEvent):
            words = list(event.data.data32)
            if words[:2] == [display.atom("_NET_WM_PING"), self._asked]:
                self._answered = True

    def look(self) -> Read:
        """What is known now."""
        now = time.monotonic()
        if self._answered:
            return Read.YES
        if self._process:
            seen = _state_of(self._process)
            if seen is None:
                return Read.YES  # the program has ended; nobody is left to read anything
            if seen != self._seen or not seen[0]:
                self._seen, self._seen_at = seen, now
            return Read.YES if now - self._seen_at >= _ASLEEP else Read.NO
        return Read.PERHAPS if now - self._since >= _BLIND and not self._asked else Read.NO


def _process_of(display: Display, window: int) -> int:
    """The process whose window this is, as the X server knows it from its socket; 0 if it runs elsewhere."""
    try:
        import xcffib.res

        resources = display.extension("res")
        wanted = xcffib.res.ClientIdSpec.synthetic(window, xcffib.res.ClientIdMask.LocalClientPID)
        for one in display.ask(resources.QueryClientIds, 1, [wanted]).ids:
            if one.length == 4:
                return int(one.value[0])
    except (NoWindow, ImportError, AttributeError):
        pass
    return 0


def _state_of(process: int) -> tuple[bool, int] | None:
    """Whether all threads of a process sleep, and how much they have worked so far; None if there is no such process."""
    asleep, worked = True, 0
    try:
        for thread in os.listdir(f"/proc/{process}/task"):
            try:
                with open(f"/proc/{process}/task/{thread}/stat", "rb") as file:
                    fields = file.read().rpartition(b")")[2].split()
            except (FileNotFoundError, ProcessLookupError):
                continue  # it has just ended
            asleep = asleep and fields[0] in (b"S", b"I")
            worked += int(fields[11]) + int(fields[12])
    except OSError:
        return None
    return asleep, worked
