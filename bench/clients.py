"""What those who follow a running desk cost its events: 20 of them, one of whom never reads."""

from __future__ import annotations

import os
import struct
import subprocess
import sys
import tempfile
import time
from contextlib import closing
from pathlib import Path

from bench.rows import Row, median_and_late
from fenko.desk.compiled import compiled
from fenko.desk.load import load_desk
from fenko.live.loop import Loop
from fenko.live.session import Session
from fenko.outputs.listing import ListingPort
from fenko.system.talking import Doorway

DESK = """
[surface.pad]
kind = "gamepad"
[value.zoom]
range = [0, 100000]
[profile.base.on.pad]
south = "a"
"""
HANDS = """
import struct, sys, time
for number in range(int(sys.argv[1])):
    time.sleep(0.003)
    sys.stdout.buffer.write(struct.pack("d", time.monotonic()))
    sys.stdout.buffer.flush()
"""
FOLLOWERS = """
import select, sys
from fenko.system.talking import Talk
talks = [Talk() for _ in range(20)]
for number, talk in enumerate(talks):
    talk.send(("values", "status")[number % 2], follow=True)
print("ready", flush=True)
lines = [talk._line for talk in talks[1:]]
while lines:
    for line in select.select(lines, [], [])[0]:
        if not line.recv(1 << 16):
            lines.remove(line)
"""
EVENTS = 2000


def _late(followers: bool) -> list[float]:
    """Seconds from a hand's moment to its key, for each of many presses."""
    found: list[float] = []
    with tempfile.TemporaryDirectory(prefix="fenko-") as name, Loop() as loop:
        os.environ["XDG_RUNTIME_DIR"] = name
        (Path(name) / "desk.toml").write_text(DESK)
        stamp = 0.0

        def show(effects: object) -> None:
            found.append(time.monotonic() - stamp)

        with closing(Doorway()) as door:
            desk = compiled(load_desk(Path(name)))
            session = Session(desk, loop, lambda desk, open_now: [ListingPort(show)], lambda line: None)
            session.listen(door)
            hands = subprocess.Popen([sys.executable, "-c", HANDS, str(EVENTS)], stdout=subprocess.PIPE)
            assert hands.stdout is not None
            number = 0

            def readable() -> None:
                nonlocal stamp, number
                data = os.read(hands.stdout.fileno(), 8)  # type: ignore[union-attr]
                if len(data) < 8:
                    loop.stop()
                    return
                (stamp,) = struct.unpack("d", data)
                number += 1
                session.inbox.put([(stamp, "pad.south", number % 2)])

            watchers = None
            if followers:
                watchers = subprocess.Popen([sys.executable, "-c", FOLLOWERS], stdout=subprocess.PIPE)
                assert watchers.stdout is not None
                loop.add(watchers.stdout.fileno(), lambda: loop.remove(watchers.stdout.fileno()))
            loop.add(hands.stdout.fileno(), readable)
            loop.run()
            session.close()
            hands.wait()
            if watchers is not None:
                watchers.kill()
                watchers.wait()
    return found


def measure() -> list[Row]:
    """One row, of runs that take turns, for machines that are not always equally fast."""
    runs = [(_late(False), _late(True)) for _ in range(3)]
    alone = median_and_late([late for one, _ in runs for late in one])
    beside = median_and_late([late for _, one in runs for late in one])
    ratio, late = beside[0] / alone[0], beside[1] / alone[1]
    return [
        Row("a press with 20 programs that follow the desk, one of which never reads, median", f"{ratio:.2f} × without them",
            "within 10 %", ratio <= 1.1),
        Row("the same, 99th percentile", f"{late:.2f} ×", "within 10 %", late <= 1.1),
    ]  # fmt: skip
