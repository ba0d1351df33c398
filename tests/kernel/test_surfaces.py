"""Surfaces that answer, on a real kernel: motors and lamps of devices, and a MIDI controller on the kernel's own sequencer, heard and
lit by a desk that runs."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from bench_devices import FenkoRun, Reader, wait_for
from evdev import ecodes as e

from started import run_fenko

DESK = """
[surface.pad]
kind = "gamepad"
links = ["usb 1209:4d50"]
[surface.dunnock]
kind = "midi"
links = ["midi Dunnock*"]
[surface.dunnock.control.cc-16]
sort = "dial"
shows-value = true
[surface.dunnock.control.cc-7]
bits = 14
shows-value = true
[value.exposure]
range = [0, 100]
[profile.base.on.pad]
south = "rumble 60% for 120ms"
east = "lamp mute on"
west = { do = "f13", lit = "pressed", lamp = "misc" }
north = "rumble 100% for 5s"
start = "pause"
[profile.base.on.dunnock]
note-36 = { do = "a", lit = "pressed" }
cc-16.right = "value exposure by +10"
cc-16.left = "value exposure by -10"
cc-7 = "value exposure follow"
pressure = { do = "value exposure follow", spring = true }
bend.up = "b"
play = "c"
"""
THISTLE = """
import json, sys, threading
from evdev import UInput, UInputError, ecodes as e, ff
pad = UInput({e.EV_KEY: [e.BTN_SOUTH, e.BTN_EAST, e.BTN_NORTH, e.BTN_WEST, e.BTN_START], e.EV_FF: [e.FF_RUMBLE],
              e.EV_LED: [e.LED_MUTE, e.LED_MISC]}, name="Thistle pad", vendor=0x1209, product=0x4D50, bustype=e.BUS_USB,
             phys="usb-lab-1/input0", max_effects=4)
def tell(*what):
    sys.stdout.write(json.dumps(what) + "\\n")
    sys.stdout.flush()
def hands():
    for line in sys.stdin:
        code, value = map(int, line.split())
        pad.write(e.EV_KEY, code, value)
        pad.syn()
threading.Thread(target=hands, daemon=True).start()
for event in pad.read_loop():
    if event.type == e.EV_UINPUT and event.code == e.UI_FF_UPLOAD:
        upload = pad.begin_upload(event.value)
        upload.retval = 0
        rumble = upload.effect.u.ff_rumble_effect
        tell("upload", upload.effect.id, rumble.strong_magnitude, upload.effect.ff_replay.length)
        pad.end_upload(upload)
    elif event.type == e.EV_UINPUT and event.code == e.UI_FF_ERASE:
        erase = pad.begin_erase(event.value)
        erase.retval = 0
        tell("erase", erase.effect_id)
        pad.end_erase(erase)
    elif event.type == e.EV_FF:
        tell("play", event.code, event.value)
    elif event.type == e.EV_LED:
        tell("lamp", event.code, event.value)
"""


class Thistle:
    """The pad, with motors and two lamps, in a process of its own: it serves the kernel, whoever waits for that."""

    def __init__(self, folder: Path) -> None:
        self._heard = folder / "thistle"
        self._out = self._heard.open("wb")
        with (folder / "thistle-log").open("wb") as log:
            self.process = subprocess.Popen(
                [sys.executable, "-c", THISTLE], stdin=subprocess.PIPE, stdout=self._out, stderr=log
            )
        self._log = folder / "thistle-log"

    def press(self, code: int, value: int = 1) -> None:
        assert self.process.stdin is not None
        assert self.process.poll() is None, self._log.read_text()
        self.process.stdin.write(f"{code} {value}\n".encode())
        self.process.stdin.flush()

    def tap(self, code: int) -> None:
        self.press(code)
        self.press(code, 0)

    @property
    def heard(self) -> list[list[Any]]:
        return [json.loads(line) for line in self._heard.read_text().splitlines()]

    def hears(self, *what: Any) -> None:
        wait_for(lambda: list(what) in self.heard, f"{what}; it heard {self.heard}")

    def close(self) -> None:
        self.process.kill()
        self.process.wait()
        self._out.close()


DUNNOCK = """
import sys, threading
from alsa_midi import MidiBytesEvent, PortCaps, SequencerClient
client = SequencerClient("Dunnock Eight")
port = client.create_port("controls", caps=PortCaps.READ | PortCaps.WRITE | PortCaps.SUBS_READ | PortCaps.SUBS_WRITE)
def listen():
    while True:
        event = client.event_input(prefer_bytes=True)
        if isinstance(event, MidiBytesEvent):
            sys.stdout.write(bytes(event.midi_bytes).hex(" ") + "\\n")
            sys.stdout.flush()
threading.Thread(target=listen, daemon=True).start()
for line in sys.stdin:
    for message in line.split("/"):
        client.event_output(MidiBytesEvent(bytes.fromhex(message)), port=port)
    client.drain_output()
