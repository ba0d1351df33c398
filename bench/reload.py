"""What reading a large desk again costs a running one: the longest piece of work between two events."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

from bench.program import large_desk
from bench.rows import Row
from fenko.desk.compiled import compiled
from fenko.desk.load import load_desk
from fenko.live.loop import Loop
from fenko.live.service import Services
from fenko.live.session import Session
from fenko.outputs.listing import ListingPort

MOST = 0.005  # s


class _Timed(Services):
    """Notes how long each answer takes, in processor time, which nobody else on the machine can lengthen."""

    longest = 0.0

    def _take_one(self, now: float) -> None:
        start = time.thread_time()
        super()._take_one(now)
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

        session = Session(desk, loop, lambda desk, open_now: [ListingPort(lambda effects: None)], note)
        session._compiling._services = _Timed(loop)
        file = Path(name) / "desk.toml"
        file.write_text(file.read_text() + "# Another word.\n")
        session.reload()
        loop.run()
        session.close()
    seen = f"{_Timed.longest * 1000:.1f} ms between two events at most"
    return [Row("a desk of 200 × 100 that is read again while it runs", seen, "≤ 5 ms", _Timed.longest <= MOST)]
