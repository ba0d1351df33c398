"""Trying a desk: what is shown instead of sent, what arrives in a window, and the keyboard's modifiers in a running
desk, all on a real X server."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from fenko.core.arrival import PATIENCE, Arrivals
from running import Running, press, take
from screen import Screen, needs_screen, screen
from started import run_fenko
from support import FENKO, MakeDesk, Run, wait_for

DESK = """
[surface.pad]
kind = "gamepad"
[output]
keys = "x11"
[profile.base.on.pad]
south = { do = "ctrl+shift+b", label = "Split" }
east = "alt+tab"
north = 'type "Aö!東"'
west = "f6"
start = "shift"
select = "plus"
mode = "space"
[profile.frames]
when = { app = "snipwell" }
[profile.frames.on.pad]
south = "kp5"
west = "layer trim"
[profile.frames.layer.trim.on.pad]
south = "f7"
[profile.frames.layer.coarse]
while = "shift"
on.pad.south = "f8 x2"
[profile.frames.layer.coarser]
while = ["ctrl", "shift"]
on.pad.south = "f9"
"""


@pytest.fixture
def shown() -> Iterator[Screen]:
    with screen() as one:
        yield one


# --- Without a screen ---


def test_what_would_be_sent_is_shown_by_name(fenko: Run, make_desk: MakeDesk, tmp_path: Path) -> None:
    events = [*press(0.1, "south"), (0.3, "west", 1), *press(0.4, "south"), (0.6, "west", 0), *press(0.8, "mode", 0.1)]
    played = take(tmp_path / "t.jsonl", *events)
    desk = make_desk(DESK)
    done = fenko("try", "--desk", desk, "--play", played)
    assert done.returncode == 0, done.stderr
    lines = [line.split(None, 1)[1] for line in done.stdout.splitlines()[1:]]
    assert [" ".join(line.split()) for line in lines if line.startswith("pad")] == [
        "pad south press base Split · ctrl+shift+b ctrl+shift+b", "pad west press base f6 f6",
        "pad south press base Split · ctrl+shift+b ctrl+shift+b", "pad mode press base space space",
    ]  # fmt: skip
    framed = fenko("try", "--desk", desk, "--app", "snipwell", "--play", played).stdout
    rows = [" ".join(line.split()[1:]) for line in framed.splitlines()]
    assert "pad west press frames layer trim → layer trim" in rows
    assert "pad south press frames/trim f7 f7" in rows
    assert "pad south press frames kp5 kp5" in rows[:4]


def test_a_window_needs_a_screen(fenko: Run, make_desk: MakeDesk) -> None:
    done = fenko("try", "--window", "--desk", make_desk(DESK), DISPLAY="")
    assert done.returncode == 1 and "DISPLAY is not set" in done.stderr
    assert fenko("try", "--window", "--format", "jsonl", "--desk", make_desk(DESK)).returncode == 2


# --- What arrives ---


def _keys(*keys: str, t: float = 1.0) -> list[Any]:
    return [*((t, "keys", "down", key) for key in keys), *((t, "keys", "up", key) for key in reversed(keys))]


def test_what_is_sent_and_does_not_come_is_lost() -> None:
    arrivals = Arrivals()
    arrivals.sent(_keys("ctrl", "b"), 1.0)
    arrivals.sent(_keys("alt", "tab"), 1.1)
    arrivals.sent(_keys("shift", "f5"), 1.2)
    assert arrivals.due == 1.0 + PATIENCE
    assert arrivals.arrived(29, [None, None], []) == []  # ctrl itself, on the way
    assert [line.split() for line in arrivals.arrived(48, ["b", "B"], ["ctrl"])] == [["ctrl+b", "ctrl+b"]]
    # What came later and is there tells that what came before is lost.
    assert [line.split() for line in arrivals.arrived(63, [None, None], ["shift"])] == [
        ["alt+tab", "-", "LOST"], ["shift+f5", "shift+f5"]
    ]  # fmt: skip
    arrivals.sent([(2.0, "keys", "type", "Ä")], 2.0)
    assert arrivals.overdue(2.0 + PATIENCE - 0.01) == []
    assert [line.split() for line in arrivals.overdue(2.0 + PATIENCE)] == [['"Ä"', "of", '"Ä"', "-", "LOST"]]
    assert (arrivals.count, arrivals.lost) == (4, 2)
    (line,) = arrivals.arrived(30, ["a", "A"], ["shift"])
    assert line.split(None, 2) == ["-", "shift+a", "not sent by this desk just now"] or "shift+a" in line


def test_a_key_of_its_own_or_by_another_name() -> None:
    arrivals = Arrivals()
    arrivals.sent([(1.0, "keys", "down", "shift")], 1.0)
    assert "shift" in arrivals.arrived(42, [None, None], [])[0]
    arrivals.sent([(1.0, "keys", "up", "shift"), *_keys("!"), (1.0, "pointer", "down", "left")], 1.0)
    assert arrivals.arrived(2, ["1", "!"], ["shift"])[0].split() == ["!", "!"]
    assert arrivals.count == 2  # the button goes to whatever is under the pointer


@needs_screen
def test_a_window_takes_the_keys_for_real(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    events = [
        event
        for number, control in enumerate(["south", "west", "north", "start", "select", "mode", "east"])
        for event in press(0.5 + number * 0.7, control)
    ]
    done = run_fenko("try", "--window", "--desk", str(make_desk(DESK)), "--play", take(tmp_path / "t.jsonl", *events), env=shown.environment, timeout=60)  # fmt: skip
    assert [line.split() for line in done.stdout.splitlines()[1:]] == [
        ["ctrl+shift+b", "ctrl+shift+b"], ["f6", "f6"], ['"A"', "of", '"Aö!東"', "A"], ['"ö"', "of", '"Aö!東"', "ö"],
        ['"!"', "of", '"Aö!東"', "!"], ['"東"', "of", '"Aö!東"', "東"], ["shift", "shift"], ["plus", "+"], ["space", "space"],
        # The window manager keeps this one for itself.
        ["alt+tab", "-", "LOST"],
    ], done.stdout + done.stderr  # fmt: skip
    assert done.returncode == 1 and "1 of 10 did not arrive" in done.stderr
    assert shown.keys_down() == []


@needs_screen
def test_ctrl_c_and_closing_the_window_end_it(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    desk = str(make_desk(DESK))
    events = [event for n in range(60) for event in press(0.3 + n, "start", 0.9)]
    played = take(tmp_path / "t.jsonl", *events)
    for how in ("signal", "window"):
        trying = Running(shown, tmp_path / f"{how}.log", "--window", "--desk", desk, "--play", played, command="try")
        trying.says("shift")
        if how == "signal":
            trying.process.terminate()
        else:
            window = shown.ask("xdotool", "search", "--class", "fenko-try").stdout.split()[-1]
            shown.ask("xdotool", "windowclose", window)
        assert trying.process.wait(20) in (0, 1)
        assert "Traceback" not in trying.log.read_text()
        assert shown.keys_down() == []


# --- The ordinary keyboard's modifiers ---


class _Typist:
    """Presses keys of the server's own keyboard, as a person does, and not by what Fenko sends with."""

    def __init__(self, display: str) -> None:
        import xcffib
        import xcffib.xinput
        import xcffib.xproto
        import xcffib.xtest

        self.connection = xcffib.connect(display)
        self._test = self.connection(xcffib.xtest.key)
        name = "XInputExtension"
        self._first = self.connection.core.QueryExtension(len(name), name).reply().first_event
        devices = self.connection(xcffib.xinput.key)
        devices.XIQueryVersion(2, 2).reply()
        keyboards = [one for one in devices.XIQueryDevice(0).reply().infos if one.type == 4]
        self._device = next(one.deviceid for one in keyboards if "XTEST" not in one.name.to_string())

    def key(self, keycode: int, on: bool) -> None:
        self._test.FakeInput(self._first + (1 if on else 2), keycode, 0, 0, 0, 0, self._device, is_checked=True).check()


