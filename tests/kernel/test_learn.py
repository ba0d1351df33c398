"""Learning by pressing real devices and performing on a real keyboard; and the keyboard's modifiers by the kernel."""

from __future__ import annotations

import select
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from bench_devices import FenkoRun, Reader, is_free, jog, key, keyboard, keypad, node_named, pad, wait_for
from evdev import ecodes as e

from fenko.core.plan import Surface
from fenko.devices.modifiers import MODIFIER_CODES
from fenko.devices.node import OpenNode
from fenko.system.things import list_nodes
from terminal import Terminal

pytestmark = pytest.mark.long

DESK = """# The desk of a lab.
format = 1
[output]
keys = "kernel"
layout = "de"
[surface.pad]
kind = "gamepad"
links = ["usb 1209:4d50"]
[surface.keypad]
kind = "keypad"
links = ["usb 1209:4d17"]
[surface.jog]
kind = "ring-and-dial"
links = ["usb 1209:4d2b"]

[profile.base.on.pad]
south = "a" # the first
[profile.base.layer.coarse]
while = "shift"
[profile.base.layer.coarse.on.pad]
south = "f8"
"""
_LITTLE = 0.03


@pytest.fixture
def desk(tmp_path: Path) -> Path:
    (tmp_path / "desk.toml").write_text(DESK)
    return tmp_path


class BindingEditor:
    """`fenko learn` on a terminal, with hands on the devices."""

    def __init__(self, desk: Path) -> None:
        self.devices = {"pad": pad(), "keypad": keypad(), "jog": jog(), "keyboard": keyboard()}
        for name in ("Thistle pad", "Tallow 17", "Harrow wheel", "Plain keyboard"):
            wait_for(lambda name=name: node_named(name), name)
        self.terminal = Terminal("learn", "--desk", str(desk), "--profile", "base", "--label", "", "--colour", "", "--icon", "")  # fmt: skip
        self.says, self.line = self.terminal.says, self.terminal.line

    def keys(self, device: str, *changes: tuple[int, int]) -> None:
        """Key changes, each a report of its own and a little after the one before."""
        for code, value in changes:
            key(self.devices[device], code, value)
            time.sleep(_LITTLE)

    def close(self) -> None:
        """Unplugs everything."""
        self.terminal.process.kill()
        for device in self.devices.values():
            device.close()


@pytest.fixture
def lesson(desk: Path) -> Iterator[BindingEditor]:
    one = BindingEditor(desk)
    yield one
    one.close()


