"""`fenko run` on the kernel path: virtual devices in, Fenko's virtual keyboard and pointer out."""

from __future__ import annotations

import errno
import fcntl
import json
import os
import signal
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from bench_devices import FenkoRun, Reader, key, keypad, mouse, node_named, pad, wait_for
from evdev import ecodes as e

from started import run_fenko

DESK = """
format = 1
[output]
keys = "kernel"
layout = "us"
[surface.pad]
kind = "gamepad"
links = ["usb 1209:4d50", "usb 1209:4d51"]
[surface.keypad]
kind = "keypad"
links = ["usb 1209:4d17"]
[surface.mouse]
kind = "mouse"
links = ["usb 1209:4d12"]
[profile.base.on.pad]
south = "ctrl+z"
east = "a"
west = "b"
north.tap = "m"
north.hold = "o"
hat.left = "left"
stick-left.up = "pageup"
trigger-right = "space"
start = "pause"
[profile.base.on.keypad]
kp7 = "shift+f5"
[profile.base.on.mouse]
1 = "c"
middle = "d"
[profile.without-pad]
when = { not = { surface = "pad" } }
"""


@pytest.fixture(scope="module")
def desk(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("desk")
    (folder / "desk.toml").write_text(DESK)
    return folder


class Bench:
    """All devices plugged in, a running desk, and readers of what it sends."""

    def __init__(self, desk: Path, log: Path) -> None:
        self.pad, self.keypad, (self.mouse, self.side) = pad(), keypad(), mouse()
        self.run = FenkoRun(desk, log)
        self.run.says("is running")
        self.keys, self.pointer = Reader("Fenko keys"), Reader("Fenko pointer")


@pytest.fixture(scope="module")
def bench(desk: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Bench]:
    one = Bench(desk, tmp_path_factory.mktemp("log") / "log")
    yield one
    one.run.process.kill()
    for device in (one.pad, one.keypad, one.mouse, one.side):
        device.close()


def test_devices_are_listed_as_things(bench: Bench) -> None:
    done = run_fenko("devices", "--format", "json", check=True)
    things = {thing["name"]: thing for thing in json.loads(done.stdout)}
    assert things["Thistle pad"]["link"] == "usb 1209:4d50"
    assert {name: thing["kind"] for name, thing in things.items() if name[:2] in ("Th", "Ta", "Bu")} == {
        "Thistle pad": "gamepad", "Tallow 17": "keypad", "Burr 12": "mouse",
    }  # fmt: skip
    assert [node["name"] for node in things["Burr 12"]["nodes"]] == ["Burr 12", "Burr 12 Keyboard"]
    assert "Fenko keys" not in things and "Fenko pointer" not in things


def test_a_press_is_mirrored_by_its_keys(bench: Bench) -> None:
    bench.run.says("taken over", 3)
    key(bench.pad, e.BTN_SOUTH, 1)
    assert bench.keys.events(2) == [(e.KEY_LEFTCTRL, 1), (e.KEY_Z, 1)]
    key(bench.pad, e.BTN_SOUTH, 0)
    assert bench.keys.events(2) == [(e.KEY_Z, 0), (e.KEY_LEFTCTRL, 0)]


def test_other_programs_do_not_see_the_surface(bench: Bench) -> None:
    other = Reader("Thistle pad")
    key(bench.pad, e.BTN_EAST, 1)
    key(bench.pad, e.BTN_EAST, 0)
    assert bench.keys.events(2) == [(e.KEY_A, 1), (e.KEY_A, 0)]
    assert other.silent()
    other.device.close()


def test_axes_press_in_their_directions(bench: Bench) -> None:
    for axis, values in ((e.ABS_HAT0X, (-1, 0)), (e.ABS_Y, (-20000, -30000, -5000)), (e.ABS_RZ, (100, 200, 10))):
        for value in values:
            bench.pad.write(e.EV_ABS, axis, value)
            bench.pad.syn()
    expected = [(code, value) for code in (e.KEY_LEFT, e.KEY_PAGEUP, e.KEY_SPACE) for value in (1, 0)]
    assert bench.keys.events(6) == expected


def test_tap_and_hold_are_told_apart(bench: Bench) -> None:
    key(bench.pad, e.BTN_NORTH, 1)
    key(bench.pad, e.BTN_NORTH, 0)
    assert bench.keys.events(2) == [(e.KEY_M, 1), (e.KEY_M, 0)]
    key(bench.pad, e.BTN_NORTH, 1)
    assert bench.keys.events(1) == [(e.KEY_O, 1)]
    key(bench.pad, e.BTN_NORTH, 0)
    assert bench.keys.events(1) == [(e.KEY_O, 0)]


def test_unbound_keys_are_handed_on(bench: Bench) -> None:
    for code in (e.KEY_KP8, e.KEY_KP7):
        key(bench.keypad, code, 1)
        key(bench.keypad, code, 0)
    assert bench.keys.events(6) == [
        (e.KEY_KP8, 1), (e.KEY_KP8, 0),
        (e.KEY_LEFTSHIFT, 1), (e.KEY_F5, 1), (e.KEY_F5, 0), (e.KEY_LEFTSHIFT, 0),
    ]  # fmt: skip


def test_a_mouse_still_moves_and_its_side_keys_are_bound(bench: Bench) -> None:
    bench.mouse.write(e.EV_REL, e.REL_X, 7)
    bench.mouse.write(e.EV_REL, e.REL_Y, -3)
    bench.mouse.syn()
    assert bench.pointer.events(2, (e.EV_REL,)) == [(e.REL_X, 7), (e.REL_Y, -3)]
    bench.mouse.write(e.EV_REL, e.REL_WHEEL_HI_RES, 120)
    bench.mouse.write(e.EV_REL, e.REL_WHEEL, 1)
    bench.mouse.syn()
    assert sorted(bench.pointer.events(2, (e.EV_REL,))) == [(e.REL_WHEEL, 1), (e.REL_WHEEL_HI_RES, 120)]
    key(bench.mouse, e.BTN_LEFT, 1)
    key(bench.mouse, e.BTN_LEFT, 0)
    assert bench.pointer.events(2) == [(e.BTN_LEFT, 1), (e.BTN_LEFT, 0)]
    key(bench.mouse, e.BTN_MIDDLE, 1)
    key(bench.mouse, e.BTN_MIDDLE, 0)
    key(bench.side, e.KEY_1, 1)
    key(bench.side, e.KEY_1, 0)
    key(bench.side, e.KEY_2, 1)
    key(bench.side, e.KEY_2, 0)
    expected = [(code, value) for code in (e.KEY_D, e.KEY_C, e.KEY_2) for value in (1, 0)]
    assert bench.keys.events(6) == expected


def test_a_storm_that_overflows_the_kernels_buffer_ends_right(bench: Bench) -> None:
    key(bench.pad, e.BTN_EAST, 1)
    assert bench.keys.events(1) == [(e.KEY_A, 1)]
    bench.run.process.send_signal(signal.SIGSTOP)
    key(bench.pad, e.BTN_EAST, 0)
    for _ in range(400):
        key(bench.pad, e.BTN_SOUTH, 1)
        key(bench.pad, e.BTN_SOUTH, 0)
    key(bench.pad, e.BTN_WEST, 1)
    bench.run.process.send_signal(signal.SIGCONT)
    wait_for(lambda: bench.keys.down() == [e.KEY_B], "west alone to be down")
    key(bench.pad, e.BTN_WEST, 0)
    wait_for(lambda: not bench.keys.down(), "nothing to be down")
    bench.keys.drain()


def test_pause_gives_the_surfaces_to_other_programs(bench: Bench) -> None:
    other = Reader("Thistle pad")
    key(bench.pad, e.BTN_START, 1)
    key(bench.pad, e.BTN_START, 0)
    bench.run.says("paused")
    other.drain()
    key(bench.pad, e.BTN_EAST, 1)
    key(bench.pad, e.BTN_EAST, 0)
    assert other.events(2) == [(e.BTN_EAST, 1), (e.BTN_EAST, 0)]
    assert bench.keys.silent()
    key(bench.pad, e.BTN_START, 1)
    bench.run.says("running again")
    key(bench.pad, e.BTN_START, 0)
    time.sleep(0.5)
    key(bench.pad, e.BTN_EAST, 1)
    key(bench.pad, e.BTN_EAST, 0)
    assert bench.keys.events(2) == [(e.KEY_A, 1), (e.KEY_A, 0)]
    other.device.close()


def test_unplugged_in_the_middle_and_plugged_in_again(bench: Bench) -> None:
    key(bench.pad, e.BTN_EAST, 1)
    assert bench.keys.events(1) == [(e.KEY_A, 1)]
    bench.pad.close()
    assert bench.keys.events(1) == [(e.KEY_A, 0)]
    bench.run.says("surface pad: gone")
    bench.run.says("profile: without-pad (")
    key(bench.keypad, e.KEY_KP8, 1)
    key(bench.keypad, e.KEY_KP8, 0)
    assert bench.keys.events(2) == [(e.KEY_KP8, 1), (e.KEY_KP8, 0)]
    bench.pad = pad(0x4D51)  # by its other link
    bench.run.says("surface pad: here now")
    bench.run.says("profile: base (")
    key(bench.pad, e.BTN_EAST, 1)
    key(bench.pad, e.BTN_EAST, 0)
    assert bench.keys.events(2) == [(e.KEY_A, 1), (e.KEY_A, 0)]


def test_a_second_fenko_says_that_the_first_has_the_devices(bench: Bench, desk: Path, tmp_path: Path) -> None:
    second = FenkoRun(desk, tmp_path / "log")
    second.says("another program has taken")
    assert second.end() == 0


def test_kill_leaves_nothing_down(bench: Bench) -> None:
    key(bench.pad, e.BTN_SOUTH, 1)
    key(bench.mouse, e.BTN_LEFT, 1)
    assert bench.keys.events(2) == [(e.KEY_LEFTCTRL, 1), (e.KEY_Z, 1)]
    assert bench.pointer.events(1) == [(e.BTN_LEFT, 1)]
    assert _console_modifiers() in (_CONSOLE_CTRL, None)
    bench.run.process.send_signal(signal.SIGKILL)
    bench.run.process.wait()
    # The kernel takes the virtual devices away with their process, and lifts what they held down as it does.
    wait_for(lambda: not _console_modifiers(), "the console to see Ctrl come up")
    for name in ("Fenko keys", "Fenko pointer"):
        wait_for(lambda name=name: node_named(name) is None, f"{name} to be gone")
    key(bench.pad, e.BTN_SOUTH, 0)
    key(bench.mouse, e.BTN_LEFT, 0)


_CONSOLE_CTRL = 4


def _console_modifiers() -> int | None:
    """The modifiers that the kernel's own text console holds for down (TIOCLINUX, subcode 6); None where it has no such console."""
    console = os.open("/dev/tty1", os.O_RDWR | os.O_NOCTTY)
    try:
        state = bytearray([6])
        fcntl.ioctl(console, 0x541C, state)
        return state[0]
    except OSError as why:
        if why.errno != errno.ENOTTY:
            raise
        return None
    finally:
        os.close(console)


def test_taken_over_only_when_all_keys_are_up(bench: Bench, desk: Path, tmp_path: Path) -> None:
    other = Reader("Tallow 17")
    key(bench.keypad, e.KEY_KPENTER, 1)  # still held from starting Fenko
    run = FenkoRun(desk, tmp_path / "log")
    run.says("will be taken over when all its keys are up")
    keys = Reader("Fenko keys")
    key(bench.keypad, e.KEY_KPENTER, 0)
    assert other.events(2) == [(e.KEY_KPENTER, 1), (e.KEY_KPENTER, 0)]
    time.sleep(1)
    key(bench.keypad, e.KEY_KP8, 1)
    assert keys.events(1) == [(e.KEY_KP8, 1)]
    assert other.silent()
    assert run.end() == 0
    assert "everything is released" in (tmp_path / "log").read_text()
    other.device.close()


@pytest.fixture
def public_desk() -> Iterator[Path]:
    """The desk where any user may read it."""
    with tempfile.TemporaryDirectory(dir="/tmp") as name:
        folder = Path(name)
        folder.chmod(0o755)
        (folder / "desk.toml").write_text(DESK)
        yield folder


def test_what_another_program_has_is_taken_when_it_lets_go(bench: Bench, desk: Path, tmp_path: Path) -> None:
    other = Reader("Thistle pad")
    other.device.grab()
    run = FenkoRun(desk, tmp_path / "log")
    run.says("another program has taken")
    run.says("is running")
    keys = Reader("Fenko keys")
    other.device.ungrab()
    run.says("surface pad: here now")
    run.says("profile: base (")
    key(bench.pad, e.BTN_EAST, 1)
    key(bench.pad, e.BTN_EAST, 0)
    assert keys.events(2) == [(e.KEY_A, 1), (e.KEY_A, 0)]
    assert run.log.read_text().count("another program has taken") == 1
    other.device.close()
    assert run.end() == 0


def test_without_permission_the_remedy_is_said(public_desk: Path) -> None:
    done = run_fenko("run", "--desk", str(public_desk), user="nobody")
    assert done.returncode == 1
    assert "/dev/uinput may not be written by this user" in done.stderr
    assert "sudo tee -a /etc/udev/rules.d/60-fenko.rules" in done.stderr
    assert "Traceback" not in done.stderr


def test_permission_that_comes_a_moment_later_is_waited_for(bench: Bench, public_desk: Path, tmp_path: Path) -> None:
    bench.pad.close()
    bench.keypad.close()
    run = FenkoRun(public_desk, tmp_path / "log", user="nobody", command="try")
    run.says("surface pad: not here yet")
    bench.pad = pad()
    os.chmod(Reader("Thistle pad").device.path, 0o644)
    run.says("surface pad: here now")
    bench.keypad = keypad()  # and nobody gives permission for this one
    run.says("surface keypad: ")
    run.says('ATTRS{id/product}=="4d17"')
    said = run.log.read_text()
    assert said.count("may not be read by this user") == 2  # the mouse at the start, the keypad now
    assert run.end() == 0
