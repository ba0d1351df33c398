"""Sticks and mice that move the pointer, on a real kernel."""

from __future__ import annotations

import os
import select
import threading
import time
from collections.abc import Iterator
from math import cos, radians, sin
from pathlib import Path

import pytest
from bench_devices import FenkoRun, Reader, key, mouse, pad
from evdev import AbsInfo, UInput
from evdev import ecodes as e

from support import wait_for

SPEED = 400
DESK = f"""
[output]
keys = "kernel"
layout = "us"
[surface.pad]
kind = "gamepad"
links = ["usb 1209:4d50"]
control.stick-left = {{ dead-zone = 0.2, outer = 0.9 }}
[surface.mouse]
kind = "mouse"
links = ["usb 1209:4d12"]
[profile.base.on.pad]
stick-left = "pointer {SPEED}"
trigger-right = "scroll 10"
south = "button left"
tilt = "scroll 10"
touch = {{ move = "pointer 1000", tap = "button middle" }}
tip-left = "button right"
[profile.base.layer.careful]
while = "pad.shoulder-left"
on.mouse.motion = "pointer x0.5"
"""


class Bench:
    """A pad, a mouse, a running desk, and a reader of its pointer."""

    def __init__(self, folder: Path) -> None:
        (folder / "desk.toml").write_text(DESK)
        self.pad, (self.mouse, self.side) = pad(), mouse()
        self.sensor, self.touch = sensor(), touch_area()
        self.run = FenkoRun(folder, folder / "log")
        self.run.says("is running")
        self.run.says("taken over", 2)
        self.pointer = Reader("Fenko pointer")

    def axis(self, axis: int, value: int) -> tuple[float, float]:
        """Moves an axis; between which times that was."""
        before = time.monotonic()
        self.pad.write(e.EV_ABS, axis, value)
        self.pad.syn()
        return before, time.monotonic()

    def moved(self, seconds: float = 0.0) -> dict[int, int]:
        """How far each axis of the pointer goes in that time, read all along, or until it stands still."""
        sums: dict[int, int] = {}
        end = time.monotonic() + seconds
        while time.monotonic() < end if seconds else not self.pointer.silent(0.5):
            if select.select([self.pointer.device.fd], [], [], 0.05)[0]:
                for event in self.pointer.device.read():
                    assert (event.type, event.code) != (e.EV_SYN, e.SYN_DROPPED)
                    if event.type == e.EV_REL:
                        sums[event.code] = sums.get(event.code, 0) + event.value
        return sums


def _sum(*parts: dict[int, int]) -> dict[int, int]:
    return {code: sum(part.get(code, 0) for part in parts) for part in parts for code in part}


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Bench]:
    # What a reader has not read after 64 events the kernel drops; this one reads before anybody else goes on.
    os.sched_setscheduler(0, os.SCHED_FIFO | os.SCHED_RESET_ON_FORK, os.sched_param(1))
    one = Bench(tmp_path_factory.mktemp("motion"))
    yield one
    os.sched_setscheduler(0, os.SCHED_OTHER, os.sched_param(0))
    one.run.process.kill()
    for device in (one.pad, one.mouse, one.side, one.sensor, one.touch):
        device.close()


def touch_area() -> UInput:
    """The touch area of the pad, a node of its own too."""
    ways = [(e.ABS_X, AbsInfo(0, 0, 1919, 0, 0, 0)), (e.ABS_Y, AbsInfo(0, 0, 941, 0, 0, 0))]
    return UInput(
        {e.EV_KEY: [e.BTN_LEFT, e.BTN_TOUCH], e.EV_ABS: ways}, name="Thistle pad Touchpad", vendor=0x1209, product=0x4D50,
        bustype=e.BUS_USB, phys="usb-lab-1/input0", input_props=[e.INPUT_PROP_POINTER],
    )  # fmt: skip


def sensor() -> UInput:
    """The motion sensor of the pad, a node of its own, as the kernel has them."""
    feels = [(axis, AbsInfo(0, -32767, 32767, 0, 0, 8192)) for axis in (e.ABS_X, e.ABS_Y, e.ABS_Z)]
    return UInput(
        {e.EV_ABS: feels}, name="Thistle pad Motion Sensors", vendor=0x1209, product=0x4D50, bustype=e.BUS_USB,
        phys="usb-lab-1/input0", input_props=[e.INPUT_PROP_ACCELEROMETER],
    )  # fmt: skip


def _between(far: int, speed: float, begun: tuple[float, float], ended: tuple[float, float]) -> None:
    """It went as far as it had to between two moments, each of which is known as well as it can be."""
    assert speed * (ended[0] - begun[1]) - 2 <= far <= speed * (ended[1] - begun[0]) + 2


def test_a_stick_moves_the_pointer_as_far_as_speed_times_time(bench: Bench) -> None:
    begun = bench.axis(e.ABS_X, 32767)
    moved = bench.moved(1.5)
    ended = bench.axis(e.ABS_X, 3000)  # within its dead zone, where a worn stick comes to rest
    moved = _sum(moved, bench.moved())
    assert set(moved) == {e.REL_X}
    _between(moved[e.REL_X], SPEED, begun, ended)


