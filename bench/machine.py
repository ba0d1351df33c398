"""How soon a machine stands still after whatever ends a jog, over real lines: `python -m bench.machine` prints the table.

The machine is simulated, in a process of its own, and notes at which moment it moved (CLOCK_MONOTONIC, the same for all
processes). The desk is a whole running one, with its loop, engine and workers; hands come to it through a pipe."""

from __future__ import annotations

import json
import os
import select
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from bench.rows import Row
from fenko.core.changes import UNPLUG
from fenko.desk.compiled import compiled
from fenko.desk.load import load_desk
from fenko.integrations import load
from fenko.integrations.machine.planner import AxisLimits
from fenko.integrations.machine.serving import End
from fenko.integrations.machine.simulated import SimulatedMachine
from fenko.live.loop import Loop
from fenko.live.session import Session
from fenko.outputs.port import Settings
from fenko.outputs.workers_port import WorkersPort

SPEED, ACCELERATION = 40.0, 1000.0  # mm a second, mm/s²
BRAKING = SPEED / ACCELERATION
AXES = {"x": AxisLimits(0, 100_000, 60, ACCELERATION)}
DESK = f"""
[surface.wheel]
kind = "ring-and-dial"
[machine.rail]
link = "{{link}}"
dialect = "{{dialect}}"
[machine.rail.axis.x]
travel = [0, 100000]
fastest = 3600
acceleration = {ACCELERATION}
[profile.base.on.wheel]
ring = "machine jog x rate {SPEED * 60}"
"""
CAUSES = ("rest", "unplug", "SIGSTOP", "nothing arrives", "SIGKILL", "SIGKILL, workers too")
BUSY = 0.6
"""Seconds that it is jogged before."""


def serve(kind: str, dialect: str) -> None:
    """The machine's process: commands come in lines on stdin, what it did goes out at its end."""
    machine = SimulatedMachine(AXES, dialect, homing=False)
    end = End(0 if kind == "tcp" else None)
    print(end.name, flush=True)
    deaf = 0.0
    moved: list[tuple[float, float, float]] = []
    began = time.monotonic()
    os.set_blocking(0, False)
    while True:
        now = time.monotonic()
        machine.advance(now - began)
        if machine.planner.speed > 0.01 or (moved and moved[-1][1]):
            moved.append((now, machine.planner.speed, machine.planner.position["x"]))
        if answers := machine.answers():
            end.send(answers)
        data = end.wait(0.001 if machine.planner.blocks else 0.01)
        if data and now > deaf:
            machine.take(data)
        if select.select([0], [], [], 0)[0]:
            said = os.read(0, 100).decode()
            if not said:
                break
            deaf = time.monotonic() + 0.6
    print(json.dumps(moved), flush=True)


def run_desk(folder: str) -> None:
    """The desk's process: hands come in lines on stdin."""
    load()
    desk = compiled(load_desk(Path(folder)))
    with Loop() as loop:
        ports = [WorkersPort(desk.far, Settings(desk.tables, lambda text: None, None, desk.folder))]
        session = Session(desk, loop, lambda desk, open_now: list(ports) if not open_now else [], lambda text: None)

        def hands() -> None:
            for line in os.read(0, 100).decode().split():
                change: tuple[str, Any] = (UNPLUG, "wheel") if line == "u" else ("wheel.ring", float(line))
                session.inbox.put([(time.monotonic(), *change)])

        loop.add(0, hands)
        print(ports[0].child.pid, flush=True)
        loop.run()


def _start(*arguments: str) -> subprocess.Popen[bytes]:
    command = [sys.executable, "-m", "bench.machine", *arguments]
    return subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0, start_new_session=True)


def _line(process: subprocess.Popen[bytes]) -> str:
    assert process.stdout is not None
    return process.stdout.readline().decode().strip()


def _say(process: subprocess.Popen[bytes], text: str) -> None:
    assert process.stdin is not None
    process.stdin.write(f"{text}\n".encode())