@needs_screen
def test_modifiers_of_the_keyboard_change_what_a_control_does(
    shown: Screen, tmp_path: Path, make_desk: MakeDesk
) -> None:
    shift, ctrl, letter = 50, 37, 38
    window = shown.terminal("Snipwell", "Reel 2", tmp_path / "typed")
    shown.raise_window(window)
    events = [event for n in range(150) for event in press(0.3 + n / 5, "south", 0.1)]
    played = take(tmp_path / "t.jsonl", *events)
    trying = Running(
        shown, tmp_path / "log", "--desk", str(make_desk(DESK)), "--play", played, command="try", unbuffered=True
    )
    trying.says("which modifiers are held is told by display")
    trying.says("frames          kp5")
    typist = _Typist(shown.display)
    typist.key(shift, True)
    trying.says("frames/coarse   f8 x2")
    typist.key(ctrl, True)
    trying.says("frames/coarser  f9")
    typist.key(ctrl, False)
    typist.key(shift, False)
    before = len(trying.log.read_text())
    trying.says("layer coarse off")
    typist.key(letter, True)
    typist.key(letter, False)
    trying.says("frames          kp5", after=before)
    # What Fenko or anything else sends is not what a person holds.
    shown.ask("xdotool", "keydown", "shift")
    before = len(trying.log.read_text())
    trying.says("frames          kp5", after=before)
    assert "coarse" not in trying.log.read_text()[before:]
    shown.ask("xdotool", "keyup", "shift")
    assert trying.end() == 0


