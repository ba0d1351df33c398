"""The way of an event through a running desk on this machine's own processor and kernel, with pipes in place of devices."""

from __future__ import annotations

import os
import select
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.child import key_report
from bench.rows import Row, median_and_late
from fenko.core.keys import KERNEL_KEYS

PRESSES = 4000
KEYS = "abcdefghijklmnopqrstuvwxyz0123456789"
BARE = """
import os
os.write(1, b"r")
while True:
    os.write(1, os.read(0, 1536))
"""
FENKO = """
import sys
from bench.child import piped_port, serve
from fenko.core.keys import KERNEL_KEYS

serve(sys.argv[1], {(1, KERNEL_KEYS[key]): f"keys.{key}" for key in sys.argv[2]}, piped_port)
"""


def start(*command: str) -> subprocess.Popen[bytes]:
    """A process that says a byte when it is ready."""
    process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0)
    assert process.stdout is not None
    process.stdout.read(1)
    return process


def latency(process: subprocess.Popen[bytes], raw: bytes) -> float:
    """Seconds from an event in to what comes of it."""
    assert process.stdin is not None and process.stdout is not None
    start = time.perf_counter()
    os.write(process.stdin.fileno(), raw)
    select.select([process.stdout], [], [])
    end = time.perf_counter()
    os.read(process.stdout.fileno(), 1536)
    return end - start


def measure() -> list[Row]:
    """Median and 99th percentile against a bare read-write loop, event by event in turn."""
    with tempfile.TemporaryDirectory() as name:
        bound = "\n".join(f'{key} = "{other}"' for key, other in zip(KEYS, reversed(KEYS), strict=True))
        (Path(name) / "desk.toml").write_text(f'[surface.keys]\nkind = "keyboard"\n[profile.base.on.keys]\n{bound}\n')
        sides = [start(sys.executable, "-c", BARE), start(sys.executable, "-c", FENKO, name, KEYS)]
        times: list[list[float]] = [[], []]
        for number in range(PRESSES):
            # Each key in turn: by the time it comes again it has been up for long enough.
            value, code = 1 - number % 2, KERNEL_KEYS[KEYS[number // 2 % len(KEYS)]]
            for side in (0, 1):
                times[side].append(latency(sides[side], key_report(code, value)))
        for process in sides:
            process.kill()
            process.communicate()
    bare, ours = map(median_and_late, times)
    median, late = (mine / theirs for mine, theirs in zip(ours, bare, strict=True))
    added = [(mine - theirs) * 1e6 for mine, theirs in zip(ours, bare, strict=True)]
    return [
        Row("the same through pipes: what Fenko adds to a bare loop", f"{added[0]:.0f} µs (median; {median:.1f} × a pipe's own way)",
            "≤ 8 µs", added[0] <= 8),
        Row("the same, 99th percentile", f"{added[1]:.0f} µs ({late:.1f} ×)", "≤ 16 µs", added[1] <= 16),
    ]  # fmt: skip
