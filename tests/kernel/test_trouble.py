"""What a machine does to a desk that runs for days: the clock is set, it sleeps, its uinput goes, everything happens at once."""

from __future__ import annotations

import contextlib
import os
import random
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from glob import glob
from pathlib import Path

import pytest
from bench_devices import FenkoRun, Reader, key, keypad, pad
from evdev import UInput
from evdev import ecodes as e
from test_run import DESK

from fenko.client import NobodyThere, RunningDesk
from fenko.system.kernel import open_device
from support import wait_for

SECONDS = float(os.environ.get("FENKO_SOAK", "30"))
BROKEN_ON_ORDER = """
import os, signal, sys
def lose(number, frame):
    away = os.open("/dev/full", os.O_WRONLY)
    for fd in map(int, os.listdir("/proc/self/fd")):
        try:
            if os.readlink(f"/proc/self/fd/{fd}").startswith("/dev/uinput"):
                os.dup2(away, fd)
        except OSError:
            pass
    print("its way is broken", flush=True)
signal.signal(signal.SIGUSR2, lose)
sys.argv = ["fenko", *sys.argv[1:]]
from fenko.start import main
main()
"""
"""Fenko, whose way into the kernel breaks when it gets a signal: every write fails from then on."""


@pytest.fixture
def desk(tmp_path: Path) -> Path:
    (tmp_path / "desk.toml").write_text(DESK)
    return tmp_path


@pytest.fixture
def run(desk: Path, tmp_path: Path) -> Iterator[tuple[UInput, FenkoRun]]:
    device = pad()
    running = FenkoRun(desk, tmp_path / "log")
    running.says("is running")
    running.says("taken over")
    yield device, running
    running.process.kill()
    device.close()


def test_the_clock_is_set(run: tuple[UInput, FenkoRun]) -> None:
    device, running = run
    keys = Reader("Fenko keys")
    for days in (1, -400, 399):
        key(device, e.BTN_NORTH, 1)
        time.clock_settime(time.CLOCK_REALTIME, time.time() + days * 86_400)
        assert keys.events(1) == [(e.KEY_O, 1)], days
        key(device, e.BTN_NORTH, 0)
        assert keys.events(1) == [(e.KEY_O, 0)], days
        key(device, e.BTN_NORTH, 1)
        key(device, e.BTN_NORTH, 0)
        assert keys.events(2) == [(e.KEY_M, 1), (e.KEY_M, 0)], days
    assert running.end() == 0


def test_the_machine_sleeps(run: tuple[UInput, FenkoRun]) -> None:
    """A machine that sleeps stands still; here its processes do. A key that was down goes up with the hand's, late or not."""
    device, running = run
    keys = Reader("Fenko keys")
    key(device, e.BTN_EAST, 1)
    assert keys.events(1) == [(e.KEY_A, 1)]
    running.process.send_signal(signal.SIGSTOP)
    time.sleep(3)
    key(device, e.BTN_EAST, 0)
    device.close()  # and the radio is gone when it wakes
    running.process.send_signal(signal.SIGCONT)
    wait_for(lambda: not keys.down(), "nothing to be down")
    running.says("gone; it works again")
    again = pad(0x4D51)
    running.says("taken over", 2)
    keys.drain()
    key(again, e.BTN_EAST, 1)
    key(again, e.BTN_EAST, 0)
    assert keys.events(2) == [(e.KEY_A, 1), (e.KEY_A, 0)]
    again.close()
    assert running.end() == 0


def test_uinput_goes_and_comes_back(desk: Path, tmp_path: Path) -> None:
    device = pad()
    log = tmp_path / "log"
    with log.open("wb") as file:
        process = subprocess.Popen(
            [sys.executable, "-c", BROKEN_ON_ORDER, "run", "--desk", str(desk)], stdout=file, stderr=file
        )
    try:
        wait_for(lambda: "taken over" in log.read_text(), f"the pad: {log.read_text()}")
        keys = Reader("Fenko keys")
        key(device, e.BTN_EAST, 1)
        assert keys.events(1) == [(e.KEY_A, 1)]
        os.rename("/dev/uinput", "/dev/uinput-away")
        process.send_signal(signal.SIGUSR2)
        wait_for(lambda: "its way is broken" in log.read_text(), f"the break: {log.read_text()}")
        key(device, e.BTN_EAST, 0)
        wait_for(lambda: "keyboard is gone" in log.read_text(), f"it to be told: {log.read_text()}")
        time.sleep(1.5)  # tried again meanwhile, in vain
        assert process.poll() is None, log.read_text()
        os.rename("/dev/uinput-away", "/dev/uinput")
        again = wait_for(lambda: _sends(device, e.BTN_EAST), f"keys again: {log.read_text()}")
        assert again
        process.send_signal(signal.SIGINT)
        assert process.wait(60) == 0, log.read_text()
        assert "Traceback" not in log.read_text()
    finally:
        with contextlib.suppress(OSError):
            os.rename("/dev/uinput-away", "/dev/uinput")
        process.kill()
        device.close()


