"""A desk that runs while everything around it happens at once, at speed: hands, windows, edits of which a third are broken, pauses,
clients, faults. At each pause nothing is down; descriptors and memory do not grow.

`FENKO_SOAK` says for how many seconds, for longer ones by hand."""

from __future__ import annotations

import contextlib
import json
import os
import random
import signal
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from fenko.client import NobodyThere, RunningDesk
from fenko.system.talking import socket_path
from running import Running
from screen import Screen, needs_screen, screen
from support import MakeDesk, wait_for

pytestmark = needs_screen
SECONDS = float(os.environ.get("FENKO_SOAK", "40"))
DESK = """
[output]
keys = "x11"
[surface.pad]
kind = "gamepad"
[surface.keys]
kind = "keypad"
[value.zoom]
range = [0, 1000]
[notifications]
errors = false
[profile.base]
on-enter = "f13"
[profile.base.on.pad]
south = "f14"
east = {{ tap = "f15", hold = "shift" }}
north = "toggle f16"
west = "layer more"
shoulder-left = "f17 every 20ms"
"start+select" = "ctrl+f18"
stick-left = "pointer 300"
trigger-right = "value zoom follow"
hat.left = "profile next"
hat.right = "profile auto"
mode = "show legend"
[profile.base.layer.more.on.pad]
south = "alt+f19"
[profile.frames]
when = {{ app = "snipwell" }}
on-enter = "f20 then wait 20ms then f21"
on-leave = "f22"
[profile.frames.on.pad]
south = "ctrl"
[profile.sound]
when = [{{ app = "hushdesk" }}, {{ running = "recorder" }}]
[profile.sound.on.pad]
south = "{key}"
"""
BUTTONS = ("south", "east", "north", "west", "shoulder-left", "start", "select", "hat.left", "hat.right", "mode")


@pytest.fixture
def shown() -> Iterator[Screen]:
    with screen() as one:
        yield one


def hands(path: Path, luck: random.Random, seconds: float) -> None:
    """A take of quick hands for so long."""
    lines: list[dict[str, object]] = [{"take": 2, "name": "soak", "surfaces": {"pad": "gamepad", "keys": "keypad"}}]
    t = 0.2
    down: set[str] = set()
    while t < seconds:
        t = round(t + luck.choice([0.0, 0.002, 0.01, 0.05, 0.2]), 3)
        kind = luck.random()
        if kind < 0.75:
            control = luck.choice(BUTTONS)
            (down.discard if control in down else down.add)(control)
            lines.append({"t": t, "surface": "pad", "control": control, "value": int(control in down)})
        elif kind < 0.95:
            axis = luck.choice(["stick-left.x", "stick-left.y", "trigger-right"])
            low = 0.0 if axis == "trigger-right" else -1.0
            lines.append({"t": t, "surface": "pad", "control": axis, "value": round(luck.uniform(low, 1), 3)})
        else:
            surface = luck.choice(["pad", "keys"])
            lines.append({"t": t, luck.choice(["unplug", "plug"]): surface})
            down.clear()
    path.write_text("\n".join(map(json.dumps, lines)))


