"""A desk that runs and can be asked: values, a setting that is tried, and clients that behave badly."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from fenko.client import NobodyThere, Refused, RunningDesk
from fenko.live.loop import Loop
from fenko.system.talking import private_folder
from running import Running
from screen import Screen, needs_screen, screen
from started import run_fenko
from support import DEMO, FENKO, MakeDesk, wait_for

pytestmark = needs_screen

DESK = """# A desk.
[output]
keys = "x11"
[surface.pad]
kind = "gamepad"
[surface.pad.control.stick-left]
dead-zone = 0.1 # by hand
show = [-1200, 1200]
[value.lamp]
start = 40
keep = true
[value.zoom]
range = [0, 10]
[profile.base.on.pad]
stick-left = "pointer 30"
stick-right.x = "value lamp rate 20"
east = "value zoom to 4"
"""
TAKE: list[tuple[float, str, float]] = [
    (0.3, "stick-left.x", 0.55),
    (0.5, "stick-right.x", 1.0),
    (1.5, "stick-right.x", 0.0),
    (1.6, "east", 1),
    # On a machine that is slow the pointer comes to the edge of the screen, and moves on along it.
    *((15.0 * number, "stick-left.y", (0.3, -0.3)[number % 2]) for number in range(1, 40)),
    (600.0, "stick-left.x", 0),
]


class Bench:
    """A desk that runs on a screen, in a runtime folder of its own."""

    def __init__(self, one: Screen, folder: Path, desk: Path) -> None:
        self.screen, self.folder, self.desk = one, folder, desk
        (folder / "run").mkdir(mode=0o700)
        self.environment = one.environment | {
            "XDG_RUNTIME_DIR": str(folder / "run"),
            "XDG_STATE_HOME": str(folder / "state"),
        }
        self.take = folder / "take.jsonl"
        self.plays(TAKE)

    def plays(self, moves: list[tuple[float, str, float]]) -> None:
        """The take that a desk plays."""
        lines: list[object] = [{"take": 1, "name": "t", "surfaces": {"pad": "gamepad"}}]
        lines += [{"t": t, "surface": "pad", "control": control, "value": value} for t, control, value in moves]
        self.take.write_text("\n".join(map(json.dumps, lines)) + "\n")

    def start(self, *more: str) -> Running:
        """Runs the desk."""
        one = Running(self.screen, self.folder / f"log-{time.monotonic_ns()}", "--desk", str(self.desk), *more)
        one.says("is running")
        return one

    def fenko(self, *arguments: str) -> subprocess.CompletedProcess[str]:
        """Another command of the same person."""
        return run_fenko(*arguments, env=self.environment, timeout=60)

    def state(self) -> dict[str, dict[str, dict[str, object]]]:
        done = self.fenko("values", "--format", "json")
        assert done.returncode == 0, done.stderr
        found: dict[str, dict[str, dict[str, object]]] = json.loads(done.stdout)
        return found

    def socket(self) -> socket.socket:
        line = socket.socket(socket.AF_UNIX)
        line.settimeout(20)
        line.connect(str(self.folder / "run/fenko/desk"))
        return line


@pytest.fixture
def bench(tmp_path: Path, make_desk: MakeDesk, monkeypatch: pytest.MonkeyPatch) -> Iterator[Bench]:
    with screen() as one:
        one.manage()
        made = Bench(one, tmp_path, make_desk(DESK))
        for name in ("XDG_RUNTIME_DIR", "XDG_STATE_HOME"):
            monkeypatch.setenv(name, made.environment[name])  # for what the screen starts
        yield made


def test_values_and_controls_are_printed_and_kept(bench: Bench) -> None:
    run = bench.start("--play", str(bench.take))
    wait_for(lambda: bench.state()["values"]["zoom"]["value"] == 4, "the last change of the take")
    state = bench.state()
    assert state["values"]["lamp"]["value"] == pytest.approx(60, abs=0.1)
    assert state["controls"]["pad.stick-left.x"] == {"at": 0.55, "shows": 660, "percent": 55, "direction": "right"}
    assert state["controls"]["pad.east"] == {"pressed": True}
    table = bench.fenko("values").stdout
    assert "lamp   60  0 to 100" in table
    assert ["pad.stick-left.x", "55%", "660"] in [line.split() for line in table.splitlines()]
    assert run.end() == 0
    assert bench.fenko("values").returncode == 1
    bench.start()
    values = bench.state()["values"]
    assert values["lamp"]["value"] == pytest.approx(60, abs=0.1)
    assert values["zoom"]["value"] == 0


def test_what_changes_is_followed(bench: Bench) -> None:
    # Long enough that also a slow client comes while the lamp is on its way.
    bench.plays([(0.5, "stick-right.x", 0.2), (10.0, "stick-right.x", 0.0), (10.1, "east", 1), (600, "west", 1)])
    bench.start("--play", str(bench.take))
    process = subprocess.Popen([*FENKO, "values", "--follow"], env=bench.environment, stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    told: list[str] = []
    while "zoom = 4" not in told:
        line = process.stdout.readline()
        assert line, f"the end of what is told: {told[-5:]}"
        told.append(line.strip())
    lamps = [line for line in told if line.startswith("lamp = ")]
    assert 10 < len(lamps) <= 33 * 11  # 33 a second at most, and not each tick
    process.send_signal(signal.SIGINT)
    assert process.wait(20) == 0


def test_a_setting_is_tried_and_taken_back(bench: Bench) -> None:
    """By itself, and when whoever tried it goes away."""
    run = bench.start("--play", str(bench.take))
    before = bench.desk.joinpath("desk.toml").read_text()
    setting = "surface.pad.control.stick-left.dead-zone"

    def place() -> str:
        return bench.screen.ask("xdotool", "getmouselocation").stdout

    def moves() -> bool:
        before = place()
        time.sleep(0.4)
        return place() != before

    wait_for(moves, "the pointer on its way")
    done = bench.fenko("set", setting, "0.7", "--for", "1s")
    assert "is what it was" in done.stderr
    run.says("what was tried is taken back")
    wait_for(moves, "the pointer on its way again")
    process = subprocess.Popen(
        [*FENKO, "set", setting, "0.7", "--for", "60s"], env=bench.environment, stderr=subprocess.PIPE, text=True
    )
    assert process.stderr is not None
    assert "Enter keeps it" in process.stderr.readline()
    assert not moves()
    process.kill()
    process.wait()
    wait_for(moves, "the pointer on its way, for nobody keeps what was tried")
    assert bench.desk.joinpath("desk.toml").read_text() == before


def test_a_setting_that_is_kept_is_written(bench: Bench) -> None:
    bench.start("--play", str(bench.take))
    done = bench.fenko("set", "surface.pad.control.stick-left.dead-zone", "0.2", "--keep")
    assert done.returncode == 0, done.stderr
    assert bench.desk.joinpath("desk.toml").read_text() == DESK.replace("0.1 # by hand", "0.2 # by hand")
    done = bench.fenko("set", "surface.pad.control.stick-left.smooth", "8ms", "--keep")
    assert 'smooth = "8ms"' in bench.desk.joinpath("desk.toml").read_text()


@pytest.mark.parametrize(
    ("arguments", "status", "message"),
    [
        (("surface.pad.control.stick-left.dead-zon", "0.2"), 2, "did you mean `dead-zone`?"),
        (("surface.pad.control.stick-left.dead-zone", "2"), 2, "out of range"),
        (("surface.pad.control.stick-left.dead-zone", "0.2", "--for", "soon"), 2, "soon"),
        (("surface.pad.control.stick-left.dead-zone", "0.2", "--for", "10ms"), 2, "1 to 3600 seconds"),
    ],
)
def test_what_cannot_be_tried_changes_nothing(
    bench: Bench, arguments: tuple[str, ...], status: int, message: str
) -> None:
    bench.start()
    done = bench.fenko("set", *arguments)
    assert (done.returncode, message in done.stderr) == (status, True), done.stderr
    assert bench.state()


def test_a_control_keeps_what_is_tried(bench: Bench) -> None:
    """Pressed anew: one that is down already keeps nothing."""
    lines = bench.take.read_text().splitlines()
    moves = ((0.4, 1), (12.0, 0), (13.0, 1))
    more = [{"t": t, "surface": "pad", "control": "west", "value": value} for t, value in moves]
    played = sorted([*map(json.loads, lines[1:]), *more], key=lambda one: one["t"])
    bench.take.write_text("\n".join([lines[0], *map(json.dumps, played)]) + "\n")
    bench.start("--play", str(bench.take))
    wait_for(lambda: "pad.west" in bench.state()["controls"], "west")
    began = time.monotonic()
    done = bench.fenko("set", "timing.hold", "300ms", "--for", "60s", "--confirm", "pad.west")
    assert done.returncode == 0, done.stderr
    assert time.monotonic() - began < 50
    assert 'hold = "300ms"' in bench.desk.joinpath("desk.toml").read_text()


def test_nobody_else_can_reach_it_and_a_second_desk_says_which_runs(bench: Bench) -> None:
    first = bench.start()
    path = bench.folder / "run/fenko/desk"
    assert path.stat().st_mode & 0o777 == 0o600
    assert path.parent.stat().st_mode & 0o777 == 0o700
    second = bench.fenko("run", "--desk", str(DEMO))
    assert second.returncode == 1
    for words in (
        "a desk of yours runs already: desk",
        str(bench.desk),
        f"process {first.process.pid}",
        "`fenko stop`",
    ):
        assert words in second.stderr
    os.kill(first.process.pid, signal.SIGSTOP)
    stopped = bench.fenko("run", "--desk", str(DEMO))
    assert stopped.returncode == 1 and "does not answer" in stopped.stderr and str(first.process.pid) in stopped.stderr
    os.kill(first.process.pid, signal.SIGCONT)
    assert bench.state()
    first.process.kill()
    first.process.wait()
    third = bench.start()  # the socket of one that was killed is no obstacle
    assert bench.state()
    assert third.end() == 0
    assert not path.exists()


def test_of_many_that_start_at_once_one_runs(bench: Bench) -> None:
    many = [
        subprocess.Popen([*FENKO, "run", "--desk", str(bench.desk)], env=bench.environment, stderr=subprocess.PIPE)
        for _ in range(4)
    ]
    wait_for(lambda: sum(one.poll() == 1 for one in many) == 3, "three that give up")
    assert bench.fenko("stop").returncode == 0
    assert sorted(one.wait(20) for one in many) == [0, 1, 1, 1]


SWITCHED = (
    DESK
    + """