@needs_screen
def test_nothing_is_typed_into_the_window_that_comes_in_front(
    shown: Screen, tmp_path: Path, make_desk: MakeDesk
) -> None:
    typed = tmp_path / "typed"
    terminal = shown.terminal("Snipwell", "Reel 2", typed)
    shown.raise_window(terminal)
    desk = make_desk(DESK.replace('mode = "space"', "mode = 'type \"stray\" then enter'"))
    events = [event for n, control in enumerate(["west", "east", "mode", "mode"]) for event in press(1 + n, control)]
    trying = Running(
        shown, tmp_path / "log", "--window", "--desk", str(desk), "--play", take(tmp_path / "t.jsonl", *events),
        command="try",
    )  # fmt: skip
    trying.says("the window is not in front any more")
    assert trying.process.wait(20) == 1
    assert "stray" not in trying.log.read_text()
    shown.raise_window(terminal)

    def arrives() -> bool:
        """A busy window manager says that a window is in front a little before it hears the first key."""
        shown.ask("xdotool", "type", "--delay", "30", "hand\n")
        return typed.exists() and "hand\n" in typed.read_text()

    wait_for(arrives, "what a hand types")
    assert "stray" not in typed.read_text()
    assert shown.keys_down() == []


def test_a_desk_that_is_tried_is_found_and_remembers_nothing(tmp_path: Path, make_desk: MakeDesk) -> None:
    desk = make_desk(
        'format = 1\n[surface.pad]\nkind = "gamepad"\n[value.lamp]\nkeep = true\n[journal]\nkeep = "90 days"\n'
        '[profile.base.on.pad]\nsouth = "value lamp to 40"\n'
    )
    taken = tmp_path / "take.jsonl"
    lines = ['{"take": 1, "name": "t", "surfaces": {"pad": "gamepad"}}']
    lines += [f'{{"t": {t}, "surface": "pad", "control": "south", "value": {v}}}' for t, v in ((0.1, 1), (600, 0))]
    taken.write_text("\n".join(lines) + "\n")
    (tmp_path / "run").mkdir(mode=0o700)
    environment = os.environ | {"XDG_RUNTIME_DIR": str(tmp_path / "run"), "XDG_STATE_HOME": str(tmp_path / "state")}
    command = [*FENKO, "try", "--desk", str(desk), "--play", str(taken)]
    process = subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:

        def status() -> subprocess.CompletedProcess[str]:
            return run_fenko("status", "--format", "json", env=environment)

        wait_for(lambda: status().returncode == 0, "it is found")
        values = [*FENKO, "values", "--format", "json"]
        wait_for(
            lambda: '"value": 40' in subprocess.run(values, env=environment, capture_output=True, text=True).stdout,
            "its value",
        )
        done = run_fenko("set", "timing.hold", "300ms", "--for", "1s", env=environment)
        assert done.returncode == 0, done.stderr
    finally:
        process.terminate()
        assert process.wait(10) == 0
    assert not list((tmp_path / "state").rglob("*.json")) and not list((tmp_path / "state").rglob("*journal*"))
