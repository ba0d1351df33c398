"""The kernel path against a bare read-write loop. Runs inside the kernel lab and prints JSON."""

from __future__ import annotations

import json
import os
import select
import signal
import statistics
import struct
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from evdev import InputDevice, UInput, ecodes, list_devices

EVENT = struct.Struct("@llHHi")
PRESSES = 400
REPORTS = 16_000
RATE = 8_000
REST = 5.0  # s
LIBRARIES = "import evdev, msgspec, click, time; print('ready', flush=True); time.sleep(60)"
DESK = """
[output]
keys = "kernel"
layout = "us"
[surface.pad]
kind = "gamepad"
links = ["usb 1209:4d50"]
[surface.mouse]
kind = "mouse"
links = ["usb 1209:4d12"]
[profile.base.on.pad]
south = "a"
"""
BARE = """
import os, sys
from evdev import InputDevice, UInput, ecodes
source = InputDevice(sys.argv[1]); source.grab()
out = UInput({ecodes.EV_KEY: [ecodes.KEY_A, ecodes.BTN_LEFT], ecodes.EV_REL: [0, 1]}, name=sys.argv[2])
os.set_blocking(source.fd, True)
print("ready", flush=True)
read, write, a, b = os.read, os.write, source.fd, out.fd
while True:
    write(b, read(a, 1536))
"""


def _node(name: str) -> InputDevice:
    while True:
        for path in list_devices():
            device = InputDevice(path)
            if device.name == name:
                return device
            device.close()
        time.sleep(0.1)


def _source(name: str, product: int, keys: list[int], moves: list[int]) -> UInput:
    events = {ecodes.EV_KEY: keys} | ({ecodes.EV_REL: moves} if moves else {})
    return UInput(events, name=name, vendor=0x1209, product=product, bustype=ecodes.BUS_USB)


def _start(command: list[str], ready: str) -> subprocess.Popen[str]:
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    assert process.stdout is not None
    for line in process.stdout:
        if ready in line:
            return process
    raise SystemExit(f"{command} did not start")


def _latency(source: UInput, out: InputDevice, code: int, value: int) -> float:
    raw = EVENT.pack(0, 0, ecodes.EV_KEY, code, value) + EVENT.pack(0, 0, 0, 0, 0)
    start = time.perf_counter()
    os.write(source.fd, raw)
    select.select([out.fd], [], [])  # and not in a loop of reads: there is one processor for all
    os.read(out.fd, 1536)
    return time.perf_counter() - start


def _cpu(pid: int) -> float:
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def _status(pid: int, field: str) -> int:
    text = Path(f"/proc/{pid}/status").read_text()
    return int(next(line for line in text.splitlines() if line.startswith(f"{field}:")).split()[1])


def _wakeups(pid: int) -> int:
    """How often the process wakes up while nothing happens, ten seconds after its start."""
    time.sleep(10)
    before = _status(pid, "voluntary_ctxt_switches")
    time.sleep(REST)
    return _status(pid, "voluntary_ctxt_switches") - before


def _mouse(source: UInput, out: InputDevice, pid: int) -> dict[str, float]:
    """Sends reports at the wanted rate, or as fast as this machine can, and counts what arrives."""
    report = EVENT.pack(0, 0, 2, 0, 1) + EVENT.pack(0, 0, 2, 1, 1) + EVENT.pack(0, 0, 0, 0, 0)
    sent = arrived = 0
    before, start = _cpu(pid), time.perf_counter()
    end = start + 60
    while arrived < REPORTS and time.perf_counter() < end:
        due = min(REPORTS, int((time.perf_counter() - start) * RATE))
        if due > sent:
            # Like a mouse whose reports come one by one, but never so far ahead that this reader would lose any.
            count = min(due - sent, 4, max(0, 16 - (sent - arrived)))
            for _ in range(count):
                os.write(source.fd, report)
            sent += count
            sending = time.perf_counter() - start
        if select.select([out.fd], [], [], 0 if sent < due else 1 / RATE)[0]:
            arrived += sum(
                1
                for _, _, kind, code, value in EVENT.iter_unpack(os.read(out.fd, 1536))
                if kind == 2 and code == 0
                for _ in range(value)
            )
    return {"sent": sent, "arrived": arrived, "rate": sent / sending, "cpu": (_cpu(pid) - before) / max(1, arrived)}


def main() -> None:
    """Measures both sides in turn."""
    python = sys.executable
    pads = [_source("bare pad", 1, [ecodes.KEY_A], []), _source("Thistle pad", 0x4D50, [ecodes.BTN_SOUTH], [])]
    mice = [_source("bare mouse", 2, [ecodes.BTN_LEFT], [0, 1]), _source("Burr 12", 0x4D12, [ecodes.BTN_LEFT], [0, 1])]
    folder = Path(tempfile.mkdtemp())
    (folder / "desk.toml").write_text(DESK)
    bare = [
        _start([python, "-c", BARE, _node(f"bare {what}").path, f"out {what}"], "ready") for what in ("pad", "mouse")
    ]
    fenko = _start([python, "-m", "fenko", "run", "--desk", str(folder)], "is running")
    outs = [_node("out pad"), _node("Fenko keys")]
    codes = [ecodes.KEY_A, ecodes.BTN_SOUTH]
    rest = {"wakeups": _wakeups(fenko.pid), "seconds": REST}
    times: list[list[float]] = [[], []]
    for number in range(PRESSES):
        for side in (0, 1):
            times[side].append(_latency(pads[side], outs[side], codes[side], 1 - number % 2))
    for side in times:
        del side[: PRESSES // 10]  # the first ones warm the caches
    medians = [statistics.median(side) for side in times]
    late = [statistics.quantiles(side, n=100)[98] for side in times]
    pids = [bare[1].pid, fenko.pid]
    mouse = [_mouse(mice[side], _node(name), pids[side]) for side, name in ((0, "out mouse"), (1, "Fenko pointer"))]
    libraries = _start([python, "-c", LIBRARIES], "ready")
    memory = [_status(pid, "VmRSS") for pid in (fenko.pid, libraries.pid)]
    bare.append(libraries)
    print(json.dumps({"median": medians, "p99": late, "mouse": mouse, "rest": rest, "memory": memory}))
    for process in (*bare, fenko):
        process.send_signal(signal.SIGKILL)


if __name__ == "__main__":
    main()
