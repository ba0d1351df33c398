"""What may go wrong on a real desktop: displays that go, hang or say too much, and Fenko ended in the middle of it. The same tests on each
of them."""

from __future__ import annotations

import contextlib
import signal
import subprocess
from pathlib import Path
from typing import Any

import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from desktops import shown
from running import DESK, Running, cue_board, press, take
from support import MakeDesk, tries, wait_for

__all__ = ["shown"]


@pytest.mark.parametrize("how", [signal.SIGTERM, signal.SIGINT, signal.SIGHUP])
def test_ending_releases(shown: Any, tmp_path: Path, make_desk: MakeDesk, how: signal.Signals) -> None:
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", tmp_path / "frames.txt"))
    running = Running(
        shown,
        tmp_path / "log",
        "--desk",
        str(make_desk(DESK)),
        "--play",
        take(tmp_path / "t.jsonl", (0.1, "mode", 1), (60, "mode", 0)),
    )
    wait_for(lambda: shown.keys_down() == [75], "f9 held")
    running.process.send_signal(how)
    assert running.process.wait(20) == 0
    assert not shown.keys_down()
    assert "everything is released" in running.log.read_text()


def test_a_display_that_goes_away_and_comes_back(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    events = [event for t in range(60) for event in press(0.5 + t, "mode", 0.5)]
    running = Running(
        shown, tmp_path / "log", "--desk", str(make_desk(DESK)), "--play", take(tmp_path / "t.jsonl", *events)
    )
    shown.listen(tmp_path)
    wait_for(lambda: shown.keys_down() == [75], "f9 held")
    shown.stop()
    running.says("is gone")
    shown.start()
    running.says("is back")
    shown.listen(tmp_path)
    wait_for(lambda: shown.keys_down() == [75], "f9 held again")
    assert running.end() == 0
    assert running.log.read_text().count("is gone") == 1
    assert "Traceback" not in running.log.read_text()


def test_a_display_that_hangs_holds_up_nothing_else(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    file = tmp_path / "frames.txt"
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    cues = [event for t in range(600) for event in press(0.5 + t / 10, "mode", 0.05)]
    texts = [event for t in range(3, 6) for event in press(t, "south")]
    held = [(7.0, "east", 1), (60.0, "east", 0)]
    play = take(tmp_path / "t.jsonl", *sorted(cues + texts + held))
    with cue_board(2) as (peer, tables):
        desk = make_desk(f"""
            {tables}
            [profile.base.on.pad]
            mode = "osc /cue 1"
            south = 'type "Größe ✓ 東" then enter'
            east = "f9"
            """)
        running = Running(shown, tmp_path / "log", "--desk", str(desk), "--play", play)
        running.says("in front is Snipwell")
        peer.recv(100)
        with shown.hung():
            for _ in range(30):
                peer.recv(100)
        wait_for(lambda: file.exists() and len(file.read_text().splitlines()) == 3, "all texts", 30)
        assert file.read_text().splitlines() == ["Größe ✓ 東"] * 3
        wait_for(lambda: shown.keys_down() == [75], "f9 held")
        with shown.hung():
            assert running.end() == 0
        wait_for(lambda: not shown.keys_down(), "the key to be up")


_HANDS = st.lists(
    st.tuples(st.floats(0, 0.8), st.sampled_from(["south", "east", "west", "north", "mode", "start", "select"]), st.floats(0, 0.6)),
    max_size=12,
)  # fmt: skip
_BUSY_DESK = """
[surface.pad]
kind = "gamepad"
[timing]
hold = "100ms"
[profile.base.on.pad]
south = "ctrl+z"
east = "ctrl+shift+a x5"
west = { press = "alt", hold = "shift+f9", release = "f10" }
north = { tap = 'type "ö✓"', hold = "super then wait 50ms then b" }
mode = "shift"
start = "pause"
select = "profile next"
[profile.other.on.pad]
south = "rightalt+b"
"""


def test_whatever_hands_do_and_however_it_ends_nothing_stays_down(
    shown: Any, tmp_path: Path, make_desk: MakeDesk
) -> None:
    desk = str(make_desk(_BUSY_DESK))

    @settings(max_examples=tries(12), phases=[Phase.generate])
    @given(_HANDS, st.sampled_from([signal.SIGKILL, signal.SIGTERM, signal.SIGINT, None]), st.floats(0, 1.5))
    def try_it(hands: list[tuple[float, str, float]], end: signal.Signals | None, after: float) -> None:
        events = sorted(event for t, control, length in hands for event in press(t, control, length))
        running = Running(shown, tmp_path / "log", "--desk", desk, "--play", take(tmp_path / "t.jsonl", *events))
        if end == signal.SIGINT:
            running.says("output: ")  # before our first line runs, the interpreter itself would complain
        if end is not None:
            with contextlib.suppress(subprocess.TimeoutExpired):
                running.process.wait(after)
            running.process.send_signal(end)
        running.process.wait(30)
        wait_for(lambda: not shown.keys_down(), f"nothing down after {end} at {after} s and {events}")
        assert "Traceback" not in running.log.read_text()

    try_it()


def test_windows_that_vanish_while_being_read(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    running = Running(
        shown, tmp_path / "log", "--desk", str(make_desk(DESK)), "--play", take(tmp_path / "t.jsonl", (60, "mode", 1))
    )
    running.says("is running")
    # This window is there first: the server gives the number of one that vanished to the next, which can confuse the
    # window manager so much that it never manages that one.
    staying = shown.terminal("Snipwell", "Reel 2", tmp_path / "frames.txt")
    for number in range(12):
        process = shown.brief(f"Short{number}")
        process.wait(20)
    shown.raise_window(staying)
    wait_for(
        lambda: running.log.read_text().splitlines()[-1].lstrip().startswith("profile: frames"),
        f"the profile at the end:\n{running.log.read_text()}",
    )
    assert running.end() == 0
    assert "Traceback" not in running.log.read_text()


def test_a_title_that_never_rests_holds_nobody_up(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    file = tmp_path / "frames.txt"
    frames = shown.terminal("Snipwell", "Reel 2", file)
    sound = shown.terminal("Hushdesk", "Wings, close", tmp_path / "sound.txt")
    shown.raise_window(frames)
    events = [event for t in range(60) for event in press(0.5 + t, "north", 0.5)]
    with shown.titles_without_end(frames):
        desk = str(make_desk(DESK))
        running = Running(shown, tmp_path / "log", "--desk", desk, "--play", take(tmp_path / "t.jsonl", *events))
        wait_for(lambda: file.exists() and len(file.read_text().splitlines()) > 2, "what is pressed all the while")
        shown.raise_window(sound)
        running.says("profile: sound (in front is Hushdesk")
    assert running.end() == 0
    assert set(file.read_text().splitlines()) == {"Reel two, take 3"}
    assert "Traceback" not in running.log.read_text()


@pytest.mark.parametrize("how", [signal.SIGTERM, signal.SIGKILL])
def test_a_text_that_is_cut_off_leaves_caps_lock_as_it_was(
    shown: Any, tmp_path: Path, make_desk: MakeDesk, how: signal.Signals
) -> None:
    file = tmp_path / "frames.txt"
    text = ("o" * 49 + "\\n") * 200
    desk = make_desk(f"""
        [surface.pad]
        kind = "gamepad"
        [profile.base.on.pad]
        south = 'type "{text}"'
        """)
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    shown.press(66)  # Caps Lock
    once = take(tmp_path / "t.jsonl", *press(0.2, "south"), (60, "mode", 1))
    running = Running(shown, tmp_path / "log", "--desk", str(desk), "--play", once)
    wait_for(lambda: file.exists() and file.read_text(), "a line of it", 30)
    running.process.send_signal(how)
    running.process.wait(20)
    assert how == signal.SIGKILL or "a text was cut off before its end" in running.log.read_text()

    def own() -> str:
        """What the person types now."""
        shown.press(38, 36)
        return file.read_text().splitlines()[-1]

    wait_for(lambda: own() == "A", "capitals again")
    assert 49 <= file.read_text().count("o") < 200 * 49 and "O" not in file.read_text()


def test_a_terminal_that_stops_reading_in_the_middle_of_a_text(shown: Any, tmp_path: Path, make_desk: MakeDesk) -> None:
    text = "".join(chr(0x4E00 + 5 * n) for n in range(160))
    file = tmp_path / "frames.txt"
    desk = make_desk(
        f'[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = \'type "{text}" then enter\'\neast = "f9"\n'
    )
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    terminal = shown.processes[-1]
    terminal.send_signal(signal.SIGSTOP)
    once = take(tmp_path / "t.jsonl", *press(0.2, "south"))
    running = Running(shown, tmp_path / "log", "--desk", str(desk), "--play", once)
    with contextlib.suppress(subprocess.TimeoutExpired):
        running.process.wait(2)
    # A Wayland compositor tells of keymaps and keys in one order.
    waits = "WAYLAND_DISPLAY" not in shown.environment
    assert not waits or running.process.poll() is None, "it waits until the program has read"
    terminal.send_signal(signal.SIGCONT)
    assert running.process.wait(30) == 0
    wait_for(lambda: file.exists() and file.read_text(), f"text\n{running.log.read_text()}")
    assert file.read_text().splitlines() == [text]
