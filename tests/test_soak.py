"""A desk that runs while everything around it happens at once, at speed: hands, windows, edits of which a third are broken, pauses,
clients, faults. At each pause nothing is down; descriptors and memory do not grow. All the while a board presses a button, and it is
measured how soon its key comes.

`FENKO_SOAK` says for how many seconds, for longer ones by hand; `FENKO_SOAK_LOG` where to write what was seen (`tools/soak.py`)."""

from __future__ import annotations

import contextlib
import json
import os
import random
import signal
import select
import socket
import statistics
import subprocess
import threading
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest

from fenko.client import NobodyThere, RunningDesk
from fenko.core.keys import KERNEL_KEYS
from fenko.system.talking import socket_path
from fenko.system.xserver import Display
from running import Running
from screen import Screen, needs_screen, screen
from support import MakeDesk, wait_for

pytestmark = needs_screen
SECONDS = float(os.environ.get("FENKO_SOAK", "40"))
PAUSES = 8 if SECONDS < 600 else 60
PROBED = "f24"
DESK = """
[output]
keys = "x11"
[surface.pad]
kind = "gamepad"
[surface.keys]
kind = "keypad"
[surface.box]
links = ["tcp 127.0.0.1:{port}"]
[surface.box.control]
red.sort = "button"
[value.zoom]
range = [0, 1000]
[notifications]
errors = false
[profile.base]
on-enter = "f13"
[profile.base.on]
box.red = "f24"
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


class Probe:
    """A board that presses its button twice a second, and somebody who hears the key."""

    def __init__(self, shown: Screen) -> None:
        self.door = socket.create_server(("127.0.0.1", 0))
        self.port = self.door.getsockname()[1]
        self.seconds: list[float] = []
        self.lost = 0
        self._ended = False
        self._display = Display(shown.display)
        self._code = KERNEL_KEYS[PROBED] + 8
        core = self._display.connection.core
        any_modifier = 0x8000
        self._display.check(core.GrabKey, False, self._display.root, any_modifier, self._code, 1, 1)
        self._thread = threading.Thread(target=self._go, daemon=True)
        self._thread.start()

    def _go(self) -> None:
        while not self._ended:
            if not select.select([self.door], [], [], 0.2)[0]:
                continue
            line, _ = self.door.accept()
            with line, contextlib.suppress(OSError):
                line.settimeout(5)
                while b"fenko 1\n" not in line.recv(4096):
                    pass
                line.sendall(b"board 1 box Box\nhas red button\nis red 0\nready\n")
                while not self._ended:
                    time.sleep(0.5)
                    self._press(line)

    def _press(self, line: socket.socket) -> None:
        list(self._display.events())  # of a press that came too late
        begun = time.perf_counter()
        line.sendall(b"is red 1\n")
        if self._comes():
            self.seconds.append(time.perf_counter() - begun)
        else:
            self.lost += 1
        line.sendall(b"is red 0\n")
        if select.select([line], [], [], 0)[0] and not line.recv(4096):
            raise ConnectionResetError

    def _comes(self) -> bool:
        end = time.monotonic() + 1
        while time.monotonic() < end:
            for event in self._display.events():
                if isinstance(event, self._display.x.KeyPressEvent) and event.detail == self._code:
                    return True
            select.select([self._display.fd], [], [], 0.05)
        return False

    def taken(self) -> list[float]:
        """What was measured since it was last asked for."""
        found, self.seconds = self.seconds, []
        return found

    def end(self) -> None:
        self._ended = True
        self._thread.join()
        self.door.close()
        self._display.close()


class Soak:
    def __init__(self, one: Screen, desk: Path, running: Running, luck: random.Random, port: int) -> None:
        self.screen, self.desk, self.running, self.luck, self.port = one, desk, running, luck, port
        self.number = 0
        self.lines: list[socket.socket] = []

    def edit(self) -> None:
        """Another key, or, one time in three, something that is wrong."""
        self.number += 1
        text = DESK.format(key=f"f{1 + self.number % 12}", port=self.port) + f"# {self.number}\n"
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
    probe = Probe(shown)
    desk = make_desk(DESK.format(key="f1", port=probe.port))
    take = tmp_path / "t.jsonl"
    hands(take, luck, SECONDS * 1.5 + 60)
    windows = [shown.terminal(app, app, tmp_path / app) for app in ("Snipwell", "Hushdesk", "Other")]
    running = Running(shown, tmp_path / "log", "--desk", str(desk), "--play", str(take))
    running.says("is running")
    soak = Soak(shown, desk, running, luck, probe.port)
    doings = [soak.edit, soak.client, soak.switch, soak.fault, *[lambda: soak.raise_one(windows)] * 3]
    done: Counter[str] = Counter()
    pauses: list[tuple[int, int]] = []
    presses: list[list[float]] = []
    begun = time.monotonic()
    after = begun + SECONDS / PAUSES

    def pause() -> None:
        presses.append(probe.taken())
        pauses.append(soak.at_a_pause())
        if log := os.environ.get("FENKO_SOAK_LOG"):
            descriptors, memory = pauses[-1]
            seen = {"t": time.monotonic() - begun, "descriptors": descriptors, "kB": memory, "presses": presses[-1], "lost": probe.lost}
            with Path(log).open("a") as file:
                file.write(json.dumps(seen | {"seed": seed, "done": done}) + "\n")

    while time.monotonic() < begun + SECONDS:
        doing = luck.choice(doings)
        with contextlib.suppress(NobodyThere):
            doing()
        done[getattr(doing, "__name__", "")] += 1
        assert running.process.poll() is None, f"seed {seed}: {running.log.read_text()[-2000:]}"
        if time.monotonic() > after:
            after += SECONDS / PAUSES
            pause()
    pause()
    # The first pause is the measure: by then everything that is loaded once has been loaded.
    assert max(numbers for numbers, _ in pauses[1:]) <= pauses[0][0] + 6, f"seed {seed}: {pauses}"
    assert pauses[-1][1] <= pauses[0][1] + 6_000, f"seed {seed}: {pauses}"
    # A process beside the desk that is killed takes the board's line with it, which comes back by itself.
    found = [one for some in presses for one in some]
    assert len(found) > 10 * probe.lost, f"seed {seed}: {len(found)} came, {probe.lost} did not"
    assert statistics.median(presses[-1] or found) < 2 * statistics.median(presses[0] or found) + 0.005, f"seed {seed}: {presses}"
    make_desk(DESK.format(key="f1", port=probe.port))
    with RunningDesk() as one:
        one.reload()
        one.stop()
    assert running.process.wait(20) == 0, running.log.read_text()[-2000:]
    probe.end()
    assert not shown.keys_down()
    assert "Traceback" not in running.log.read_text()
    print(f"seed {seed}, {dict(done)}, descriptors and kB at pauses {pauses}")
