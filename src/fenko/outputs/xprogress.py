"""How far an X server has got with what it was sent. It says so itself, and is never asked and waited for: it may be held up by
a program that has it to itself for a while, by its graphics, or altogether."""

from __future__ import annotations

import time
from typing import Any

from fenko.system.xserver import Display

_CARDINAL = 6
_EVERY = 4
"""Requests after which there is a mark, where nobody wants one before."""
_FAR = 10
"""Marks that a server has not come to yet, from which on it is sent nothing more. Its socket takes at least 60 sendings."""


class Progress:
    """What is sent is counted in batches, each with a *mark* at its end: a property of a window that nobody sees. The server tells
    when it has changed it."""

    def __init__(self, display: Display) -> None:
        x = display.x
        self._display = display
        self._own: int = display.connection.generate_id()
        display.tell(
            display.connection.core.CreateWindow, 0, self._own, display.root, -1, -1, 1, 1, 0, x.WindowClass.InputOnly, 0,
            x.CW.EventMask, [x.EventMask.PropertyChange],
        )  # fmt: skip
        self._mark = display.atom("FENKO_SO_FAR")
        self.batch = 1
        """The batch that is being sent."""
        self.done = 0
        """The last one that the server has dealt with,"""
        self.done_at = 0.0
        """and when it said so (monotonic seconds)."""
        self.wanted = False
        """Whether this batch is to end with the next sending."""
        self.requests = 0
        """What has been asked for in this batch."""

    def heard(self, event: Any) -> None:
        """Takes note of an event about a property, which may be the mark."""
        if event.window == self._own and event.atom == self._mark and self.done < self.batch - 1:
            self.done += 1
            self.done_at = time.monotonic()

    def sending(self) -> None:
        """Marks the end of the batch, where somebody wants to know, or has not known for long."""
        if self.wanted or self.requests >= _EVERY:
            self.wanted = False
            self.requests = 0
            self.batch += 1
            self._display.tell(
                self._display.connection.core.ChangeProperty, 0, self._own, self._mark, _CARDINAL, 8, 1, b"."
            )

    @property
    def caught_up(self) -> bool:
        """Whether the server has dealt with all that it was sent and asked to tell of."""
        return not self.wanted and self.done == self.batch - 1

    @property
    def far_behind(self) -> bool:
        """Whether it takes so little that sending it more might have to wait."""
        return self.batch - 1 - self.done >= _FAR
