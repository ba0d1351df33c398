"""`fenko tune` with a device that is really there."""

from __future__ import annotations

import json
import time
from math import cos, pi, sin
from pathlib import Path

import pytest
from bench_devices import key, pad
from evdev import UInput
from evdev import ecodes as e

from started import Started
from support import wait_for

pytestmark = pytest.mark.long

DESK = """
[surface.pad]
kind = "gamepad"
links = ["usb 1209:4d50"]
[profile.base.on.pad]
stick-left = "pointer 900"
"""
CENTRE = 2000  # of 32768: it rests 6 % off


def _hand(device: UInput) -> None:
    """Lets go of the stick for a while, moves it round its edge, and presses a button."""
    for axis in (e.ABS_X, e.ABS_Y):
        device.write(e.EV_ABS, axis, CENTRE if axis == e.ABS_X else 0)
    device.syn()
    time.sleep(0.7)
    for n in range(41):
        device.write(e.EV_ABS, e.ABS_X, round(29000 * cos(2 * pi * n / 40)))
        device.write(e.EV_ABS, e.ABS_Y, round(31000 * sin(2 * pi * n / 40)))
        device.syn()
        time.sleep(0.01)
    key(device, e.BTN_SOUTH, 1)
    time.sleep(0.05)
    key(device, e.BTN_SOUTH, 0)


def test_a_pad_is_measured_while_a_hand_moves_it(tmp_path: Path) -> None:
    (tmp_path / "desk.toml").write_text(DESK)
    device = pad()
    out, err = tmp_path / "out", tmp_path / "err"
    process = Started(["tune", "pad", "--desk", str(tmp_path), "--pace", "4", "--format", "json"], out, err)
    try:
        wait_for(lambda: "Hands off" in err.read_text() or process.poll() is not None, "the beginning")
        while process.poll() is None:
            _hand(device)
        told = json.loads(out.read_text())
    finally:
        process.kill()
        device.close()
    found = {
        one["setting"].rpartition(".")[2]: json.loads(one["value"])
        for one in told["proposals"]
        if "stick-left" in one["setting"]
    }
    assert found["centre"] == pytest.approx([CENTRE / 32768, 0], abs=0.01)
    (left, right), (up, down) = found["range"]
    assert [-left, right, -up, down] == pytest.approx([29 / 32.768, 29 / 32.768, 31 / 32.768, 31 / 32.768], abs=0.02)
    assert 0 < found["dead-zone"] < 0.05  # it always comes back to the same place
    assert (tmp_path / "desk.toml").read_text() == DESK