"""


class Dunnock:
    """A MIDI controller on the sequencer, in a process of its own: what it says, and what it was told."""

    def __init__(self, folder: Path) -> None:
        self._file = folder / "dunnock"
        with self._file.open("wb") as out:
            self._process = subprocess.Popen([sys.executable, "-c", DUNNOCK], stdin=subprocess.PIPE, stdout=out)

    @property
    def heard(self) -> list[str]:
        """Messages that it was sent, as hex."""
        return self._file.read_text().splitlines()

    def says(self, *messages: str) -> None:
        """Sends these."""
        assert self._process.stdin is not None
        self._process.stdin.write(("/".join(messages) + "\n").encode())
        self._process.stdin.flush()

    def hears(self, message: str) -> None:
        wait_for(lambda: message in self.heard, f"{message}; it heard {self.heard}")

    def unplug(self) -> None:
        """It is gone."""
        self._process.kill()
        self._process.wait()


class Bench:
    """A pad, a controller, and a desk that runs."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(exist_ok=True)
        (folder / "desk.toml").write_text("format = 1\n" + DESK)
        self.folder = folder
        self.thistle = Thistle(folder)
        self.dunnock = Dunnock(folder)
        self.run = FenkoRun(folder, folder / "log")
        self.run.says("is running")
        self.run.says("surface dunnock: here now")
        self.keys = Reader("Fenko keys")


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Bench]:
    """A desk that runs; the last test kills it."""
    made = Bench(tmp_path_factory.mktemp("bench"))
    yield made
    if made.run.process.poll() is None:
        made.run.end()
    made.thistle.close()
    made.dunnock.unplug()


def test_a_pad_rumbles_and_its_lamps_are_lit(bench: Bench) -> None:
    thistle = bench.thistle
    thistle.tap(e.BTN_SOUTH)
    thistle.hears("upload", 0, round(0.6 * 0xFFFF), 120)
    thistle.hears("play", 0, 1)
    thistle.tap(e.BTN_EAST)
    thistle.hears("lamp", e.LED_MUTE, 1)
    thistle.press(e.BTN_WEST)
    thistle.hears("lamp", e.LED_MISC, 1)
    thistle.press(e.BTN_WEST, 0)
    thistle.hears("lamp", e.LED_MISC, 0)


def test_a_controller_is_heard_and_lit(bench: Bench) -> None:
    dunnock = bench.dunnock
    bench.keys.drain()
    dunnock.says("90 24 50")
    assert bench.keys.events(1) == [(e.KEY_A, 1)]
    dunnock.hears("90 24 7f")
    dunnock.says("80 24 00")
    assert bench.keys.events(1) == [(e.KEY_A, 0)]
    wait_for(lambda: dunnock.heard[-1] in ("90 24 00", "80 24 00", "80 24 40"), f"its lamp to be out: {dunnock.heard}")
    dunnock.says("e0 7f 7f", "e0 00 40", "fa")
    assert bench.keys.events(4) == [(e.KEY_B, 1), (e.KEY_B, 0), (e.KEY_C, 1), (e.KEY_C, 0)]
    dunnock.says(*["b0 10 01"] * 3)
    dunnock.hears("b0 10 26")  # its ring shows 30 %
    dunnock.says("b0 07 40", "b0 27 00")
    dunnock.hears("b0 10 40")  # and 50 %, where the fader is now


def test_pausing_ends_all_of_it(bench: Bench) -> None:
    thistle = bench.thistle
    thistle.tap(e.BTN_NORTH)
    thistle.hears("upload", 0, 0xFFFF, 5000)
    before = len(thistle.heard)
    thistle.tap(e.BTN_START)
    wait_for(
        lambda: {("lamp", e.LED_MUTE, 0), ("play", 0, 0)} <= {*map(tuple, thistle.heard[before:])},
        f"all off: {thistle.heard[before:]}",
    )
    thistle.tap(e.BTN_START)
    bench.run.says("running again")


def test_it_is_there_again_when_it_comes_back(bench: Bench) -> None:
    before = bench.run.log.read_text().count("surface dunnock: here now")
    bench.dunnock.unplug()
    bench.run.says("surface dunnock: gone")
    bench.dunnock = Dunnock(bench.folder)
    wait_for(lambda: bench.run.log.read_text().count("surface dunnock: here now") > before, "here again")
    bench.dunnock.says("90 24 50", "80 24 00")
    assert bench.keys.events(2) == [(e.KEY_A, 1), (e.KEY_A, 0)]


@pytest.mark.long
def test_ready_and_devices_know_it(bench: Bench) -> None:
    listed = run_fenko("devices", "--format", "json")
    assert "midi Dunnock Eight" in {one["link"] for one in json.loads(listed.stdout)}
    ready = run_fenko("ready", "--desk", str(bench.folder))
    assert "dunnock: Dunnock Eight:controls (ALSA)" in ready.stdout


def test_the_desk_is_killed_and_all_is_off(bench: Bench) -> None:
    thistle = bench.thistle
    thistle.tap(e.BTN_EAST)
    thistle.tap(e.BTN_NORTH)
    before = len(thistle.heard)
    wait_for(lambda: thistle.heard.count(["lamp", e.LED_MUTE, 1]) == 2, "lit")
    wait_for(lambda: thistle.heard.count(["upload", 0, 0xFFFF, 5000]) == 2, "rumbling")
    os.kill(bench.run.process.pid, signal.SIGKILL)
    wait_for(lambda: ["lamp", e.LED_MUTE, 0] in thistle.heard[before - 2 :], f"out: {thistle.heard[before:]}")
    thistle.hears("erase", 0)