class Soak:
    def __init__(self, one: Screen, desk: Path, running: Running, luck: random.Random) -> None:
        self.screen, self.desk, self.running, self.luck = one, desk, running, luck
        self.number = 0
        self.lines: list[socket.socket] = []

    def edit(self) -> None:
        """Another key, or, one time in three, something that is wrong."""
        self.number += 1
        text = DESK.format(key=f"f{1 + self.number % 12}") + f"# {self.number}\n"
        broken = self.luck.choice(["nonsense = 1\n", "[profile.sound", text.replace("south", "suoth")])
        file = self.desk / "desk.toml"
        if self.luck.random() < 1 / 3:
            file.write_text(broken)
        elif self.luck.random() < 0.5:
            file.write_text(text)
        else:
            (self.desk / "draft").write_text(text)
            (self.desk / "draft").rename(file)

    def raise_one(self, windows: list[str]) -> None:
        self.screen.ask("xdotool", "windowactivate", self.luck.choice(windows))

    def client(self) -> None:
        """One more that follows, asks nonsense, or goes without a word."""
        line = socket.socket(socket.AF_UNIX)
        line.settimeout(5)
        with contextlib.suppress(OSError):
            line.connect(str(socket_path()))
            line.sendall(
                self.luck.choice([b'{"ask": "status", "follow": true}\n', b"x" * 5000, b'{"ask": "values"}\n' * 50])
            )
            self.lines.append(line)
        if len(self.lines) > 10:
            self.lines.pop(0).close()

    def fault(self) -> None:
        """One of the processes beside the desk is killed."""
        found = subprocess.run(
            ["pgrep", "-P", str(self.running.process.pid), "-f", "fenko.services"], capture_output=True
        )
        for pid in found.stdout.split()[:1]:
            with contextlib.suppress(ProcessLookupError):
                os.kill(int(pid), signal.SIGKILL)

    def switch(self) -> None:
        with RunningDesk() as desk:
            desk.switch(self.luck.choice(["next", "previous", "auto", "sound"]))

    def at_a_pause(self) -> tuple[int, int]:
        """Nothing is down; how many descriptors are open then, and how much memory is taken (kB)."""
        while self.lines:
            self.lines.pop().close()
        with RunningDesk() as desk:
            desk.pause()
            wait_for(lambda: not self.screen.keys_down(), f"all keys up: {self.screen.keys_down()}", 5)
            assert desk.status()["held"] == []
        pid = self.running.process.pid
        wait_for(lambda: threads(pid) == 1, "one thread")
        numbers = len(os.listdir(f"/proc/{pid}/fd"))
        taken = int(Path(f"/proc/{pid}/status").read_text().partition("RssAnon:")[2].split()[0])
        with RunningDesk() as desk:
            desk.resume()
        return numbers, taken


def threads(pid: int) -> int:
    return len(os.listdir(f"/proc/{pid}/task"))


def test_everything_at_once(shown: Screen, make_desk: MakeDesk, tmp_path: Path) -> None:
    seed = int(os.environ.get("FENKO_SOAK_SEED", time.time_ns() % 1_000_000))
    luck = random.Random(seed)
    desk = make_desk(DESK.format(key="f1"))
    take = tmp_path / "t.jsonl"
    hands(take, luck, SECONDS * 3 + 60)
    windows = [shown.terminal(app, app, tmp_path / app) for app in ("Snipwell", "Hushdesk", "Other")]
    running = Running(shown, tmp_path / "log", "--desk", str(desk), "--play", str(take))
    running.says("is running")
    soak = Soak(shown, desk, running, luck)
    doings = [soak.edit, soak.client, soak.switch, soak.fault, *[lambda: soak.raise_one(windows)] * 3]
    pauses: list[tuple[int, int]] = []
    end = time.monotonic() + SECONDS
    after = time.monotonic() + SECONDS / 8
    while time.monotonic() < end:
        with contextlib.suppress(NobodyThere):
            luck.choice(doings)()
        assert running.process.poll() is None, f"seed {seed}: {running.log.read_text()[-2000:]}"
        if time.monotonic() > after:
            after += SECONDS / 8
            pauses.append(soak.at_a_pause())
    pauses.append(soak.at_a_pause())
    # The first pause is the measure: by then everything that is loaded once has been loaded.
    assert max(numbers for numbers, _ in pauses[1:]) <= pauses[0][0] + 6, f"seed {seed}: {pauses}"
    assert pauses[-1][1] <= pauses[0][1] + 6_000, f"seed {seed}: {pauses}"
    make_desk(DESK.format(key="f1"))
    with RunningDesk() as one:
        one.reload()
        one.stop()
    assert running.process.wait(20) == 0, running.log.read_text()[-2000:]
    assert not shown.keys_down()
    assert "Traceback" not in running.log.read_text()
    print(f"seed {seed}, {soak.number} edits, descriptors and kB at pauses {pauses}")
