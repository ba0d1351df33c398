"""A desk that runs while everything around it happens at once, at speed: hands, windows, edits of which a third are broken, pauses,
clients, faults. At each pause nothing is down; descriptors and memory do not grow. All the while a board presses a button, and it is
measured how soon its key comes.

`FENKO_SOAK` says for how many seconds, for longer ones by hand; `FENKO_SOAK_LOG` where to write what was seen (`tools/soak.py`)."""

from __future__ import annotations

import contextlib
import json
import os
import random
import select
import signal
import socket
import statistics
import subprocess
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from fenko.client import NobodyThere, RunningDesk
from fenko.core.keys import KERNEL_KEYS
from fenko.system.talking import socket_path
from fenko.system.xserver import Display
from running import Running
from screen import Screen, needs_screen, screen
from started import run_fenko
from support import MakeDesk, wait_for

pytestmark = [needs_screen, pytest.mark.long]
SECONDS = float(os.environ.get("FENKO_SOAK", "40"))
PAUSES = 8 if SECONDS < 600 else 60
PROBED = "f24"
MORE = (
    "",
    '[osc.lamps]\nto = "udp 127.0.0.1:9"\n[profile.base.layer.lamps.on]\nbox.blue = "osc /lamp 1"\n',
    "[value.more]\nrange = [0, 5]\n",
    '[journal]\nkeep = "7 days"\n',
    '[profile.other]\nwhen = { app = "other" }\n',
)
"""What an edit adds, so that more than keys are others by it."""
RUBBISH = """
import gc, os, signal, sys
from collections import Counter
def look(number, frame):
    gc.unfreeze()
    gc.set_debug(gc.DEBUG_SAVEALL)
    gc.collect()
    found = Counter(type(one).__module__ for one in gc.garbage)
    gc.set_debug(0)
    with open(os.environ["FENKO_RUBBISH"] + ".draft", "w") as file:
        file.write(" ".join(name for name, count in found.items() for _ in range(count) if name.startswith("fenko")))
    os.rename(file.name, os.environ["FENKO_RUBBISH"])
    gc.garbage.clear()
    gc.freeze()
if "run" in sys.orig_argv:
    signal.signal(signal.SIGUSR2, look)
"""
"""Says on demand what nobody refers to any more and stays in memory, for it refers to itself: Fenko looks for none in what a desk is made of."""
DESK = """
[output]
keys = "x11"
[surface.pad]
kind = "board"
links = ["tcp 127.0.0.1:{pad}"]
[surface.pad.control]
south.sort = "button"
east.sort = "button"
north.sort = "button"
west.sort = "button"
shoulder.sort = "button"
start.sort = "button"
select.sort = "button"
mode.sort = "button"
one.sort = "button"
two.sort = "button"
stick.sort = "stick"
trigger.sort = "trigger"
[surface.box]
kind = "board"
links = ["tcp 127.0.0.1:{box}"]
[surface.box.control]
red.sort = "button"
blue.sort = "button"
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
shoulder = "f17 every 20ms"
"start+select" = "ctrl+f18"
stick = "pointer 300"
trigger = "value zoom follow"
one = "profile next"
two = "profile auto"
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
BUTTONS = ("south", "east", "north", "west", "shoulder", "start", "select", "one", "two", "mode")


@pytest.fixture
def shown() -> Iterator[Screen]:
    with screen() as one:
        yield one


class Board:
    """A board on a line; whoever moves its controls has a thread of its own."""

    name = ""
    has: tuple[str, ...] = ()

    def __init__(self) -> None:
        self.door = socket.create_server(("127.0.0.1", 0))
        self.port = self.door.getsockname()[1]
        self._ended = False
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
                here = [f"board 1 {self.name} {self.name}", *(f"has {one}" for one in self.has), "ready"]
                line.sendall("".join(f"{one}\n" for one in here).encode())
                while not self._ended and self.moves(line):
                    if select.select([line], [], [], 0)[0] and not line.recv(4096):
                        break

    def moves(self, line: socket.socket) -> bool:
        """Moves something; false when the line is pulled."""
        raise NotImplementedError

    def end(self) -> None:
        """Puts it away."""
        self._ended = True
        self._thread.join()
        self.door.close()


class Hands(Board):
    """Quick ones, at a pad that is pulled out now and then."""

    name = "pad"
    has = (*(f"{name} button" for name in BUTTONS), "stick stick -100 100", "trigger trigger 0 100")

    def __init__(self, luck: random.Random) -> None:
        self._luck = luck
        self._down: set[str] = set()
        self.moved = 0
        super().__init__()

    def moves(self, line: socket.socket) -> bool:
        luck, down = self._luck, self._down
        kind = luck.random()
        if kind < 0.001:
            down.clear()
            return False
        if kind < 0.8:
            control = luck.choice(BUTTONS)
            (down.discard if control in down else down.add)(control)
            said = f"is {control} {int(control in down)}"
        elif kind < 0.9:
            said = f"is stick {luck.randint(-100, 100)} {luck.randint(-100, 100)}"
        else:
            said = f"is trigger {luck.randint(0, 100)}"
        line.sendall(f"{said}\n".encode())
        self.moved += 1
        time.sleep(luck.choice([0.0, 0.002, 0.01, 0.02, 0.1]))
        return True


class Probe(Board):
    """It presses its button twice a second; and somebody who hears the key."""

    name = "box"
    has = ("red button",)

    def __init__(self, shown: Screen) -> None:
        self.seconds: list[float] = []
        self.lost = 0
        self._display = Display(shown.display)
        self._code = KERNEL_KEYS[PROBED] + 8
        core = self._display.connection.core
        any_modifier = 0x8000
        self._display.check(core.GrabKey, False, self._display.root, any_modifier, self._code, 1, 1)
        super().__init__()

    def moves(self, line: socket.socket) -> bool:
        time.sleep(0.5)
        list(self._display.events())  # of a press that came too late
        begun = time.perf_counter()
        line.sendall(b"is red 1\n")
        if self._comes():
            self.seconds.append(time.perf_counter() - begun)
        else:
            self.lost += 1
        line.sendall(b"is red 0\n")
        return True

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
        super().end()
        self._display.close()


class Soak:
    def __init__(
        self, one: Screen, desk: Path, running: Running, luck: random.Random, text: Callable[[str], str]
    ) -> None:
        self.screen, self.desk, self.running, self.luck, self.text = one, desk, running, luck, text
        self.number = 0
        self.lines: list[socket.socket] = []

    def edit(self) -> None:
        """Another key, or, one time in three, something that is wrong."""
        self.number += 1
        text = self.text(f"f{1 + self.number % 12}") + self.luck.choice(MORE) + f"# {self.number}\n"
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
        wait_for(lambda: threads(pid) == 2, "its loop, and who asks for the window in front")
        numbers = len(os.listdir(f"/proc/{pid}/fd"))
        taken = int(Path(f"/proc/{pid}/status").read_text().partition("RssAnon:")[2].split()[0])
        with RunningDesk() as desk:
            desk.resume()
        return numbers, taken


def threads(pid: int) -> int:
    return len(os.listdir(f"/proc/{pid}/task"))


def test_everything_at_once(
    shown: Screen, make_desk: MakeDesk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "watched").mkdir()
    (tmp_path / "watched/sitecustomize.py").write_text(RUBBISH)
    rubbish = tmp_path / "rubbish"
    seed = int(os.environ.get("FENKO_SOAK_SEED", time.time_ns() % 1_000_000))
    luck = random.Random(seed)
    probe, hands = Probe(shown), Hands(random.Random(seed))

    def text(key: str) -> str:
        return DESK.format(key=key, pad=hands.port, box=probe.port)

    desk = make_desk(text("f1"))
    run_fenko("trust", "--yes", "--desk", desk, env=shown.environment, check=True)
    windows = [shown.terminal(app, app, tmp_path / app) for app in ("Snipwell", "Hushdesk", "Other")]
    monkeypatch.setenv("FENKO_RUBBISH", str(rubbish))
    monkeypatch.setenv("PYTHONPATH", os.pathsep.join([str(tmp_path / "watched"), os.environ.get("PYTHONPATH", "")]))
    running = Running(shown, tmp_path / "log", "--desk", str(desk), anew=True)
    running.says("is running")
    soak = Soak(shown, desk, running, luck, text)

    def raise_one() -> None:
        soak.raise_one(windows)

    doings = {soak.edit: 20, soak.client: 20, soak.switch: 20, raise_one: 60, soak.fault: 1}
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
            seen = {
                "t": time.monotonic() - begun,
                "descriptors": descriptors,
                "kB": memory,
                "presses": presses[-1],
                "lost": probe.lost,
            }
            with Path(log).open("a") as file:
                file.write(json.dumps(seen | {"seed": seed, "done": done | {"moves": hands.moved}}) + "\n")

    while time.monotonic() < begun + SECONDS:
        doing = luck.choices([*doings], [*doings.values()])[0]
        with contextlib.suppress(NobodyThere):
            doing()
        done[doing.__name__] += 1
        time.sleep(luck.choice([0.0, 0.01, 0.1]))
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
    assert statistics.median(presses[-1] or found) < 2 * statistics.median(presses[0] or found) + 0.005, (
        f"seed {seed}: {presses}"
    )
    running.process.send_signal(signal.SIGUSR2)
    wait_for(rubbish.exists, "what is rubbish")
    assert Counter(rubbish.read_text().split()) == {}, f"seed {seed}"
    make_desk(text("f1"))
    with RunningDesk() as one:
        one.reload()
        one.stop()
    assert running.process.wait(20) == 0, running.log.read_text()[-2000:]
    probe.end()
    hands.end()
    assert not shown.keys_down()
    assert "Traceback" not in running.log.read_text()
    print(f"seed {seed}, {dict(done)}, descriptors and kB at pauses {pauses}")
