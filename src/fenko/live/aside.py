"""Whoever has to ask the display before it can tell of something does so in a thread of its own: no event waits for that."""

from __future__ import annotations

import contextlib
import os
import select
import threading
from collections import deque
from typing import Generic, Protocol, TypeVar

from fenko.system.session import DisplayError
from fenko.system.trouble import described
from fenko.system.turns import short_turns

_Told = TypeVar("_Told", covariant=True)
_MOST = 64
"""Things that were told and not read yet; beyond that the oldest is forgotten."""


class Unexpected(DisplayError):
    """Whoever asked failed in a way that nobody expected; the message says how and where."""


class Asks(Protocol[_Told]):
    """Somebody who tells of something, and may have to ask for it. Every method raises DisplayError when the display is gone."""

    @property
    def fd(self) -> int:
        """Becomes readable when there may be something to tell; then `read` is called until it returns None."""

    def read(self) -> _Told | None:
        """What there is to tell next; None once there is no more."""

    def close(self) -> None:
        """Ends it."""


class Aside(Generic[_Told]):
    """The same for the loop, which it never has waiting. Whoever asks is the thread's from now on, which also closes it."""

    def __init__(self, asks: Asks[_Told]) -> None:
        short_turns()
        self._asks = asks
        self._told: deque[_Told | DisplayError] = deque(maxlen=_MOST)
        self.fd = os.eventfd(0, os.EFD_CLOEXEC | os.EFD_NONBLOCK)
        """Becomes readable when something was told; then call `read` until it returns None."""
        self._wake = os.eventfd(0, os.EFD_CLOEXEC | os.EFD_NONBLOCK)
        self._ends = threading.Lock()
        self._wanted = self._runs = True
        threading.Thread(target=self._follow, daemon=True).start()

    def _follow(self) -> None:
        waiting = select.poll()
        waiting.register(self._asks.fd, select.POLLIN)
        waiting.register(self._wake, select.POLLIN)
        try:
            while self._wanted:
                while self._wanted and (told := self._asks.read()) is not None:
                    self._tell(told)
                waiting.poll()
        except DisplayError as why:
            self._tell(why)
        except Exception as why:  # reported by who listens
            self._tell(Unexpected(described(why)))
        finally:
            self._asks.close()
            with self._ends:
                self._runs = False
                self._let_go()

    def _tell(self, what: _Told | DisplayError) -> None:
        self._told.append(what)
        os.eventfd_write(self.fd, 1)

    def read(self) -> _Told | None:
        """What was told next; None once there is no more. Raises DisplayError when the display is gone."""
        with contextlib.suppress(BlockingIOError):
            os.eventfd_read(self.fd)
        if not self._told:
            return None
        told = self._told.popleft()
        if isinstance(told, DisplayError):
            try:
                raise told
            finally:
                del told  # an error knows this frame, and what the thread had: nothing of it is kept
        return told

    def close(self) -> None:
        """Has the thread end, and does not wait for it."""
        with self._ends:
            self._wanted = False
            if self._runs:
                os.eventfd_write(self._wake, 1)
            else:
                self._let_go()

    def _let_go(self) -> None:
        """Closes the descriptors, once neither side uses them: a number that is free is soon somebody else's."""
        if not self._wanted and not self._runs:
            os.close(self.fd)
            os.close(self._wake)
