"""`fenko watch` on real devices: the picture, a storm, and takes that rehearse as the desk ran."""

from __future__ import annotations

import json
import signal
import time
from pathlib import Path

import pytest
from bench_devices import FenkoRun, key, keypad, mouse, pad, wait_for
from evdev import ecodes as e

from started import Started, run_fenko
from terminal import Terminal

pytestmark = pytest.mark.long

DESK = """
[surface.pad]
kind = "gamepad"
links = ["usb 1209:4d50"]
[profile.base.on.pad]
south = { do = "ctrl+z", label = "Undo" }
east = "a x3 then wait 60ms then b"
north = { tap = "m", hold = "o" }
stick-left.left = "left"
"""


@pytest.fixture
def desk(tmp_path: Path) -> Path:
    (tmp_path / "desk.toml").write_text(DESK)
    return tmp_path


def test_everything_that_moves_is_shown(desk: Path) -> None:
    plugged = [pad(), keypad(), *mouse(), pad()]
    terminal = Terminal("watch", columns=200, lines=60, cwd=desk)
    terminal.shows("burr-12 (mouse)", 60)
    key(plugged[0], e.BTN_SOUTH, 1)
    plugged[0].write(e.EV_ABS, e.ABS_X, -20000)
    plugged[0].syn()
    key(plugged[3], e.KEY_1, 1)
    for value in (1, 0, 1, 0):
        key(plugged[1], e.KEY_KP0, value)
    terminal.shows("2 presses at once", 60)
    terminal.shows("left 61 %  -20000", 60)
    south = next(line for line in terminal.frame() if line.startswith("south"))
    assert "pressed  code 304" in south
    plugged[4].write(e.EV_ABS, e.ABS_X, 20000)  # of two pads of one name the one that moved
    plugged[4].syn()
    terminal.shows("right 61 %  20000", 60)
    terminal.resize(60, 20)
    wait_for(
        lambda: 0 < len(terminal.frame()) <= 20 and any("more;" in line for line in terminal.frame()),
        "a small picture",
    )
    assert all(len(line) <= 60 for line in terminal.frame())
    plugged[0].close()
    plugged[4].close()
    terminal.shows("surface thistle-pad: gone", 60)
    terminal.type(b"\x03")
    assert terminal.end(60) == 0
    for device in plugged[1:]:
        device.close()


def test_a_thousand_events_a_second_are_drawn_at_most_twenty_times(desk: Path) -> None:
    device = pad()
    terminal = Terminal("watch", "--desk", str(desk), columns=100, lines=40)
    terminal.shows("Undo", 60)
    terminal.pump()
    before, start = terminal.shown.count(b"\x1b[H"), time.monotonic()
    while time.monotonic() - start < 3:
        for number in range(20):
            device.write(e.EV_ABS, e.ABS_X, int((time.monotonic() - start) * 5000) + number)
            device.syn()
        terminal.pump()
    elapsed = time.monotonic() - start
    assert 1 <= terminal.shown.count(b"\x1b[H") - before <= elapsed * 20 + 2
    device.write(e.EV_ABS, e.ABS_X, 0)
    device.syn()
    terminal.shows("centre", 60)
    terminal.type(b"q")
    assert terminal.end(60) == 0
    device.close()


def test_which_one_is_it(tmp_path: Path) -> None:
    plugged = [pad(), keypad(), *mouse()]
    for device, code, form, expected in (
        (plugged[3], e.KEY_5, "table", ["Burr 12: 5", "a mouse, 2 nodes that are one thing", '    links = ["usb 1209:4d12"]', '    description = "burr-12"']),
        (plugged[0], e.BTN_EAST, "table", ['    links = ["usb 1209:4d50", "bluetooth 1209:4d51"]']),
        (plugged[0], e.BTN_WEST, "json", ['"control": "west"', '"description": "thistle-pad"', '"link": "usb 1209:4d50"', '"kind": "gamepad"']),
    ):  # fmt: skip
        asked = Started(["devices", "--press", "--format", form], tmp_path / "log")
        wait_for(lambda: "Press something" in (tmp_path / "log").read_text(), "the question")
        plugged[0].write(e.EV_ABS, e.ABS_X, 9000)  # a trembling stick is not meant
        plugged[0].syn()
        key(device, code, 1)
        key(device, code, 0)
        assert asked.wait(60) == 0
        said = (tmp_path / "log").read_text()
        assert [text for text in expected if text not in said] == [], said
    for device in plugged:
        device.close()


def test_a_recorded_take_rehearses_as_the_desk_ran(desk: Path) -> None:
    device = pad()
    ran = FenkoRun(desk, desk / "ran", "--format", "jsonl", command="try")
    ran.says("is running")
    take = desk / "take.jsonl"
    watch = Started(["watch", "pad", "--desk", str(desk), "--take", str(take), "--format", "jsonl"], desk / "watched")
    wait_for(lambda: take.exists(), "the take")
    time.sleep(1)
    for code, length in (
        (e.BTN_SOUTH, 0.1),
        (e.BTN_EAST, 0.05),
        (e.BTN_NORTH, 0.05),
        (e.BTN_NORTH, 0.5),
        (e.BTN_SOUTH, 0.02),
    ):
        key(device, code, 1)
        time.sleep(length)
        key(device, code, 0)
        time.sleep(0.4)
    for value in (-10000, -30000, 0):
        device.write(e.EV_ABS, e.ABS_X, value)
        device.syn()
        time.sleep(0.1)
    time.sleep(1)
    watch.send_signal(signal.SIGINT)
    assert watch.wait(60) == 0
    assert ran.end() == 0
    rehearsed = run_fenko("rehearse", str(take), "--desk", str(desk), "--format", "jsonl")
    assert rehearsed.returncode == 0, rehearsed.stderr
    expected = [json.loads(line) for line in rehearsed.stdout.splitlines()]
    sent = [json.loads(line) for line in ran.log.read_text().splitlines() if line.startswith("{")]
    assert [effect | {"t": 0} for effect in sent] == [effect | {"t": 0} for effect in expected]
    offset = sent[0]["t"] - expected[0]["t"]
    assert max(abs(one["t"] - offset - other["t"]) for one, other in zip(sent, expected, strict=True)) <= 0.002
    device.close()