class Trials:
    """Stops of one cause, over one line, in one dialect."""

    def __init__(self, kind: str, dialect: str, folder: Path) -> None:
        self._machine = _start("serve", kind, dialect)
        link = _line(self._machine)
        (folder / "desk.toml").write_text("format = 1\n" + DESK.format(link=link, dialect=dialect))
        self._folder = folder
        self._desk: subprocess.Popen[bytes] | None = None
        self._workers = 0
        self.ended: dict[str, list[float]] = {}

    def _running(self) -> subprocess.Popen[bytes]:
        if self._desk is None:
            self._desk = _start("desk", str(self._folder))
            self._workers = int(_line(self._desk))
            time.sleep(1.2)
        return self._desk

    def stop(self, cause: str) -> None:
        """One stop."""
        desk = self._running()
        _say(desk, "1.0")
        time.sleep(BUSY + len(self.ended.get(cause, ())) % 10 * 0.0023)  # at any moment between two pieces
        at = time.monotonic()
        match cause:
            case "rest":
                _say(desk, "0")
            case "unplug":
                _say(desk, "u")
            case "SIGSTOP":
                os.kill(desk.pid, signal.SIGSTOP)
            case "nothing arrives":
                _say(self._machine, "deaf")
            case _:
                os.kill(desk.pid, signal.SIGKILL)
                if cause != "SIGKILL":
                    os.kill(self._workers, signal.SIGKILL)
        self.ended.setdefault(cause, []).append(at)
        time.sleep(0.5)
        if cause == "SIGSTOP":
            os.kill(desk.pid, signal.SIGCONT)
        if cause.startswith("SIGKILL"):
            desk.communicate()
            self._desk = None
            time.sleep(0.3)
        else:
            _say(desk, "0")
            time.sleep(1.6 if cause == "nothing arrives" else 0.1)

    def close(self) -> list[tuple[str, float, float]]:
        """Ends it: of each stop the cause, the seconds until it stood still, and how far it went meanwhile."""
        if self._desk is not None:
            self._desk.kill()
            self._desk.communicate()
        out, _ = self._machine.communicate()
        moved = json.loads(out)
        found = []
        for cause, times in self.ended.items():
            for at in times:
                if not any(at - 0.05 < then <= at and speed > SPEED / 2 for then, speed, _ in moved):
                    continue  # it did not move yet, on a computer that was busy
                there = [x for then, _, x in moved if then <= at]
                after = [(then, x) for then, speed, x in moved if at < then < at + 0.5 and speed > 0.01]
                last = after[-1] if after else (at, there[-1])
                found.append((cause, last[0] - at, last[1] - there[-1]))
        return found


def stops(
    kind: str, dialect: str, often: int, causes: tuple[str, ...] = CAUSES
) -> dict[str, list[tuple[float, float]]]:
    """By cause: seconds and millimetres of each stop."""
    found: dict[str, list[tuple[float, float]]] = {}
    with tempfile.TemporaryDirectory(prefix="fenko-") as name:
        trials = Trials(kind, dialect, Path(name))
        for cause in causes:
            for _ in range(often):
                trials.stop(cause)
        for cause, seconds, way in trials.close():
            found.setdefault(cause, []).append((seconds, way))
    return found


def measure() -> list[Row]:
    """The slowest of all causes, over TCP."""
    found = stops("tcp", "grbl", 12)
    worst = max(seconds for several in found.values() for seconds, _ in several)
    median = max(statistics.median(seconds for seconds, _ in several) for several in found.values())
    return [
        Row("whatever ends a jog → the machine stands still, less its braking", f"{(worst - BRAKING) * 1000:.0f} ms at most, "
            f"{(median - BRAKING) * 1000:.0f} ms the slowest median", "≤ 100 ms", worst - BRAKING <= 0.1),
    ]  # fmt: skip


def main(often: int) -> None:
    """The whole table."""
    print("| ends by | line | dialect | stands still after, median | 99th | most | way, most |")
    print("| --- | --- | --- | --- | --- | --- | --- |")
    for kind in ("serial", "tcp"):
        for dialect in ("grbl", "lines"):
            for cause, several in stops(kind, dialect, often).items():
                times = sorted(seconds * 1000 for seconds, _ in several)
                late = statistics.quantiles(times, n=100, method="inclusive")[98]
                print(
                    f"| {cause} | {kind} | {dialect} | {statistics.median(times):.0f} ms | {late:.0f} ms | {times[-1]:.0f} ms | {max(way for _, way in several):.1f} mm |",
                    flush=True,
                )


if __name__ == "__main__":
    match sys.argv[1:]:
        case ["serve", kind, dialect]:
            serve(kind, dialect)
        case ["desk", folder]:
            run_desk(folder)
        case [often]:
            main(int(often))
        case _:
            main(40)
