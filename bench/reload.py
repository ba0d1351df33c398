"""What reading a large desk again costs a running one: the longest piece of work between two events."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path
from unittest.mock import patch

from bench.program import large_desk
from bench.rows import Row
from fenko.desk.compiled import compiled
from fenko.desk.load import load_desk
from fenko.live.loop import Loop
from fenko.live.rereading import Compiling
from fenko.live.session import Session
from fenko.outputs.listing import ListingPort
from fenko.services.messages import FromCompiler

MOST = 0.005  # s


class _Timed(Compiling):
    """Notes how long each part of an answer takes, in processor time, which nobody else on the machine can lengthen."""

    longest = 0.0

    def _on_message(self, message: FromCompiler) -> None:
        start = time.thread_time()
        super()._on_message(message)
        _Timed.longest = max(_Timed.longest, time.thread_time() - start)


def measure() -> list[Row]:
    """One row."""
    with tempfile.TemporaryDirectory() as name, Loop() as loop:
        desk = compiled(load_desk(large_desk(Path(name))))
        said: list[str] = []

        def note(line: str) -> None:
            said.append(line)
            if "is in force" in line:
                loop.stop()

        with patch("fenko.live.session.Compiling", _Timed):
            session = Session(desk, loop, lambda desk, open_now: [ListingPort(lambda effects: None)], note)
        file = Path(name) / "desk.toml"
        file.write_text(file.read_text() + "# Another word.\n")
        session.reload()
        loop.run()
        session.close()
    seen = f"{_Timed.longest * 1000:.1f} ms between two events at most"
    return [Row("a desk of 200 × 100 that is read again while it runs", seen, "≤ 5 ms", _Timed.longest <= MOST)]
