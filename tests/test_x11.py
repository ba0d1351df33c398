"""What is peculiar to a real X server."""

from __future__ import annotations

import contextlib
import json
import os
import re
import shutil
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from boards import Board
from fenko.system import xserver
from fenko.system.session import DisplayError
from running import DESK, Running, cue_board, press, take
from screen import Screen, needs_screen, screen
from started import Started, run_fenko
from support import FENKO, MakeDesk, wait_for

pytestmark = needs_screen


X11_DESK = DESK + '[output]\nkeys = "x11"\n'


@pytest.fixture
def shown() -> Iterator[Screen]:
    with screen() as one:
        yield one


def test_no_display_is_said_with_what_to_do(tmp_path: Path, make_desk: MakeDesk) -> None:
    environment = {key: value for key, value in os.environ.items() if key not in ("DISPLAY", "WAYLAND_DISPLAY")}
    done = run_fenko("run", "--desk", str(make_desk(X11_DESK)), env=environment, timeout=30)
    assert done.returncode == 1
    assert "DISPLAY is not set" in done.stderr
    assert "Traceback" not in done.stderr


def test_a_display_that_does_not_answer_is_said(shown: Screen, make_desk: MakeDesk, tmp_path: Path) -> None:
    with shown.hung():
        commands = (["run", "--desk", str(make_desk(X11_DESK))], ["windows"])
        for process in [Started(command, tmp_path / command[0], env=shown.environment) for command in commands]:
            assert process.wait(30) == 1
    for command in commands:
        assert f"display {shown.display} does not answer" in (tmp_path / command[0]).read_text()


