"""The legend in a window: over all others, never in the way of the keyboard, gone with whoever started it."""

from __future__ import annotations

import json
import os
import select
import signal
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from desktops import desktop
from fenko.client import RunningDesk
from fenko.showing.legend_window import Spot
from fenko.system.child_process import ChildProcess
from fenko.system.wire import Failed
from screen import Screen, needs_screen, screen
from support import FENKO, MakeDesk, wait_for
from test_legend import DESK, started

LIT = 0xFFD24A
PAGE = 0x121518


@pytest.fixture
def shown() -> Iterator[Screen]:
    with screen() as one:
        yield one


def is_seen(one: Screen) -> bool:
    """Whether the window is there: a lot of its own dark colour."""
    return one.pixels(PAGE) > 20_000


def legend(one: Screen, *arguments: str) -> subprocess.Popen[bytes]:
    process = subprocess.Popen([*FENKO, "legend", "--window", *arguments], env=one.environment, start_new_session=True)
    one.processes.append(process)
    wait_for(lambda: is_seen(one), "the legend's window")
    return process


@needs_screen
def test_it_stays_on_top_and_leaves_the_keyboard_alone(shown: Screen, make_desk: MakeDesk, tmp_path: Path) -> None:
    typed = tmp_path / "typed"
    window = shown.terminal("Snipwell", "Reel", typed)
    shown.raise_window(window)
    running = started(shown, tmp_path, make_desk(DESK), (1.0, "west", 1))
    process = legend(shown, "pad")
    wait_for(lambda: shown.pixels(LIT) > 100, "what is held lit up")
    shown.ask("xdotool", "type", "--delay", "20", "still mine\n")
    wait_for(lambda: typed.exists() and typed.read_text() == "still mine\n", "the keys to arrive in the other window")
    # The other window comes to the same place and in front of everything that the window manager knows.
    shown.ask("xdotool", "windowsize", window, "1200", "760", "windowmove", window, "20", "20")
    shown.raise_window(window)
    other = shown.terminal("Hushdesk", "Sound", tmp_path / "other")
    shown.ask("xdotool", "windowsize", other, "1200", "760", "windowmove", other, "30", "30")
    shown.raise_window(other)
    wait_for(lambda: shown.pixels(PAGE, (700, 500, 560, 280)) > 2000, "the legend over both")
    shown.ask("xdotool", "mousemove", "1000", "700", "type", "--delay", "20", "here\n")
    wait_for(lambda: (tmp_path / "other").exists() and (tmp_path / "other").read_text() == "here\n", "keys over it")
    with RunningDesk() as desk:
        desk.switch("frames")
        assert desk.status()["profile"] == "frames"
    shown.ask("xdotool", "mousemove", "1000", "700", "click", "3")
    assert process.wait(10) == 0
    assert running.end() == 0


@needs_screen
def test_it_is_moved_and_grows_and_is_there_again(shown: Screen, make_desk: MakeDesk, tmp_path: Path) -> None:
    running = started(shown, tmp_path, make_desk(DESK))
    process = legend(shown)
    before = shown.pixels(PAGE)
    for command in (("mousemove", "1000", "600", "mousedown", "1"), ("mousemove", "700", "350"), ("mouseup", "1")):
        shown.ask("xdotool", *command)
    state = Path(os.environ["XDG_STATE_HOME"]) / "fenko/legend-window.json"
    kept = wait_for(lambda: state.exists() and json.loads(state.read_text()), "its place is kept")
    shown.ask("xdotool", "mousemove", "700", "350", "click", "4", "click", "4")
    wait_for(lambda: shown.pixels(PAGE) > before * 1.2, "it has grown")
    assert kept["scale"] == 1.0
    process.send_signal(signal.SIGINT)
    assert process.wait(10) == 0
    wait_for(lambda: not shown.pixels(PAGE), "it is gone")
    again = legend(shown)
    wait_for(lambda: shown.pixels(PAGE) > before * 1.2, "as large as it was")
    assert running.end() == 0
    wait_for(lambda: 0 < shown.pixels(PAGE) < before / 2, "only the words that no desk is running")
    once_more = started(shown, tmp_path, make_desk(DESK))
    wait_for(lambda: shown.pixels(PAGE) > before, "the next desk")
    assert once_more.end() == 0
    shown.stop()
    assert again.wait(10) == 1


HELD = DESK.replace("north = {", 'mode = "show legend"\nnorth = {')


def windows(folder: str) -> list[int]:
    """The processes of held windows of this test's person."""
    found = []
    for place in Path("/proc").iterdir():
        try:
            if (
                b"fenko.integrations.legend.ui.window" in (place / "cmdline").read_bytes()
                and folder.encode() in (place / "environ").read_bytes()
            ):
                found.append(int(place.name))
        except (OSError, ValueError):
            continue
    return found


