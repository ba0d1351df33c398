"""From a change that comes in to the key that a Wayland client sees: the whole way on sway without a screen, against a bare client
that reads the same bytes and sends the key by a virtual keyboard of its own; and how often Fenko wakes when nothing happens."""

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
from fenko.devices.capture import WaylandCapture

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from desktops import Sway, missing

PRESSES = 1000
REST = 10.0
"""Seconds of rest."""
KEY_A = 30  # the kernel's code of `a`
BARE = """
import os, struct, time
from fenko.system.wayland import Wayland, memory_with
from fenko.system.xkb import KeyboardMap
line = Wayland()
seat, keyboards = line.bind("wl_seat", 5), line.bind("zwp_virtual_keyboard_manager_v1", 1)
text = KeyboardMap.named("us", "").text + bytes(1)
keyboard = keyboards.tell("create_virtual_keyboard", seat)
keyboard.tell("keymap", 1, memory_with(text), len(text))
line.settle()
os.write(1, b"r")
while True:
    data = os.read(0, 1536)
    now = int(time.monotonic() * 1000) & 0xFFFFFFFF
    os.write(line.fd, struct.pack("=IIIII", keyboard.number, 20 << 16 | 1, now, 30, 1 if data[20] else 0))
"""
FENKO = """
import sys
from bench.child import serve
from fenko.outputs.wayland import WaylandPort
from fenko.system.wayland import Wayland

serve(sys.argv[1], {(1, 0x130): "pad.south"}, lambda: WaylandPort(print, Wayland()))
"""


class _Client(WaylandCapture):
    """A surface that has the keyboard, and says when a key has come."""

    def wait(self) -> None:
        while not any(key == "a" for _, key, _ in self.read()):
            select.select([self.fd], [], [], 5)


def measure() -> list[Row]:
    """Median and 99th percentile, press by press in turn; and wake-ups at rest."""
    what = "a change in → the key seen by a Wayland client"
    if lacks := missing("sway"):
        return [Row(what, f"needs {' '.join(lacks)}", "", False)]
    sway = Sway()
    sides: list[subprocess.Popen[bytes]] = []
    try:
        os.environ.update(sway.environment)
        client = _Client()
        with tempfile.TemporaryDirectory() as name:
            text = '[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = "a"\n'
            (Path(name) / "desk.toml").write_text(text)
            for code, more in ((BARE, []), (FENKO, [name])):
                command = [sys.executable, "-c", code, *more]
                process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0)
                assert process.stdout is not None
                process.stdout.read(1)
                sides.append(process)
            times = _times(sides, client)
            client.close()
            wakes = _wakes(Path(name))
    finally:
        for process in sides:
            process.kill()
            process.wait()
        sway.close()
    bare, ours = map(median_and_late, times)
    median, late = ours[0] / bare[0], ours[1] / bare[1]
    return [
        Row(f"{what}, median", f"{median:.2f} × ({ours[0] * 1e6:.0f} µs against {bare[0] * 1e6:.0f} µs)",
            "≤ 1.5 × a bare client that does only that", median <= 1.5),
        Row("the same, 99th percentile", f"{late:.2f} × ({ours[1] * 1e6:.0f} µs against {bare[1] * 1e6:.0f} µs)", "≤ 2 ×", late <= 2),
        Row(f"wake-ups in {REST:.0f} s of rest on sway", str(wakes), "0", wakes == 0),
    ]  # fmt: skip


def _times(sides: list[subprocess.Popen[bytes]], client: _Client) -> list[list[float]]:
    """Seconds of each press, by side. The keyboards take turns in blocks: a compositor tells clients of a keymap at each change."""
    times: list[list[float]] = [[], []]
    for _ in range(10):
        for side, process in enumerate(sides):
            for number in range(PRESSES // 10):
                for value in (1, 0):
                    raw = key_report(0x130, value)
                    assert process.stdin is not None
                    start = time.perf_counter()
                    os.write(process.stdin.fileno(), raw)
                    client.wait()
                    if number > 5 and value:
                        times[side].append(time.perf_counter() - start)
                time.sleep(0.0025)  # longer than a key has to stay up
    return times


def _wakes(desk: Path) -> int:
    """How often a running desk wakes while nothing happens."""
    with subprocess.Popen(
        [sys.executable, "-m", "fenko", "run", "--desk", str(desk)],
        stderr=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
    ) as process:
        time.sleep(4)
        before = _switches(process.pid)
        time.sleep(REST)
        found = _switches(process.pid) - before
        process.terminate()
    return found


def _switches(pid: int) -> int:
    text = Path(f"/proc/{pid}/status").read_text()
    return int(text.partition("\nvoluntary_ctxt_switches:")[2].split()[0])


if __name__ == "__main__":
    for row in measure():
        print(*row, sep="  |  ")