def test_what_was_lent_is_given_back_at_a_quiet_moment(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    def mapping() -> str:
        return (
            shown.ask("xmodmap", "-pke").stdout
            if shutil.which("xmodmap")
            else shown.ask("xkbcomp", shown.display, "-").stdout
        )

    before = mapping()
    assert before
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", tmp_path / "frames.txt"))
    events = [*press(0.2, "south"), (60.0, "mode", 1)]
    running = Running(
        shown, tmp_path / "log", "--desk", str(make_desk(X11_DESK)), "--play", take(tmp_path / "t.jsonl", *events)
    )
    wait_for(lambda: mapping() != before, "characters to be lent")
    wait_for(lambda: mapping() == before, "them to be given back, while it still runs")
    assert running.process.poll() is None
    assert running.end() == 0


def test_a_server_that_another_has_to_itself_holds_up_nothing_else(
    shown: Screen, tmp_path: Path, make_desk: MakeDesk
) -> None:
    file = tmp_path / "frames.txt"
    frames = shown.terminal("Snipwell", "Reel 2", file)
    shown.raise_window(frames)

    def pointer() -> int:
        return int(re.findall(r"x:(\d+)", shown.ask("xdotool", "getmouselocation").stdout)[0])

    shown.ask("xdotool", "mousemove", "10", "10")
    events = [event for t in range(600) for event in press(0.5 + t / 10, "mode", 0.05)]
    texts = [event for t in range(3, 9) for event in press(t, "south")]
    drag = [(0.7, "stick-left.x", 1), (8.7, "stick-left.x", 0)]
    with cue_board(2) as (peer, tables):
        desk = f"""
            {tables}
            [profile.base.on.pad]
            mode = "osc /cue 1 then f9"
            stick-left = "pointer 100"
            south = 'type "Größe ✓ 東" then enter'
            """
        play = take(tmp_path / "t.jsonl", *sorted(events + texts + drag))
        running = Running(shown, tmp_path / "log", "--desk", str(make_desk(desk)), "--play", play)
        running.says("in front is Snipwell")
        while shown.keys_down() != [75]:
            peer.recv(100)
        for _ in range(2):
            with shown.grabbed(frames):
                for _ in range(30):
                    peer.recv(100)
        wait_for(lambda: file.exists() and len(file.read_text().splitlines()) >= 6, "all texts")
        assert file.read_text().replace("\x1b[20~", "").splitlines() == ["Größe ✓ 東"] * 6
        wait_for(lambda: 805 <= pointer() <= 815, "the pointer where it was moved to")
        assert running.end() == 0


def test_a_server_that_hangs_is_not_waited_for_at_the_end(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    desk = make_desk(
        '[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nmode = "f9"\neast = "pause"\nwest = "f8"\n'
    )
    presses = [event for t in range(20) for event in press(2 + t / 20, "west", 0.02)]
    held = take(tmp_path / "t.jsonl", (0.1, "mode", 1), *presses, *press(3.5, "east"), (60, "mode", 0))
    running = Running(shown, tmp_path / "log", "--desk", str(desk), "--play", held)
    wait_for(lambda: shown.keys_down() == [75], "f9 held")
    with shown.hung():
        running.says("paused")
        assert running.end() == 0
        assert "does not answer; what is held there is lifted as soon as it does" in running.log.read_text()
    wait_for(lambda: not shown.keys_down(), "the guard to lift the key")


def test_a_server_that_hangs_when_it_is_asked_is_given_up(shown: Screen, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(xserver, "ANSWERS_WITHIN", 0.5)
    with contextlib.closing(xserver.open_display(shown.display)) as display:
        pointer = display.connection.core.QueryPointer
        assert display.ask(pointer, display.root).root == display.root
        with shown.hung(), pytest.raises(DisplayError, match="does not answer"):
            display.ask(pointer, display.root)


@pytest.mark.long
def test_fenko_ends_while_the_server_owes_it_an_answer(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    with cue_board(30) as (peer, tables):
        desk = make_desk(f"""
            {tables}
            [profile.base.on.pad]
            west = "osc /cue 1 then a"
            """)
        held = take(tmp_path / "t.jsonl", *press(3, "west"), (60, "west", 0))
        running = Running(shown, tmp_path / "log", "--desk", str(desk), "--play", held)
        running.says("in front")
        with shown.hung():
            peer.recv(100)
            assert running.end() == 0


@pytest.mark.long
def test_a_server_that_has_been_given_up_and_answers_again_gets_keys_again(
    shown: Screen, tmp_path: Path, make_desk: MakeDesk
) -> None:
    desk = make_desk('[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nwest = "a"\nsouth = "f9"\n')
    again = [event for t in range(4, 60) for event in press(t, "south", 0.5)]
    running = Running(
        shown, tmp_path / "log", "--desk", str(desk), "--play", take(tmp_path / "t.jsonl", *press(3, "west"), *again)
    )
    running.says("is running")
    with shown.hung():
        wait_for(lambda: "is gone" in running.log.read_text(), "it to be given up", 30)
    running.says("is back")
    wait_for(lambda: shown.keys_down() == [75], "f9 held")
    assert running.end() == 0
    assert not shown.keys_down() and "Traceback" not in running.log.read_text()


def test_without_a_window_manager_nothing_is_in_front(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", tmp_path / "frames.txt"))
    running = Running(
        shown,
        tmp_path / "log",
        "--desk",
        str(make_desk(X11_DESK)),
        "--play",
        take(tmp_path / "t.jsonl", (60, "mode", 1)),
    )
    running.says("profile: frames")
    manager = next(process for process in shown.processes if process.args == ("openbox",))
    manager.kill()
    running.says("profile: base (in front is nothing)")
    shown.manage()
    running.says("profile: frames (in front is Snipwell")
    assert running.end() == 0


def test_a_stick_takes_the_pointer_from_one_window_to_the_other_and_clicks_it_to_the_front(
    shown: Screen, tmp_path: Path, make_desk: MakeDesk
) -> None:
    """Real windows of a real window manager; a trigger drags one of them by its title."""
    desk = make_desk("""
[output]
keys = "x11"
[surface.pad]
kind = "gamepad"
control.stick-left = { dead-zone = 0.1 }
[profile.base.on.pad]
stick-left = "pointer 800"
south = "button left"
""")
    shown.manage()
    left = shown.terminal("snipwell", "left", tmp_path / "left")
    right = shown.terminal("hushdesk", "right", tmp_path / "right")
    for window, x in ((left, 50), (right, 750)):
        wait_for(lambda window=window, x=x: _placed(shown, window, x), "the window in its place")
    shown.raise_window(left)
    shown.ask("xdotool", "mousemove", "200", "200")
    # 0.775 s at 0.91 of the way and 800 px/s: 558 px to the right; then a click.
    moves = [(0.5, "stick-left.x", 0.91), (1.275, "stick-left.x", 0.0), *press(1.6, "south")]
    run = Running(shown, tmp_path / "log", "--desk", str(desk), "--play", take(tmp_path / "take", *moves))
    assert run.process.wait(30) == 0, (tmp_path / "log").read_text()
    x, y = map(int, re.findall(r"[xy]:(\d+)", shown.ask("xdotool", "getmouselocation").stdout))
    assert abs(x - (200 + 0.9 * 800 * 0.775)) <= 3
    assert y == 200
    wait_for(lambda: shown.ask("xdotool", "getactivewindow").stdout.strip() == right, "the right window in front")


def _placed(shown: Screen, window: str, x: int) -> bool:
    shown.ask("xdotool", "windowsize", window, "400", "300", "windowmove", window, str(x), "100")
    found = re.search(r"X=(\d+)", shown.ask("xdotool", "getwindowgeometry", "--shell", window).stdout)
    return found is not None and abs(int(found[1]) - x) < 40


def test_windows_say_which_program_they_belong_to(shown: Screen, tmp_path: Path) -> None:
    shown.raise_window(shown.terminal("Snipwell", "Reel", tmp_path / "b"))
    said = run_fenko("windows", "--format", "json", env=shown.environment, check=True)
    front = next(window for window in json.loads(said.stdout) if window["front"])
    assert front["program"] == "xterm"
    assert front["path"].endswith("/xterm") and front["arguments"].startswith("-class Snipwell -T Reel")


def test_a_text_is_typed_as_if_the_person_held_no_modifier(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    """With Control held every character would be a shortcut; afterwards it is held again, for the next time too."""
    file = tmp_path / "frames.txt"
    desk = make_desk("[surface.pad]\nkind = 'gamepad'\n[profile.base.on.pad]\nsouth = 'type \"Größe ✓\\n\"'\n")
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    shown.ask("xdotool", "keydown", "ctrl")
    held = shown.keys_down()
    taken = take(tmp_path / "t.jsonl", *press(1.0, "south"), *press(2.0, "south"))
    command = [*FENKO, "run", "--desk", str(desk), "--play", taken]
    subprocess.run(command, env=shown.environment, check=True, capture_output=True)
    wait_for(lambda: file.exists() and len(file.read_text().splitlines()) == 2, "both")
    assert file.read_text().splitlines() == ["Größe ✓"] * 2
    assert shown.keys_down() == held
    shown.ask("xdotool", "keyup", "ctrl")
    assert not shown.keys_down()


def test_a_moment_between_two_windows_is_no_desktop(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    """What is pressed then is meant for the program, and not for base."""
    board = Board(tmp_path / "board")
    board.plug_in()
    board.start()
    file = tmp_path / "frames.txt"
    desk = make_desk(
        f'format = 1\n[surface.bench]\nkind = "board"\nlinks = ["serial {board.device}"]\n[surface.bench.control]\n'
        'red.sort = "button"\n[profile.base.on.bench]\nred = "f8"\n[profile.frames]\nwhen = { app = "snipwell" }\n'
        '[profile.frames.on.bench]\nred = "f9"\n'
    )
    window = shown.terminal("Snipwell", "Reel 2", file)
    shown.raise_window(window)
    running = Running(shown, tmp_path / "log", "--desk", str(desk))
    try:
        running.says("surface bench: here now")
        before = len(running.log.read_text())
        shown.ask("xprop", "-root", "-f", "_NET_ACTIVE_WINDOW", "32x", "-set", "_NET_ACTIVE_WINDOW", "0")
        time.sleep(0.3)  # longer than a window takes to settle
        board.hands(red="1")
        wait_for(shown.keys_down, "a key")
        assert shown.keys_down() == [75]  # F9
        board.hands()
        running.says("profile: base (in front is nothing)", before)  # a desktop without a window it is in the end
        board.hands(red="1")
        wait_for(lambda: shown.keys_down() == [74], "base's key")
        board.hands()
        assert running.end() == 0
    finally:
        board.unplug()
