"""The second process, as a running desk sees it: started when it is needed, never waited for."""

from __future__ import annotations

import os
import socket
import sys
from collections.abc import Callable
from math import inf
from typing import Any

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
        self._loop = loop
        self._line: socket.socket | None = None
        self._pid = 0
        self._frames = Frames()
        self._waiting: dict[int, Answer] = {}
        self._number = 0
        self._next = loop.timer(self._take_one)

    def ask(self, service: str, *arguments: Any, answer: Answer) -> bool:
        """Asks for something; False if too much is under way already."""
        if len(self._waiting) >= MOST_UNDER_WAY:
            return False
        if self._line is None:
            try:
                self._start()
            except OSError as why:
                answer("failed", f"no second process can be started: {why.strerror or why}")
                return True
        assert self._line is not None
        self._number += 1
        self._waiting[self._number] = answer
        try:
            # A request is small, and the other end reads it as soon as it is through with the one before.
            self._line.sendall(packed((self._number, service, arguments)))
        except OSError as why:
            self._ended(why.strerror or str(why))
        return True

    def _start(self) -> None:
        ours, theirs = socket.socketpair()
        # -P: whatever lies in the folder that Fenko was started from is none of its modules.
        command = [sys.executable, "-P", "-m", "fenko.services", str(theirs.fileno())]
        os.set_inheritable(theirs.fileno(), True)
        with theirs:
            self._pid = os.posix_spawn(sys.executable, command, os.environ)
        ours.setblocking(False)
        self._line, self._frames = ours, Frames()
        self._loop.add(ours.fileno(), self._readable)

    def _readable(self) -> None:
        assert self._line is not None
        try:
            data = self._line.recv(1 << 16)
        except BlockingIOError:
            return
        except OSError:
            data = b""
        if not data:
            self._ended("the process that does it has ended")
            return
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
        if self._line is not None:
            self._loop.remove(self._line.fileno())
            self._line.close()
            self._line = None
            os.kill(self._pid, 9)  # it has nothing that it would have to put in order
            os.waitpid(self._pid, 0)
