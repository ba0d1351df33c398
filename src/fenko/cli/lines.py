"""What a person types while other things go on: their lines as events of the loop, and prompts."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable

from fenko.cli.shared import note, printed
from fenko.live.loop import Loop


class Lines:
    """Gives each line that comes on stdin, without its blanks, to `take`; the end of stdin ends the loop."""

    def __init__(self, loop: Loop, take: Callable[[str], None]) -> None:
        self._loop = loop
        self._take = take
        self._rest = b""
        loop.add(sys.stdin.fileno(), self._readable)

    def _readable(self) -> None:
        data = os.read(sys.stdin.fileno(), 4096)
        if not data:
            self._loop.remove(sys.stdin.fileno())
            self._loop.stop()
            return
        self._rest += data
        while b"\n" in self._rest:
            line, _, self._rest = self._rest.partition(b"\n")
            self._take(line.decode("utf-8", "replace").strip())


def note_trouble(line: str) -> None:
    """Of what surfaces tell while somebody is being asked: only what keeps a thing from being heard."""
    if "may not be read" in line or ("taken" in line and "over;" in line):
        note(line)


def prompt(text: str) -> None:
    """Asks on stderr, where the answer is typed behind it."""
    sys.stderr.write(printed(text))
    sys.stderr.flush()