def _sends(device: UInput, code: int) -> bool:
    """Whether a press makes a key, on whatever node Fenko has now."""
    from bench_devices import node_named

    node = node_named("Fenko keys")
    if node is None:
        return False
    key(device, code, 1)
    time.sleep(0.3)
    down = bool(node.active_keys())
    key(device, code, 0)
    node.close()
    return down


def test_a_node_goes_while_it_is_opened() -> None:
    """At whichever of the kernel's answers that is: it is an error that everybody expects, and nothing else."""
    enough = threading.Event()

    def plug_and_unplug() -> None:
        while not enough.is_set():
            pad().close()

    plugging = threading.Thread(target=plug_and_unplug)
    plugging.start()
    gone, end = 0, time.monotonic() + 60
    try:
        while gone < 10 and time.monotonic() < end:
            for path in glob("/dev/input/event*"):
                try:
                    open_device(path).close()
                except OSError:
                    gone += 1
    finally:
        enough.set()
        plugging.join()
    assert gone >= 10


@pytest.fixture
def devices() -> Iterator[dict[str, UInput]]:
    """A pad and a keypad by name; what is plugged in at the end is unplugged, also after a failure."""
    plugged = {"pad": pad(), "keypad": keypad()}
    yield plugged
    for device in plugged.values():
        device.close()


@pytest.mark.long
def test_everything_at_once(
    desk: Path, devices: dict[str, UInput], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Hands, plugs, edits of which a third are broken, pauses and stops, on real nodes; at each pause nothing is down, and
    descriptors and memory do not grow."""
    with tempfile.TemporaryDirectory(prefix="fenko-") as person:
        monkeypatch.setenv("XDG_RUNTIME_DIR", person)
        seed = int(os.environ.get("FENKO_SOAK_SEED", time.time_ns() % 1_000_000))
        print(f"seed {seed}")  # also of a first try that failed
        luck = random.Random(seed)
        running = FenkoRun(desk, tmp_path / "log")
        running.says("taken over", 2)
        buttons = (e.BTN_SOUTH, e.BTN_EAST, e.BTN_WEST, e.BTN_NORTH)
        pauses: list[tuple[int, int]] = []
        edits = 0
        end, after = time.monotonic() + SECONDS, time.monotonic() + SECONDS / 5

        def quiet() -> None:
            with RunningDesk() as one:
                one.pause()
                assert one.status()["held"] == [], f"seed {seed}"
                node = Reader("Fenko keys")
                wait_for(lambda: not node.down(), f"seed {seed}: all up, not {node.down()}")
                node.device.close()
                pid = running.process.pid
                memory = int(Path(f"/proc/{pid}/status").read_text().partition("RssAnon:")[2].split()[0])
                pauses.append((len(os.listdir(f"/proc/{pid}/fd")), memory))
                one.resume()

        while time.monotonic() < end:
            what = luck.random()
            if what < 0.8:
                for _ in range(20):
                    key(devices["pad"], luck.choice(buttons), luck.choice((0, 1)))
                    key(devices["keypad"], luck.choice((71, 72, 73)), luck.choice((0, 1)))
            elif what < 0.88:
                name = luck.choice(("pad", "keypad"))
                devices[name].close()
                devices[name] = pad(luck.choice((0x4D50, 0x4D51))) if name == "pad" else keypad()
            elif what < 0.96:
                edits += 1
                wrong = luck.choice(["nonsense = 1\n", "[profile.sound"]) if luck.random() < 1 / 3 else ""
                (desk / "desk.toml").write_text(wrong or DESK.replace('"m"', f'"f{1 + edits % 12}"') + f"# {edits}\n")
            else:
                running.process.send_signal(signal.SIGSTOP)
                time.sleep(0.3)
                running.process.send_signal(signal.SIGCONT)
            assert running.process.poll() is None, f"seed {seed}: {running.log.read_text()[-2000:]}"
            if time.monotonic() > after:
                after += SECONDS / 5
                with contextlib.suppress(NobodyThere):
                    quiet()
        quiet()
        assert len(pauses) > 2 and edits
        assert max(count for count, _ in pauses) <= pauses[0][0] + 8, f"seed {seed}: {pauses}"
        assert pauses[-1][1] <= pauses[0][1] + 6_000, f"seed {seed}: {pauses}"
        assert running.end() == 0, running.log.read_text()[-2000:]
        assert "Traceback" not in running.log.read_text()
        print(f"{edits} edits, descriptors and kB at pauses {pauses}")
