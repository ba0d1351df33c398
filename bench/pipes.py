"""The way of an event through a running desk on this machine's own processor, with pipes in place of the kernel's
devices: an emulated machine exaggerates what is computed between two system calls, and this row does not.
"""

from __future__ import annotations

import os
import select
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.rows import Row
from fenko.core.keys import KERNEL_KEYS
from fenko.system.kernel import EVENT, KEY

PRESSES = 4000
KEYS = "abcdefghijklmnopqrstuvwxyz0123456789"
BARE = """
import os
os.write(1, b"r")
while True:
    os.write(1, os.read(0, 1536))
"""
FENKO = """
import os, sys
from pathlib import Path
from fenko.core.keys import KERNEL_KEYS
from fenko.desk.compiled import compiled
from fenko.desk.load import load_desk
from fenko.devices.events import EventReader, State
from fenko.live.loop import Loop
from fenko.live.session import Session
from fenko.outputs.kernel import KernelPort
from fenko.outputs.layout import us_layout

class Pipe:
    def __init__(self, fd):
        self.fd = fd

desk = compiled(load_desk(Path(sys.argv[1])))
os.set_blocking(0, False)
with Loop() as loop:
    output = KernelPort(us_layout("us"), print, lambda: (Pipe(1), Pipe(os.open(os.devnull, os.O_WRONLY))))
    session = Session(desk, loop, lambda open_now: [output], print)
    addresses = {(1, KERNEL_KEYS[key]): f"keys.{key}" for key in sys.argv[2]}
    reader = EventReader(0, addresses, {}, lambda: State(frozenset(), {}))

    def readable():
        changes = reader.changes(reader.read())
        if changes:
            session.inbox.put(changes)

    loop.add(0, readable)
    os.write(1, b"r")
    loop.run()
"""


def _start(*command: str) -> subprocess.Popen[bytes]:
    process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0)
    assert process.stdout is not None
    process.stdout.read(1)
    return process


def _latency(process: subprocess.Popen[bytes], raw: bytes) -> float:
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
        sides = [_start(sys.executable, "-c", BARE), _start(sys.executable, "-c", FENKO, name, KEYS)]
        times: list[list[float]] = [[], []]
        for number in range(PRESSES):
            # Each key in turn: by the time it comes again it has been up for long enough.
            value, code = 1 - number % 2, KERNEL_KEYS[KEYS[number // 2 % len(KEYS)]]
            for side in (0, 1):
                seconds, micros = divmod(round(time.monotonic() * 1e6), 1_000_000)
                raw = EVENT.pack(seconds, micros, KEY, code, value) + EVENT.pack(seconds, micros, 0, 0, 0)
                times[side].append(_latency(sides[side], raw))
        for process in sides:
            process.kill()
            process.communicate()
    bare, ours = ([statistics.median(side), statistics.quantiles(side, n=100)[98]] for side in times)
    median, late = (mine / theirs for mine, theirs in zip(ours, bare, strict=True))
    added = [(mine - theirs) * 1e6 for mine, theirs in zip(ours, bare, strict=True)]
    return [
        Row("the same through pipes, not emulated: what Fenko adds to a bare loop", f"{added[0]:.0f} µs (median; {median:.1f} × a pipe's own way)",
            "≤ 8 µs", added[0] <= 8),
        Row("the same, 99th percentile", f"{added[1]:.0f} µs ({late:.1f} ×)", "≤ 16 µs", added[1] <= 16),
    ]  # fmt: skip
