"""A running desk whose two sticks are all the way: what that costs, and how evenly it moves. Pipes stand in for devices."""

from __future__ import annotations

import os
import select
import subprocess
import sys
import tempfile
import time
from itertools import pairwise
from pathlib import Path

from bench.child import report
from bench.rows import Row

ABSOLUTE = 3
SECONDS = 4.0
TICK = 0.008
DESK = """
[surface.pad]
kind = "gamepad"
[profile.base.on.pad]
stick-left = "pointer 900"
stick-right = "scroll 20"
"""
FENKO = """
import sys
from bench.child import piped_port, serve

names = ["stick-left.x", "stick-left.y", "stick-right.x", "stick-right.y"]
serve(sys.argv[1], {(3, code): f"pad.{name}" for code, name in enumerate(names)}, lambda: piped_port(moves=True), dict.fromkeys(range(4), (-100, 100)))
"""


def measure() -> list[Row]:
    """The share of a core, and how late ticks come."""
    with tempfile.TemporaryDirectory() as name:
        (Path(name) / "desk.toml").write_text(DESK)
        process = subprocess.Popen(
            [sys.executable, "-c", FENKO, name], stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0
        )
        assert process.stdin is not None and process.stdout is not None
        process.stdout.read(1)
        before = _processor(process.pid)
        process.stdin.write(report(*((ABSOLUTE, code, 100) for code in range(4))))
        came: list[float] = []
        end = time.monotonic() + SECONDS
        while (left := end - time.monotonic()) > 0:
            if select.select([process.stdout], [], [], left)[0]:
                os.read(process.stdout.fileno(), 65536)
                came.append(time.monotonic())
        used = _processor(process.pid) - before
        process.kill()
        process.communicate()
    share = used / SECONDS
    apart = sorted(abs(other - one - TICK) * 1000 for one, other in pairwise(came))
    median, late = apart[len(apart) // 2], apart[int(len(apart) * 0.99)]
    bounds = (0.25, 0.5, 1, 2, 4)
    shares = ", ".join(f"{sum(one <= bound for one in apart) / len(apart):.0%} within {bound:g} ms" for bound in bounds)
    return [
        Row("running desk, two sticks all the way, processor", f"{share:.1%} of a core", "≤ 5 %", share <= 0.05),
        Row(
            "the same, a tick of 8 ms comes too early or late by",
            f"{median:.2f} ms (median; {shares})",
            "≤ 4 ms, 99 of 100",
            late <= 4,
        ),
    ]


def _processor(pid: int) -> float:
    """Seconds of processor time so far."""
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")
