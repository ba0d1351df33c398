"""A desk that moves machines: over real lines, through its workers, whatever becomes of it."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from ends import FarDesk, MakeFar, far
from rails import Real
from screen import screen
from started import Started, run_fenko
from support import FENKO, wait_for
from terminal import Terminal

__all__ = ["far"]

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


class Rail:
    """A desk and its machine."""

    def __init__(self, desk: FarDesk, real: Real) -> None:
        self.desk = desk
        self.real = real

    @property
    def facts(self) -> dict[str, Any]:
        return self.desk.facts.get("machine", {}).get("rail", {})

    @property
    def x(self) -> float:
        return float(self.facts["machine"]["x"])

    @property
    def y(self) -> float:
        return float(self.facts["machine"]["y"])

    def comes_to(self, state: str) -> None:
        self.desk.until(lambda: self.facts.get("state") == state, f"it is not {state}: {self.facts}")

    def reaches(self, axis: str, place: float) -> None:
        """An axis comes to rest there."""
        there = pytest.approx(place, abs=0.011)
        self.desk.until(lambda: self.facts["machine"][axis] == there, f"{axis} does not reach {place}")
        self.rests()
        assert self.facts["machine"][axis] == there

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


def stands_still(rail: Rail, seconds: float = 0.6) -> None:
    """Nothing moves any more, for so long."""
    rail.desk.look(0.4)
    before = rail.facts["machine"]
    rail.desk.look(seconds)
    assert rail.facts["machine"] == pytest.approx(before, abs=0.02), rail.facts


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
        desk.look(0.1)
    rail.reaches("x", x + 0.3)
    desk.tap("hat.right")
    desk.tap("north")
    desk.tap("hat.up")
    rail.reaches("y", 1.0)
    assert rail.x == pytest.approx(x + 0.3, abs=0.011)
    assert rail.facts["axis"] == "y" and rail.facts["step-size"] == 1.0
    desk.feed(("pad.stick-left.x", 0.5), ("pad.stick-left.y", -0.25))  # up is more
    desk.until(lambda: rail.y > 8)
    desk.feed(("pad.stick-left.x", 0.0), ("pad.stick-left.y", 0.0))
    rail.rests()
    assert (rail.x - x - 0.3) / (rail.y - 1) == pytest.approx(2, abs=0.3)


def jogs(rail: Rail, hand: tuple[str, float]) -> None:
    """It has moved by 10 under a hand, which lets go and begins again where the line was lost meanwhile, as it may be on a
    computer that is too busy."""
    x, known = rail.x, len(rail.desk.notes)
    rail.desk.feed(hand)

    def moved() -> bool:
        nonlocal known
        if any("does not answer" in note for note in rail.desk.notes[known:]):
            known = len(rail.desk.notes)
            rail.comes_to("idle")
            rail.desk.feed((hand[0], 0))
            rail.desk.feed(hand)
        return rail.x > x + 10

    rail.desk.until(moved, "it does not move")


@pytest.mark.parametrize("how", ["unplug", "pause", "lock", "profile", "focus", "alone"])
def test_what_ends_a_jog(tmp_path: Path, far: MakeFar, how: str) -> None:
    """And that a hand which holds on after it has to let go first."""
    real = Real(tmp_path)
    text = DESK.replace("{link}", real.name).replace("{dialect}", "grbl") + (
        '[profile.frames]\nwhen = { app = "snipwell" }\n[profile.frames.on.pad]\neast = "f1"\n'
    )
    desk = far(text.replace("step-sizes", "stop-with-focus = true\nstep-sizes"))
    rail = Rail(desk, real)
    rail.comes_to("idle")
    desk.front("hushdesk")
    for hand in (("pad.south", 1), ("pad.trigger-right", 0.6)):
        jogs(rail, hand)
        match how:
            case "unplug":
                desk.unplug()
            case "pause":
                desk.pause()
            case "lock":
                desk.lock()
            case "profile":
                desk.front("snipwell")
            case "focus":
                desk.front("beamcart" if hand[0] == "pad.south" else "railmoth")
            case "alone":
                time.sleep(1.5)  # nothing of the desk goes on meanwhile
        stands_still(rail)
        x = rail.x
        if how not in ("unplug", "alone"):
            desk.feed((hand[0], hand[1] * 0.9 if isinstance(hand[1], float) else 1))
        stands_still(rail)
        assert rail.x == pytest.approx(x, abs=0.02)
        if how == "profile":
            desk.front("hushdesk")
        desk.feed((hand[0], 0))
        rail.rests()
    assert rail.real.end()["fastest"] <= 3000


@pytest.mark.parametrize("dialect", ["grbl"], indirect=True)
def test_a_machine_that_goes_away_and_comes_back(rail: Rail, tmp_path: Path, line: str) -> None:
    desk = rail.desk
    desk.press("south")
    desk.until(lambda: rail.x > 10)
    where = rail.real.name
    rail.real.close()
    rail.comes_to("away")
    desk.said("rail is gone" if line == "serial" else "rail")
    assert rail.facts["machine"] == {}
    desk.tap("hat.up")
    desk.look(0.3)
    if line == "serial":
        return  # a new terminal has another name
    rail.real = Real(tmp_path, "--port", where.rpartition(":")[2])
    rail.comes_to("idle")
    stands_still(rail, 1.0)
    assert rail.x == 0.0, "nothing of what was asked for meanwhile is done"
    desk.let_go("south")
    desk.press("south")
    desk.until(lambda: rail.x > 5, "it moves again")
    desk.let_go("south")
    rail.rests()


@pytest.mark.parametrize("dialect", ["grbl"], indirect=True)
@pytest.mark.parametrize("line", ["tcp"], indirect=True)
def test_workers_that_are_killed_move_nothing(rail: Rail) -> None:
    desk = rail.desk
    desk.tap("north")
    desk.feed(("pad.trigger-right", 0.5))
    desk.until(lambda: rail.y > 10)
    os.kill(desk.workers, signal.SIGKILL)
    desk.look(1.5)
    rail.comes_to("idle")
    y = rail.y
    desk.feed(("pad.trigger-right", 0.6))
    stands_still(rail)
    assert rail.y == pytest.approx(y, abs=0.02) and y < 60 and rail.facts["axis"] == "y"
    desk.feed(("pad.trigger-right", 0.0))
    desk.feed(("pad.trigger-right", 0.6))
    desk.until(lambda: rail.y > y + 5)
    desk.feed(("pad.trigger-right", 0.0))
    rail.rests()


@pytest.mark.parametrize("line", ["serial"], indirect=True)
def test_lines_are_carried_out_held_and_stopped(rail: Rail, dialect: str) -> None:
    desk = rail.desk
    desk.tap("shoulder-left")  # G0 X20 Y30, G1 X40 F1200
    rail.comes_to("running")
    desk.press("south")
    desk.said("it is not jogged: it is busy (send)")
    desk.let_go("south")
    rail.reaches("x", 40.0)
    rail.reaches("y", 30.0)
    desk.tap("stick-right-press")
    rail.rests()
    desk.until(lambda: rail.facts["work"]["x"] == 0.0)
    assert rail.x == pytest.approx(40, abs=0.01)
    desk.tap("shoulder-left")
    desk.until(lambda: rail.facts["state"] == "running")
    if dialect == "grbl":
        desk.tap("shoulder-right")
        rail.comes_to("held")
        stands_still(rail)
        held = rail.x
        desk.press("shoulder-left")
        desk.press("shoulder-right")
        desk.let_go("shoulder-left")
        desk.let_go("shoulder-right")
        rail.comes_to("running")
        desk.until(lambda: rail.x != held)
    desk.tap("start")
    rail.rests()
    x = rail.x
    stands_still(rail, 1.0)
    assert rail.x == pytest.approx(x, abs=0.02) and x < 79, "the rest of it does not come"
    assert rail.facts["state"] == "idle", "and its place is not lost"
    desk.tap("hat.up")
    rail.reaches("x", x + 0.1)


def test_alarms_and_homing(tmp_path: Path, far: MakeFar) -> None:
    real = Real(tmp_path, "--fault", "alarm@12", homed=False)
    text = DESK.replace("{link}", real.name).replace("{dialect}", "grbl") + (
        '[profile.stuck]\nwhen = { machine = "rail alarm" }\n[profile.stuck.on.pad]\neast = "f1"\n'
    )
    desk = far(text)
    rail = Rail(desk, real)
    rail.comes_to("alarm")
    desk.until(lambda: desk.engine.profile.name == "stuck")
    desk.tap("hat.up")
    desk.said("step is not done: it is in alarm (it waits to be homed or unlocked)")
    desk.tap("select")
    rail.comes_to("idle")
    assert desk.engine.profile.name == "base" and rail.x == 0.0
    desk.press("south")
    rail.comes_to("alarm")
    assert rail.facts["said"] == "ALARM:1"
    desk.let_go("south")
    x = rail.x if rail.facts["machine"] else 0.0
    desk.tap("hat.up")
    desk.look(0.5)
    desk.tap("stick-left-press")
    rail.comes_to("idle")
    assert rail.x == pytest.approx(x, abs=2)
    desk.tap("hat.up")
    rail.rests()
    assert real.end()["state"] == "Idle"


def test_nobody_has_agreed(tmp_path: Path, far: MakeFar) -> None:
    real = Real(tmp_path)
    desk = far(DESK.replace("{link}", real.name).replace("{dialect}", "grbl"), agreed=False)
    rail = Rail(desk, real)
    rail.comes_to("idle")
    desk.tap("shoulder-left")
    desk.said(
        f"not done, for nobody has agreed to it: has the machine rail ({real.name}) carry out: G0 X20 Y30; G1 X40"
    )
    for control in ("south", "hat.up", "select"):
        desk.tap(control)
    desk.said(f"not done, for nobody has agreed to it: moves the machine rail ({real.name})")
    desk.tap("north")
    desk.until(lambda: rail.facts["axis"] == "y")
    assert real.end()["way"] == 0


# --- Fenko itself, as a person runs it ---

HANDS = [(4.0, "south", 1), (600.0, "south", 0)]  # by then the machine has answered, on any computer


@pytest.fixture
def running(tmp_path: Path) -> Iterator[tuple[Real, subprocess.Popen[bytes], dict[str, str]]]:
    """`fenko run` on a screen, whose hands hold a jog until they are ended, and its machine."""
    if shutil.which("Xvfb") is None:
        pytest.skip("needs Xvfb: run tools/needs tests")
    real = Real(tmp_path, "--port", "0")
    folder = tmp_path / "desk"
    folder.mkdir()
    (folder / "desk.toml").write_text(
        'format = 1\n[surface.pad]\nkind = "gamepad"\n' + DESK.replace("{link}", real.name).replace("{dialect}", "grbl")
    )
    lines: list[object] = [{"take": 1, "name": "t", "surfaces": {"pad": "gamepad"}}]
    lines += [{"t": t, "surface": "pad", "control": control, "value": value} for t, control, value in HANDS]
    (tmp_path / "take.jsonl").write_text("\n".join(map(json.dumps, lines)) + "\n")
    with screen() as one:
        environment = one.environment | {
            "XDG_RUNTIME_DIR": os.environ["XDG_RUNTIME_DIR"],
            "XDG_STATE_HOME": str(tmp_path / "state"),
        }
        run_fenko("trust", "--yes", "--desk", str(folder), env=environment, check=True)
        process = Started(
            ["run", "--desk", str(folder), "--play", str(tmp_path / "take.jsonl")], tmp_path / "log", env=environment
        )
        yield real, process, environment
        with contextlib.suppress(ProcessLookupError):
            process.send_signal(signal.SIGCONT)
        process.kill()
        process.wait()
        real.close()


def told(environment: dict[str, str], *arguments: str) -> Any:
    """What a command says, as data."""
    done = run_fenko(*arguments, "--format", "json", env=environment)
    return json.loads(done.stdout) if done.returncode == 0 else None


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGSTOP, signal.SIGINT])
def test_a_desk_that_dies_moves_nothing(
    running: tuple[Real, subprocess.Popen[bytes], dict[str, str]], how: signal.Signals
) -> None:
    real, process, environment = running
    wait_for(
        lambda: (
            (
                (told(environment, "values") or {}).get("outputs", {}).get("machine", {}).get("rail", {}).get("machine")
                or {"x": 0}
            )["x"]
            > 20
        ),
        "it moves",
    )
    process.send_signal(how)
    time.sleep(2.0)
    done = real.end()
    # How exactly it ends is measured by `bench/machine.py`; that it ends, and before long, is shown here on any computer.
    assert done["state"] == "Idle" and done["seconds"] - done["rested"] > 1.2, done
    assert 20 < done["position"]["x"] < 250 and done["fastest"] <= 1810


def test_machines_are_listed_and_followed(
    running: tuple[Real, subprocess.Popen[bytes], dict[str, str]], tmp_path: Path
) -> None:
    real, process, environment = running
    desk = ("--desk", str(tmp_path / "desk"))
    listed = wait_for(
        lambda: (found := told(environment, "machine", *desk)) and found["rail"].get("state") == "jogging" and found,
        "it is seen",
    )
    assert listed["rail"]["link"] == real.name and listed["rail"]["axes"]["y"]["travel"] == [0, 200]
    table = run_fenko("machine", *desk, env=environment).stdout
    assert "x 0 to 300 mm, y 0 to 200 mm" in table and "jogging" in table
    watch = subprocess.Popen([*FENKO, "machine", "watch"], env=environment, stdout=subprocess.PIPE, text=True)
    assert watch.stdout is not None
    line = watch.stdout.readline()
    assert line.startswith("rail  ") and "axis x, step 0.1" in line, line
    watch.send_signal(signal.SIGINT)
    assert watch.wait(10) == 0
    values = run_fenko("values", env=environment).stdout
    assert "machine rail" in values and "jogging" in values
    wrong = run_fenko("machine", "watch", "rial", env=environment, timeout=20)
    assert (wrong.returncode, "rail" in wrong.stderr) == (2, True)
    process.send_signal(signal.SIGINT)
    process.wait(10)
    gone = run_fenko("machine", *desk, env=environment)
    assert gone.returncode == 0 and "does not run" in gone.stdout


def test_a_readout_on_a_terminal(running: tuple[Real, subprocess.Popen[bytes], dict[str, str]]) -> None:
    """It follows what moves, waits for a desk that comes again, and ends with q."""
    _, process, _ = running
    shown = Terminal("machine", "watch", columns=110)
    shown.shows("jogging")
    shown.shows("█")
    process.send_signal(signal.SIGINT)
    process.wait(10)
    shown.shows("no desk is running")
    shown.type(b"q")
    assert shown.end() == 0