[profile.frames]
when = { app = "snipwell" }
[profile.sound]
when = { app = "hushdesk" }
"""
)


def test_the_running_desk_is_told_what_to_do(bench: Bench) -> None:
    bench.desk.joinpath("desk.toml").write_text(SWITCHED)
    run = bench.start()

    def status() -> dict[str, Any]:
        found: dict[str, Any] = json.loads(bench.fenko("status", "--format", "json").stdout)
        return found

    assert status()["profile"] == "base" and status()["by"] == "itself" and not status()["paused"]
    assert bench.fenko("switch", "sound").stdout == "sound\n"
    assert (status()["profile"], status()["by"], status()["by hand until"]) == ("sound", "hand", "auto")
    assert "sound (by hand, until auto)" in bench.fenko("status").stdout
    assert bench.fenko("switch", "next").stdout == "frames\n"
    assert bench.fenko("switch", "previous").stdout == "sound\n"
    shown = json.loads(bench.fenko("explain", "--profile", "--format", "json", "--desk", str(bench.desk)).stdout)
    assert shown["in force by hand"] == "sound" and shown["profiles"][0]["profile"] == "base"
    assert bench.fenko("switch", "auto").stdout == "base\n"
    wrong = bench.fenko("switch", "framse")
    assert wrong.returncode == 1 and "did you mean `frames`" in wrong.stderr
    assert bench.fenko("pause").returncode == 0 and status()["paused"]
    assert bench.fenko("pause").returncode == 0 and status()["paused"]
    assert bench.fenko("resume").returncode == 0 and not status()["paused"]
    assert bench.fenko("reload").stderr == "nothing has changed\n"
    bench.desk.joinpath("desk.toml").write_text(SWITCHED.replace("lamp rate", "lmap rate"))
    broken = bench.fenko("reload")
    assert broken.returncode == 1 and "did you mean `lamp`" in broken.stderr
    assert any("lmap" in one["text"] for one in status()["said"])
    assert status()["surfaces"] == {"pad": {"kind": "gamepad", "there": False}}
    assert bench.fenko("stop").returncode == 0
    assert run.process.wait(20) == 0
    for command in ("status", "pause", "stop", "reload"):
        assert (bench.fenko(command).returncode, bench.fenko(command).stderr) == (
            1, "fenko: no desk is running; `fenko run` starts one\n",
        )  # fmt: skip


def test_another_program_follows_with_the_client(bench: Bench) -> None:
    bench.desk.joinpath("desk.toml").write_text(SWITCHED)
    run = bench.start()
    with RunningDesk() as desk:
        assert (desk.name, desk.folder, desk.process) == ("desk", str(bench.desk), run.process.pid)
        told = desk.follow()
        assert next(told)["profile"] == "base"
        desk.switch("frames")
        assert next(told)["profile"] == "frames"
        desk.pause()
        assert next(now for now in told if now["paused"])["profile"] == "frames"
        desk.resume()
        with pytest.raises(Refused, match="no profile `x`"):
            desk.switch("x")
        assert desk.values()["values"]["lamp"]["value"] == 40
        assert desk.reload() is False
        desk.stop()
        with pytest.raises(NobodyThere):
            desk.status()
    with pytest.raises(NobodyThere):
        RunningDesk()
    process = run_fenko("status", "--follow", env=bench.environment, timeout=30)
    assert process.returncode == 1


def test_what_happens_is_followed_line_by_line(bench: Bench) -> None:
    bench.desk.joinpath("desk.toml").write_text(SWITCHED)
    bench.start()
    process = subprocess.Popen([*FENKO, "status", "--follow"], env=bench.environment, stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    assert process.stdout.readline() == "profile base (by itself)\n"
    assert bench.fenko("switch", "sound").returncode == 0
    lines: list[str] = []
    while "profile sound (by hand, until auto)\n" not in lines:
        lines.append(process.stdout.readline())
    process.send_signal(signal.SIGINT)
    assert process.wait(20) == 0


def test_clients_that_behave_badly_hold_nobody_up(bench: Bench) -> None:
    run = bench.start("--play", str(bench.take))
    lines = [bench.socket() for _ in range(5)]
    lines[0].sendall(b"\x00" * 200_000)  # no line at all
    lines[1].sendall(b"[" * 60_000 + b"\n" + b'{"ask": 3}\n{"ask": "set"}\nnonsense\n{"ask": "keep"}\n')
    lines[2].setblocking(False)
    for _ in range(20_000):  # asks, and never reads
        try:
            lines[2].sendall(b'{"ask": "values"}\n')
        except OSError:
            break
    lines[3].sendall(b'{"ask": "values", "follow": true}\n')
    lines[4].close()
    answers = b""
    while answers.count(b"\n") < 6:
        answers += lines[1].recv(65536)
    assert answers.count(b'"error"') == 5
    began = time.monotonic()
    assert bench.state()["values"]["zoom"]
    assert time.monotonic() - began < 20
    more = []
    for _ in range(40):
        with contextlib.suppress(OSError):
            more.append(bench.socket())
    size = memory(run.process.pid)
    for line in more:
        line.close()
    for odd in (
        {"ask": "switch", "profile": ["x"]},
        {"ask": "switch", "profile": "y" * 60_000},
        {"ask": {}},
        {"ask": None},
    ):
        with bench.socket() as line, contextlib.suppress(OSError):
            line.sendall(json.dumps(odd).encode() + b"\n")
            line.recv(65536)
    for line in (*lines[:4], *more):
        with contextlib.suppress(OSError):
            line.close()
    wait_for(lambda: bench.fenko("values").returncode == 0, "an answer")
    assert run.process.poll() is None
    assert memory(run.process.pid) < size + 8_000


def test_somebody_who_is_found_gone_while_being_written_to() -> None:
    ours, theirs = socket.socketpair()
    with Loop() as loop, ours, theirs:
        loop.add(ours.fileno(), loop.stop, lambda: bool(loop.remove(ours.fileno())))
        loop.timer(lambda now: loop.stop()).set_in(0.05)
        loop.run()


def memory(pid: int) -> int:
    """What a process takes, in kB."""
    text = Path(f"/proc/{pid}/status").read_text()
    return int(text.partition("VmRSS:")[2].split()[0])


def test_no_desk_no_answer(tmp_path: Path) -> None:
    environment = os.environ | {"XDG_RUNTIME_DIR": str(tmp_path)}
    for arguments in (("values",), ("values", "--follow"), ("set", "timing.hold", "300ms")):
        done = run_fenko(*arguments, env=environment)
        assert (done.returncode, "no desk is running" in done.stderr) == (1, True)


def test_what_is_proposed_is_tried_all_together(bench: Bench) -> None:
    bench.start("--play", str(bench.take))
    worn = str(DEMO / "takes/worn.jsonl")
    process = subprocess.Popen([*FENKO, "tune", "pad", "--take", worn, "--desk", str(bench.desk), "--try"],
                               env=bench.environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)  # fmt: skip
    assert process.stderr is not None
    assert "what is proposed holds" in process.stderr.readline()
    with bench.socket() as line:
        line.sendall(b'{"ask": "set", "settings": {"timing.hold": "\'300ms\'"}, "for": 5}\n')
        answers = b""
        while answers.count(b"\n") < 2:
            answers += line.recv(65536)
    assert b"something is being tried already" in answers
    process.send_signal(signal.SIGINT)
    assert process.wait(30) == 0
    assert bench.desk.joinpath("desk.toml").read_text() == DESK


def test_a_folder_that_others_can_reach_is_not_trusted(tmp_path: Path) -> None:
    private_folder(tmp_path / "mine")
    (tmp_path / "open").mkdir(mode=0o777)
    (tmp_path / "open").chmod(0o777)
    (tmp_path / "link").symlink_to(tmp_path / "mine")
    for name in ("open", "link"):
        with pytest.raises(OSError):
            private_folder(tmp_path / name)
