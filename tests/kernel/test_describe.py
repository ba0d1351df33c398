"""Things that are met for the first time: found, named, watched and described."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from bench_devices import is_free, jog, key, keypad, twins, wait_for
from evdev import UInput
from evdev import ecodes as e

from fenko.desk.descriptions import load_description
from started import run_fenko
from terminal import Terminal

pytestmark = pytest.mark.long


class Guided:
    """`fenko devices --describe` on a terminal, and the hand that presses."""

    def __init__(self, device: UInput, out: Path, first: Callable[[], None]) -> None:
        self.device = device
        self.terminal = Terminal("devices", "--describe", "--out", str(out))
        self.says = self.terminal.says
        self.says("Press something")
        first()
        self.says("1: press it")
        wait_for(lambda: not is_free(device), "the thing to be taken over")

    def press(self, code: int, times: int = 1) -> None:
        """Presses a key, as fast as a thing does by itself."""
        for _ in range(times):
            key(self.device, code, 1)
            key(self.device, code, 0)

    def answer(self, line: str) -> None:
        """Types a line."""
        self.terminal.type(line.encode() + b"\n")


def test_a_keypad_with_a_double_and_a_silent_key(tmp_path: Path) -> None:
    device = keypad()
    guide = Guided(device, tmp_path / "mine.toml", lambda: [key(device, e.KEY_KP7, 1), key(device, e.KEY_KP7, 0)][0])
    guide.answer("nothing")
    guide.says("what stands on it")
    guide.answer("Num")
    guide.says("2: press it")
    guide.press(e.KEY_KP0)
    guide.says("it sent kp0; its name [kp0]")
    guide.answer("/again")
    guide.says("2: press it")
    guide.press(e.KEY_KP0)
    guide.says("its name [kp0]")
    guide.answer("")
    guide.says("3: press it")
    guide.press(e.KEY_KP0, times=3)
    guide.says("it sent kp0, 3 times at once; its name [kp0-x3]")
    guide.answer("000")
    guide.answer("oops")
    guide.says("`oops` is none of")
    guide.answer("skip")
    guide.answer("back")
    guide.says("taken back")
    guide.answer("row")
    guide.says("4: press it")
    guide.press(e.KEY_KP5)
    guide.says("its name [kp5]")
    guide.press(e.KEY_KP6)  # going on keeps the usual name
    guide.says("its name [kp6]")
    guide.terminal.type(b"\x03")
    assert guide.terminal.end(60) == 0
    said = guide.terminal.shown.decode()
    assert "5 controls of Tallow 17" in said
    assert "Num: sends nothing" in said and "3 presses of `kp0`" in said
    spots = {spot.control: spot for spot in load_description(tmp_path / "mine.toml").spots}
    assert list(spots) == ["num", "kp0", "kp0-x3", "kp5", "kp6"]
    assert (spots["kp0-x3"].printed, spots["kp0-x3"].at, spots["kp6"].at) == ("000", (49, 11), (30, 30))
    assert wait_for(lambda: is_free(guide.device), "the thing to be given back")
    device.close()


def test_two_keys_that_send_one_code(tmp_path: Path) -> None:
    device = twins()
    guide = Guided(device, tmp_path / "twins.toml", lambda: [key(device, e.KEY_F13, 1), key(device, e.KEY_F13, 0)][0])
    for number, (code, name) in enumerate([(e.KEY_F13, "left"), (e.KEY_F14, "right"), (e.KEY_F14, "far right")], 1):
        guide.press(code)
        guide.says("its name")
        guide.answer(name)
        guide.says(f"{number + 1}: press it")
    guide.answer("stop")
    assert guide.terminal.end(60) == 0
    assert "far right: sends the same as `f14`" in guide.terminal.shown.decode()
    assert [spot.sends for spot in load_description(tmp_path / "twins.toml").spots] == [None, None, ("f14",)]
    device.close()


def test_a_jog_device_is_known_by_its_link_and_described_by_turning(tmp_path: Path) -> None:
    device = jog()
    listed = run_fenko("devices", check=True)
    assert any(
        line.split()[:6] == ["Harrow", "wheel", "usb", "1209:4d2b", "ring-and-dial", "harrow-wheel"]
        for line in listed.stdout.splitlines()
    ), listed.stdout

    def turn() -> None:
        device.write(e.EV_REL, e.REL_DIAL, 1)
        device.syn()

    guide = Guided(device, tmp_path / "jog.toml", turn)
    for value in (3, 7, 0):
        device.write(e.EV_ABS, e.ABS_WHEEL, value)
        device.syn()
    guide.says("it sent ring")
    guide.answer("")
    for _ in range(3):
        turn()
    guide.says("it sent dial")
    guide.answer("jog")
    guide.press(e.BTN_0)
    guide.says("it sent button-1")
    guide.answer("/stop")
    assert guide.terminal.end(60) == 0
    description = load_description(tmp_path / "jog.toml")
    spots = {spot.control: spot for spot in description.spots}
    assert description.kind == "ring-and-dial"
    assert (spots["ring"].at, spots["dial"].name) == ((60, 60), "jog")
    assert spots["button-1"].at is not None and spots["button-1"].at[1] > 120  # beneath what its kind has
    device.close()
