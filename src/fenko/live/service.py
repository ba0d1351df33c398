"""The second process, as a running desk sees it: started when it is needed, never waited for."""

from __future__ import annotations

from collections.abc import Callable
from math import inf
from typing import Any

from fenko.live.beside import Beside
from fenko.live.loop import Loop
from fenko.services.wire import Frames, packed

MOST_UNDER_WAY = 8
"""Requests; more than that are refused, for whoever asks is faster than the work."""

Answer = Callable[[str, Any], None]
"""Told each answer: `part` with a piece, at last `done`, or `failed` with the reason."""


class Services:
    """Asks the second process for things. Answers come between two events, one at a time, so that no event waits for
    more than one of them."""

    def __init__(self, loop: Loop) -> None:
        self._beside = Beside(
            loop, "fenko.services", self._heard, lambda: self._ended("the process that does it has ended")
        )
        self._frames = Frames()
        self._waiting: dict[int, Answer] = {}
        self._number = 0
        self._next = loop.timer(self._take_one)

    def ask(self, service: str, *arguments: Any, answer: Answer) -> bool:
        """Asks for something; False if too much is under way already."""
        if len(self._waiting) >= MOST_UNDER_WAY:
            return False
        if not self._beside.there:
            try:
                self._beside.start()
            except OSError as why:
                answer("failed", f"no second process can be started: {why.strerror or why}")
                return True
            self._frames = Frames()
        self._number += 1
        self._waiting[self._number] = answer
        try:
            # A request is small, and the other end reads it as soon as it is through with the one before.
            self._beside.send(packed((self._number, service, arguments)))
        except OSError as why:
            self._ended(why.strerror or str(why))
        return True

    def _heard(self, data: bytes) -> None:
        self._frames.add(data)
        self._look()

    def _look(self) -> None:
        """If there is an answer it is taken next, but events that have come by then go first."""
        try:
            complete = self._frames.complete
        except ValueError as why:
            self._ended(str(why))
            return
        self._next.set(0.0 if complete else inf)

    def _take_one(self, now: float) -> None:
        request, word, what = self._frames.next()
        answer = self._waiting.get(request) if word == "part" else self._waiting.pop(request, None)
        if answer is not None:
            answer(word, what)
        self._look()

    def _ended(self, why: str) -> None:
        waiting, self._waiting = self._waiting, {}
        self.close()
        for answer in waiting.values():
            answer("failed", why)

    def close(self) -> None:
        """Ends the second process."""
        self._next.set(inf)
        self._waiting.clear()
        self._beside.close()
