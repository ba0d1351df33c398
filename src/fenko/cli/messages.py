"""Messages of a running desk: written by a thread, so that a terminal that is stopped, or whose reader has gone, neither holds up
the desk nor ends it."""

from __future__ import annotations

import os
import sys
import threading
from collections import deque
from collections.abc import Callable

MOST = 1000
"""Messages that wait; beyond that the oldest are left out."""


class Messages:
    """Gives each message to `write`, in order. A message that cannot be written is left out."""

    def __init__(self, write: Callable[[str], None]) -> None:
        self._write = write
        self._waiting: deque[str] = deque()
        self._left_out = 0
        self._lock = threading.Lock()
        # A desk rarely has anything to report, so the thread exists only while a message waits.
        self._thread: threading.Thread | None = None

    def put(self, text: str) -> None:
        """One more message; never waits."""
        with self._lock:
            self._waiting.append(text)
            if len(self._waiting) > MOST:
                self._waiting.popleft()
                self._left_out += 1
            if self._thread is None:
                self._thread = threading.Thread(target=self._run, name="messages", daemon=True)
                self._thread.start()

    def _run(self) -> None:
        while True:
            with self._lock:
                if not self._waiting:
                    self._thread = None
                    return
                left_out, self._left_out = self._left_out, 0
                text = self._waiting.popleft()
            try:
                if left_out:
                    self._write(f"({left_out} messages were left out)")
                self._write(text)
            except (OSError, ValueError):
                pass  # there is no reader, or no room: the desk works on

    def close(self, seconds: float = 1.0) -> None:
        """Waits until all is written, at most that long. A stream that takes nothing is left alone from then on."""
        thread = self._thread
        if thread is None:
            return
        thread.join(seconds)
        if thread.is_alive():
            sys.stderr = open(os.devnull, "w")  # noqa: SIM115 - the end of the process would wait for it
