"""Virtual devices that are real to the kernel, and a reader of what Fenko sends."""

from __future__ import annotations

import os
import select
import signal
import time
from glob import glob
from pathlib import Path

from evdev import AbsInfo, InputDevice, UInput, ecodes

from fenko.system.kernel import open_device
from started import Started
from support import wait_for

PATIENCE = 60.0
"""Seconds to wait for anything: the lab is slow at what is new to it."""

STICK = AbsInfo(0, -32768, 32767, 16, 128, 0)
TRIGGER = AbsInfo(0, 0, 255, 0, 0, 0)
HAT = AbsInfo(0, -1, 1, 0, 0, 0)


def pad(product: int = 0x4D50) -> UInput:
    """The Thistle pad: buttons, two sticks, triggers, a hat."""
    axes = [(ecodes.ABS_X, STICK), (ecodes.ABS_Y, STICK), (ecodes.ABS_Z, TRIGGER), (ecodes.ABS_RZ, TRIGGER),
            (ecodes.ABS_HAT0X, HAT), (ecodes.ABS_HAT0Y, HAT)]  # fmt: skip
    keys = [*range(ecodes.BTN_SOUTH, ecodes.BTN_THUMBR + 1)]
    return UInput({ecodes.EV_KEY: keys, ecodes.EV_ABS: axes}, name="Thistle pad", vendor=0x1209, product=product,
                  bustype=ecodes.BUS_USB, phys="usb-lab-1/input0")  # fmt: skip


def keypad() -> UInput:
    """The Tallow 17: a number pad."""
    keys = [*range(71, 84), ecodes.KEY_KPENTER, ecodes.KEY_KPSLASH, ecodes.KEY_NUMLOCK]
    return UInput({ecodes.EV_KEY: keys}, name="Tallow 17", vendor=0x1209, product=0x4D17, bustype=ecodes.BUS_USB,
                  phys="usb-lab-2/input0")  # fmt: skip


def mouse() -> tuple[UInput, UInput]:
    """The Burr 12: a mouse, and a keyboard for its side keys."""
    common = {"vendor": 0x1209, "product": 0x4D12, "bustype": ecodes.BUS_USB}
    moves = [ecodes.REL_X, ecodes.REL_Y, ecodes.REL_WHEEL, ecodes.REL_WHEEL_HI_RES]
    buttons = [ecodes.BTN_LEFT, ecodes.BTN_RIGHT, ecodes.BTN_MIDDLE]
    return (
        UInput({ecodes.EV_KEY: buttons, ecodes.EV_REL: moves}, name="Burr 12", phys="usb-lab-3/input0", **common),
        UInput({ecodes.EV_KEY: list(range(2, 14))}, name="Burr 12 Keyboard", phys="usb-lab-3/input1", **common),
    )


def keyboard() -> UInput:
    """An ordinary keyboard, which is no surface of anybody."""
    return UInput({ecodes.EV_KEY: list(range(1, 128))}, name="Plain keyboard", vendor=0x1209, product=0x4D77,
                  bustype=ecodes.BUS_USB, phys="usb-lab-7/input0")  # fmt: skip


def jog() -> UInput:
    """The Harrow wheel: a ring, a dial, four keys; and the kernel's report of the ring is there from the start."""
    return UInput(
        {ecodes.EV_KEY: [*range(ecodes.BTN_0, ecodes.BTN_4)], ecodes.EV_REL: [ecodes.REL_DIAL],
         ecodes.EV_ABS: [(ecodes.ABS_WHEEL, AbsInfo(0, -7, 7, 0, 0, 0))]},
        name="Harrow wheel", vendor=0x1209, product=0x4D2B, bustype=ecodes.BUS_USB, phys="usb-lab-4/input0",
    )  # fmt: skip


def twins() -> UInput:
    """A thing that nobody has described; two of its three keys send the same code."""
    return UInput({ecodes.EV_KEY: [ecodes.KEY_F13, ecodes.KEY_F14]}, name="Lab twins", vendor=0x1209, product=0x4D77,
                  bustype=ecodes.BUS_USB, phys="usb-lab-5/input0")  # fmt: skip


def node_named(name: str) -> InputDevice | None:
    """The open event node of that name."""
    for path in glob("/dev/input/event*"):
        try:
            device = open_device(path)
        except OSError:
            continue
        if device.name == name:
            return device
        device.close()
    return None


class Reader:
    """Another program that reads an event node."""

    def __init__(self, name: str) -> None:
        found = wait_for(lambda: node_named(name), f"the node {name}")
        assert isinstance(found, InputDevice)
        self.device = found

    def events(self, count: int, kinds: tuple[int, ...] = (ecodes.EV_KEY,)) -> list[tuple[int, int]]:
        """The next `count` events of these kinds as (code, value)."""
        found: list[tuple[int, int]] = []
        end = time.monotonic() + PATIENCE
        while len(found) < count and time.monotonic() < end:
            if select.select([self.device.fd], [], [], 0.2)[0]:
                found += [(event.code, event.value) for event in self.device.read() if event.type in kinds]
        assert len(found) == count, f"expected {count} events, got {found}"
        return found

    def silent(self, seconds: float = 1.0) -> bool:
        """Whether no key comes for a while."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            if select.select([self.device.fd], [], [], 0.1)[0]:
                return False
        return True

    def drain(self) -> None:
        """Reads and forgets everything, until nothing has come for a while."""
        while not self.silent(0.5):
            list(self.device.read())

    def down(self) -> list[int]:
        """The keys that the kernel says are down on this node."""
        return sorted(self.device.active_keys())


class FenkoRun:
    """`fenko run`, or `try`, with its messages."""

    def __init__(
        self,
        desk: Path,
        log: Path,
        *options: str,
        user: str | None = None,
        environment: dict[str, str] | None = None,
        command: str = "run",
    ) -> None:
        self.log = log
        environment = environment or {
            key: value for key, value in os.environ.items() if key not in ("DISPLAY", "WAYLAND_DISPLAY")
        }
        arguments = [command, "--desk", str(desk), *options]
        self.process = Started(arguments, log, env=environment, user=user)

    def says(self, text: str, times: int = 1) -> None:
        """Waits until it has said something."""
        wait_for(lambda: self.log.read_text().count(text) >= times, f"`{text}` in:\n{self.log.read_text()}")

    def end(self) -> int:
        """Ends it as Ctrl-C does."""
        self.process.send_signal(signal.SIGINT)
        return self.process.wait(PATIENCE)


def is_free(device: UInput) -> bool:
    """Whether other programs may still take a thing over."""
    other = InputDevice(device.device.path)
    try:
        other.grab()
    except OSError:
        return False
    finally:
        other.close()
    return True


def key(device: UInput, code: int, value: int) -> None:
    """One key change, as its own report."""
    device.write(ecodes.EV_KEY, code, value)
    device.syn()