@needs_screen
def test_a_held_control_shows_it(shown: Screen, make_desk: MakeDesk, tmp_path: Path) -> None:
    person = os.environ["XDG_RUNTIME_DIR"]
    take = [(number * 3.0 + offset, "mode", value) for number in range(1, 40) for offset, value in ((0, 1), (1.5, 0))]
    running = started(shown, tmp_path, make_desk(HELD), *take)
    first = wait_for(lambda: windows(person), "the window's process, though nothing is shown yet")
    for _ in range(2):
        wait_for(lambda: is_seen(shown), "it is shown while the control is held")
        place = shown.ask("xdotool", "mousemove", "640", "400", "getmouselocation", "--shell").stdout
        under = next(line for line in place.splitlines() if line.startswith("WINDOW"))
        assert "fenko" not in shown.ask("xprop", "-id", under.partition("=")[2], "WM_CLASS").stdout
        wait_for(lambda: not shown.pixels(PAGE), "and no longer")
    os.kill(first[0], signal.SIGKILL)
    wait_for(lambda: windows(person) not in ([], first), "a new one")
    wait_for(lambda: is_seen(shown), "shown again")
    os.kill(running.process.pid, signal.SIGKILL)
    wait_for(lambda: not shown.pixels(PAGE), "it goes with a desk that is killed")
    wait_for(lambda: not windows(person), "and so does its process")
    assert "show legend" in (tmp_path / "desk/desk.toml").read_text()


@given(
    st.tuples(st.integers(200, 4000), st.integers(200, 3000)), st.tuples(st.integers(1, 5000), st.integers(1, 4000)),
    st.integers(-6000, 6000), st.integers(-6000, 6000),
)  # fmt: skip
def test_it_is_on_the_screen_wherever_it_was_left(
    screen: tuple[int, int], size: tuple[int, int], x: int, y: int
) -> None:
    spot = Spot(x, y)
    left, top = spot.place(screen, size)
    assert left >= 0 and top >= 0
    assert (left + size[0] <= screen[0] or left == 0) and (top + size[1] <= screen[1] or top == 0)
    if size[0] <= screen[0] and size[1] <= screen[1]:
        spot.move((left, top), screen, size)
        assert spot.place(screen, size) == (left, top)


def test_without_a_screen_it_says_so(fenko: object, make_desk: MakeDesk) -> None:
    reasons: list[str] = []
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("DISPLAY", "")
        child = ChildProcess("fenko.integrations.legend.ui.window", Failed, print, reasons.append)
        child.start()
    while not reasons and select.select([child.fd], [], [], 20)[0]:
        child.readable()
    child.close()
    (reason,) = reasons
    assert "DISPLAY is not set" in reason and "Traceback" not in reason


def test_on_a_compositor_with_layers(make_desk: MakeDesk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Over all, and never in the way of the keyboard; dragged, larger, closed; held, and gone with a desk that is killed."""
    with desktop("sway") as one:
        monkeypatch.setenv("XDG_RUNTIME_DIR", one.environment["XDG_RUNTIME_DIR"])
        typed = tmp_path / "typed"
        one.raise_window(one.terminal("Snipwell", "Reel", typed))
        holds = [
            (number * 3.0 + offset, "mode", value) for number in range(1, 40) for offset, value in ((0, 1), (1.5, 0))
        ]
        running = started(one, tmp_path, make_desk(HELD), *holds)
        for _ in range(2):
            wait_for(lambda: one.pixels(PAGE) > 20_000, "it is shown while the control is held", 30)
            wait_for(lambda: not one.pixels(PAGE), "and no longer", 30)
        running.process.kill()
        running.process.wait()
        wait_for(lambda: not one.pixels(PAGE), "it goes with a desk that is killed", 30)

        running = started(one, tmp_path, make_desk(DESK))
        process = subprocess.Popen([*FENKO, "legend", "--window"], env=one.environment, start_new_session=True)
        one.processes.append(process)
        before = wait_for(lambda: one.pixels(PAGE), "the legend over the other window", 30)
        one.press(38, 36)
        wait_for(lambda: typed.exists() and typed.read_text() == "a\n", "the keys to arrive in the other window")
        one.cursor("set", "1000", "600")
        one.cursor("press", "button1")
        one.cursor("set", "700", "350")
        one.cursor("release", "button1")
        state = Path(os.environ["XDG_STATE_HOME"]) / "fenko/legend-window.json"
        wait_for(lambda: state.exists() and json.loads(state.read_text())["x"] < 700, "its place is kept")
        for _ in range(2):
            one.cursor("press", "button4")
            one.cursor("release", "button4")
        wait_for(lambda: one.pixels(PAGE) > before * 1.2, "it has grown")
        one.cursor("press", "button3")
        one.cursor("release", "button3")
        assert process.wait(20) == 0
        assert running.end() == 0
