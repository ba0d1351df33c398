"""A desk that moves machines: over real lines, through its workers, whatever becomes of it."""

from __future__ import annotations

import json
import signal
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from ends import FarDesk, MakeFar, far
from support import FENKO, wait_for

__all__ = ["far"]

AXES = {"x": "0:300,3000,500", "y": "0:200,2400,300"}
DESK = """
[machine.rail]
link = "{link}"
dialect = "{dialect}"
step-sizes = [0.1, 1, 10]
[machine.rail.axis.x]
travel = [0, 300]
fastest = 3000
acceleration = 500
[machine.rail.axis.y]
travel = [0, 200]
fastest = 2400
acceleration = 300
[profile.base.on.pad]
stick-left = "machine jog xy rate 2400"
trigger-right = "machine jog rate 3000"
south = "machine jog x at 1800"
east = "machine jog y at -600"
north = "machine axis y"
west = "machine axis x"
hat.up = "machine step +1"
hat.down = "machine step -1"
hat.right = "machine step-size next"
hat.left = "machine step-size previous"
start = "machine stop"
select = "machine home"
stick-left-press = "machine unlock"
stick-right-press = "machine zero x"
shoulder-left = 'machine send "G0 X20 Y30\\nG1 X40 F1200"'
shoulder-right = "machine hold"
"shoulder-left+shoulder-right" = "machine resume"
"""


class Real:
    """`fenko machine simulate`, and what it did."""

    def __init__(self, folder: Path, *arguments: str, homed: bool = True) -> None:
        self._said = folder / f"said-{time.monotonic_ns()}"
        command = [*FENKO, "machine", "simulate", "--format", "json", *(("--homed",) if homed else ()), *arguments]
        for axis, limits in AXES.items():
            command += ["--axis", f"{axis}={limits}"]
        with self._said.open("wb") as out:
            self.process = subprocess.Popen(command, stdout=out, stderr=subprocess.DEVNULL)
        self.name: str = wait_for(lambda: self._said.read_text().partition("\n")[0], "its line")

    def end(self) -> dict[str, Any]:
        """Ends it; what it did."""
        self.process.send_signal(signal.SIGINT)
        assert self.process.wait(20) == 0
        found: dict[str, Any] = json.loads(self._said.read_text().partition("\n")[2])
        return found

    def close(self) -> None:
        """It is gone."""
        self.process.kill()
        self.process.wait()


class Rail:
    """A desk and its machine."""

    def __init__(self, desk: FarDesk, real: Real) -> None:
        self.desk = desk
        self.real = real

    @property
    def facts(self) -> dict[str, Any]:
        return self.desk.port.facts.get("machine", {}).get("rail", {})

    @property
    def x(self) -> float:
        return float(self.facts["machine"]["x"])

    @property
    def y(self) -> float:
        return float(self.facts["machine"]["y"])

    def comes_to(self, state: str) -> None:
        self.desk.until(lambda: self.facts.get("state") == state, f"it is not {state}: {self.facts}")

    def rests(self) -> None:
        """It has come to rest, wherever that is."""
        self.comes_to("idle")
        before = None
        while before != self.facts["machine"]:
            before = self.facts["machine"]
            self.desk.look(0.3)


@pytest.fixture(params=["grbl", "lines"])
def dialect(request: pytest.FixtureRequest) -> str:
    return str(request.param)


@pytest.fixture(params=["serial", "tcp"])
def line(request: pytest.FixtureRequest) -> str:
    return str(request.param)


@pytest.fixture
def rail(tmp_path: Path, far: MakeFar, line: str, dialect: str) -> Iterator[Rail]:
    real = Real(tmp_path, "--dialect", dialect, *(("--port", "0") if line == "tcp" else ()))
    desk = far(DESK.replace("{link}", real.name).replace("{dialect}", dialect))
    found = Rail(desk, real)
    found.comes_to("idle")
    yield found
    desk.close()
    real.close()


def test_hands_move_a_machine(rail: Rail) -> None:
    desk = rail.desk
    desk.press("south")
    desk.until(lambda: rail.x > 15, "it does not move")
    assert rail.facts["state"] == "jogging"
    desk.let_go("south")
    rail.rests()
    x = rail.x
    assert 15 < x < 60
    for _ in range(3):
        desk.tap("hat.up")
    rail.rests()
    assert rail.x == pytest.approx(x + 0.3, abs=0.011)
    desk.tap("hat.right")
    desk.tap("north")
    desk.tap("hat.up")
    rail.rests()
    assert (rail.x, rail.y) == (pytest.approx(x + 0.3, abs=0.011), pytest.approx(1.0, abs=0.011))
    assert rail.facts["axis"] == "y" and rail.facts["step-size"] == 1.0