def test_scrolling_is_fine_and_whole(bench: Bench) -> None:
    begun = bench.axis(e.ABS_RZ, 255)
    moved = bench.moved(1.0)
    ended = bench.axis(e.ABS_RZ, 0)
    moved = _sum(moved, bench.moved())
    _between(-moved[e.REL_WHEEL_HI_RES], 1200, begun, ended)
    assert moved[e.REL_WHEEL] == -(-moved[e.REL_WHEEL_HI_RES] // 120)


def test_a_mouse_is_slowed_while_a_button_is_held(bench: Bench) -> None:
    for held, expected in ((0, 20), (1, 10), (0, 20)):
        key(bench.pad, e.BTN_TL, held)
        for _ in range(4):
            bench.mouse.write(e.EV_REL, e.REL_X, 5)
            bench.mouse.syn()
        assert bench.moved() == {e.REL_X: expected}


def test_a_pad_that_is_tilted_scrolls_and_tips(bench: Bench) -> None:
    """The sensor is a node of its own of the same thing; its axes are no sticks."""

    def hold(seconds: float, degrees: float) -> dict[int, int]:
        sums: dict[int, int] = {}
        end = time.monotonic() + seconds
        shake = 0
        while time.monotonic() < end:
            shake ^= 8  # a sensor is never still
            for axis, value in ((e.ABS_X, -sin(radians(degrees))), (e.ABS_Y, cos(radians(degrees)))):
                bench.sensor.write(e.EV_ABS, axis, round(8192 * value) + shake)
            bench.sensor.syn()
            sums = _sum(sums, bench.moved(0.02))
        return sums

    def held_down(buttons: list[int], degrees: float) -> None:
        """Waits for it, and reads meanwhile, so that the kernel drops nothing."""

        def down() -> bool:
            hold(0.05, degrees)
            return bench.pointer.down() == buttons

        wait_for(down, f"{buttons} to be down")

    assert hold(1.0, 0) == {}
    moved = hold(1.5, 20)
    assert set(moved) == {e.REL_HWHEEL, e.REL_HWHEEL_HI_RES}
    assert 0.6 * 1.5 < moved[e.REL_HWHEEL_HI_RES] / 120 / ((20 / 45 - 0.15) / 0.85 * 10) < 1.1 * 1.5
    hold(0.5, 0)
    bench.sensor.syn()
    bench.pointer.drain()
    hold_left = hold(1.0, -42)
    assert hold_left[e.REL_HWHEEL_HI_RES] < 0
    held_down([e.BTN_RIGHT], -42)
    hold(1.0, 0)
    held_down([], 0)


def test_a_finger_moves_the_pointer_and_taps(bench: Bench) -> None:
    def finger(*places: int) -> None:
        bench.touch.write(e.EV_KEY, e.BTN_TOUCH, 1)
        for x in places:
            bench.touch.write(e.EV_ABS, e.ABS_X, x)
            bench.touch.syn()
        bench.touch.write(e.EV_KEY, e.BTN_TOUCH, 0)
        bench.touch.syn()

    finger(960, 1152, 1344)
    moved = bench.moved()
    assert set(moved) == {e.REL_X}
    assert abs(moved[e.REL_X] - 1000 * (1344 - 960) / 1919) < 1  # what less than a pixel was left of before counts too
    finger(200)
    assert bench.pointer.events(2) == [(e.BTN_MIDDLE, 1), (e.BTN_MIDDLE, 0)]


def test_unplugged_while_it_is_deflected_it_stands_still(bench: Bench) -> None:
    begun = bench.axis(e.ABS_Y, 32767)
    moved = [bench.moved(0.5)]

    def unplug() -> None:
        for node in (bench.pad, bench.sensor, bench.touch):  # all nodes of one thing go together
            node.close()

    def gone() -> bool:
        moved.append(bench.moved(0.02))  # or the kernel drops what nobody reads
        return "surface pad: gone" in bench.run.log.read_text()

    before = time.monotonic()
    unplugging = threading.Thread(target=unplug)
    unplugging.start()
    wait_for(gone, "the pad to be gone")
    ended = (before, time.monotonic())
    unplugging.join()
    _between(_sum(*moved, bench.moved())[e.REL_Y], SPEED, begun, ended)
    bench.pad, bench.sensor, bench.touch = pad(), sensor(), touch_area()
    bench.run.says("surface pad: here now")


def test_a_killed_desk_moves_nothing(bench: Bench) -> None:
    bench.axis(e.ABS_X, -32768)
    assert bench.moved(1.0)[e.REL_X] < 0
    bench.run.process.kill()
    bench.run.process.wait(60)
    while True:  # until the node is gone with the process that made it
        try:
            if bench.pointer.silent(0.5):
                break
            list(bench.pointer.device.read())
        except OSError:
            break
    assert isinstance(bench.pad, UInput)