def test_controls_are_pressed_and_shortcuts_performed(lesson: BindingEditor, desk: Path) -> None:
    lesson.says("Press a control")
    # A press, and a shortcut of which the fingers let go in any order; the layout's z is where the kernel has y.
    lesson.keys("pad", (e.BTN_EAST, 1), (e.BTN_EAST, 0))
    lesson.says("pad east")
    lesson.says("nothing is bound there")
    lesson.line("")
    lesson.says("perform it now")
    wait_for(lambda: not is_free(lesson.devices["keyboard"]), "the keyboard to be taken")
    lesson.keys("keyboard", (e.KEY_LEFTCTRL, 1), (e.KEY_LEFTSHIFT, 1), (e.KEY_Y, 1), (e.KEY_LEFTCTRL, 0), (e.KEY_Y, 0), (e.KEY_LEFTSHIFT, 0))  # fmt: skip
    lesson.says('east = "ctrl+shift+z"')
    wait_for(lambda: is_free(lesson.devices["keyboard"]), "the keyboard to be given back")

    # Two at once, and a key of the number pad.
    lesson.says("Press a control")
    lesson.keys("pad", (e.BTN_WEST, 1), (e.BTN_TL, 1), (e.BTN_WEST, 0), (e.BTN_TL, 0))
    lesson.says("pad west+shoulder-left")
    lesson.line("")
    lesson.says("perform it now")
    wait_for(lambda: not is_free(lesson.devices["keyboard"]), "the keyboard to be taken")
    lesson.keys("keyboard", (e.KEY_KP5, 1), (e.KEY_KP5, 0))
    lesson.says('"west+shoulder-left" = "kp5"')

    # A dial is turned, a control is held, what it did before becomes a tap.
    lesson.says("Press a control")
    lesson.devices["jog"].write(e.EV_REL, e.REL_DIAL, -1)
    lesson.devices["jog"].syn()
    lesson.says("jog dial.left")
    lesson.line("left x3")
    lesson.says('dial.left = "left x3"')
    lesson.says("Press a control")
    key(lesson.devices["pad"], e.BTN_SOUTH, 1)
    lesson.says("pad south hold")
    key(lesson.devices["pad"], e.BTN_SOUTH, 0)
    lesson.says("press: a")
    lesson.line('type "ö"')
    lesson.says('south = { tap = "a", hold = "type \\"ö\\"" } # the first')

    # A macro, ended by a pause; then it is taken back.
    lesson.says("Press a control")
    lesson.keys("keypad", (e.KEY_KP7, 1), (e.KEY_KP7, 0))
    lesson.says("keypad kp7")
    lesson.line("record")
    lesson.says("perform it now")
    wait_for(lambda: not is_free(lesson.devices["keyboard"]), "the keyboard to be taken")
    lesson.keys("keyboard", (e.KEY_LEFTALT, 1), (e.KEY_TAB, 1), (e.KEY_TAB, 0), (e.KEY_TAB, 1), (e.KEY_TAB, 0), (e.KEY_LEFTALT, 0), (e.KEY_ENTER, 1), (e.KEY_ENTER, 0))  # fmt: skip
    lesson.says('kp7 = "press alt then tab x2 then lift alt then enter"')
    lesson.says("Press a control")
    lesson.line("undo")
    lesson.says("taken back: kp7")
    lesson.line("stop")
    assert lesson.terminal.end(60) == 0
    text = (desk / "desk.toml").read_text()
    before, after = DESK.splitlines(), text.splitlines()
    assert [line for line in before if line not in after] == ['south = "a" # the first']
    assert "kp7" not in text and after[0] == "# The desk of a lab."


def test_the_kernel_tells_of_modifiers_and_of_nothing_else(desk: Path, tmp_path: Path) -> None:
    board, thistle = keyboard(), pad()
    wait_for(lambda: node_named("Plain keyboard"), "the keyboard")
    node = next(node for node in list_nodes() if node.name == "Plain keyboard")
    opened = OpenNode(node, Surface("board", "keyboard"), False, only=frozenset(MODIFIER_CODES))
    for code in (e.KEY_A, e.KEY_ENTER, e.KEY_1):
        key(board, code, 1)
        key(board, code, 0)
    assert not select.select([opened.fd], [], [], 2)[0], "letters stay between the person and their programs"
    key(board, e.KEY_RIGHTSHIFT, 1)
    assert select.select([opened.fd], [], [], 10)[0]
    assert [(address, value) for _, address, value in opened.read()] == [("board.rightshift", 1)]
    key(board, e.KEY_RIGHTSHIFT, 0)
    opened.close()

    run = FenkoRun(desk, tmp_path / "log")
    run.says("which modifiers are held is told by the kernel")
    run.says("is running")
    sent = Reader("Fenko keys")

    def press() -> list[tuple[int, int]]:
        key(thistle, e.BTN_SOUTH, 1)
        key(thistle, e.BTN_SOUTH, 0)
        return sent.events(2)

    assert press() == [(e.KEY_A, 1), (e.KEY_A, 0)]
    key(board, e.KEY_RIGHTSHIFT, 1)
    time.sleep(1)
    assert press() == [(e.KEY_F8, 1), (e.KEY_F8, 0)]
    board.close()  # unplugged with Shift held: nobody holds it any longer
    time.sleep(1)
    assert press() == [(e.KEY_A, 1), (e.KEY_A, 0)]
    board = keyboard()
    time.sleep(2)
    key(board, e.KEY_LEFTSHIFT, 1)
    time.sleep(1)
    assert press() == [(e.KEY_F8, 1), (e.KEY_F8, 0)]
    key(board, e.KEY_LEFTSHIFT, 0)
    assert run.end() == 0
    board.close()
    thistle.close()
