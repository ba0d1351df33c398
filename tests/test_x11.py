"""The whole way on a real X server: takes in place of hands, real windows, real keys."""

from __future__ import annotations

import contextlib
import json
import os
import re
import shutil
import signal
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from screen import Screen, needs_screen, screen
from support import FENKO, MakeDesk, wait_for

pytestmark = needs_screen

DESK = """
format = 1
[surface.pad]
kind = "gamepad"
[output]
keys = "x11"
[profile.base.on.pad]
mode = "f9"
[profile.frames]
when = { app = "snipwell" }
[profile.frames.on.pad]
south = { do = 'type "frames: Größe ✓ 東" then enter', label = "Name" }
east = "a"
west = "shift+b then enter"
[profile.sound]
when = { app = "hushdesk", title = "Wings*" }
[profile.sound.on.pad]
south = 'type "sound: ελληνικά, кириллица" then enter'
east = "shift"
"""


@pytest.fixture
def shown() -> Iterator[Screen]:
    with screen() as one:
        yield one


class Running:
    """`fenko run`, or `try`, on a screen, with its messages."""

    def __init__(self, one: Screen, log: Path, *arguments: str, command: str = "run", unbuffered: bool = False) -> None:
        self.log = log
        environment = one.environment | ({"PYTHONUNBUFFERED": "1"} if unbuffered else {})
        with log.open("wb") as file:
            self.process = subprocess.Popen(
                [*FENKO, command, *arguments], env=environment, stdout=file, stderr=file, start_new_session=True
            )
        one.processes.append(self.process)

    def says(self, text: str, after: int = 0) -> None:
        """Waits until it has said something, behind the first so many characters."""
        wait_for(lambda: text in self.log.read_text()[after:], f"`{text}` in:\n{self.log.read_text()}")

    def end(self) -> int:
        self.process.send_signal(signal.SIGTERM)
        return self.process.wait(20)


def take(path: Path, *events: tuple[float, str, float]) -> str:
    lines = [{"take": 1, "name": "test", "surfaces": {"pad": "gamepad"}}]
    lines += [{"t": t, "surface": "pad", "control": control, "value": value} for t, control, value in events]
    path.write_text("\n".join(json.dumps(line) for line in lines) + "\n")
    return str(path)


def press(t: float, control: str, length: float = 0.1) -> list[tuple[float, str, int]]:
    return [(t, control, 1), (t + length, control, 0)]


def test_each_window_gets_what_its_profile_says(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    desk = str(make_desk(DESK))
    frames_file, sound_file = tmp_path / "frames.txt", tmp_path / "sound.txt"
    frames = shown.terminal("Snipwell", "Reel 2", frames_file)
    sound = shown.terminal("Hushdesk", "Wings, close", sound_file)
    once = take(tmp_path / "once.jsonl", *press(0.3, "south"))

    for window, file, expected in (
        (frames, frames_file, "frames: Größe ✓ 東"),
        (sound, sound_file, "sound: ελληνικά, кириллица"),
    ):
        shown.raise_window(window)
        done = subprocess.run(
            [*FENKO, "run", "--desk", desk, "--play", once], env=shown.environment, capture_output=True, text=True
        )
        assert done.returncode == 0, done.stderr
        wait_for(lambda file=file: file.exists() and file.read_text(), f"text in {file}\n{done.stderr}")
        assert file.read_text().splitlines() == [expected]
    assert not shown.keys_down()


def test_the_profile_follows_the_window_while_running(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    files = tmp_path / "frames.txt", tmp_path / "sound.txt"
    frames = shown.terminal("Snipwell", "Reel 2", files[0])
    sound = shown.terminal("Hushdesk", "Wings, close", files[1])
    shown.raise_window(frames)
    events = [event for t in range(40) for event in press(0.5 + t, "east", 0.5)]
    running = Running(
        shown, tmp_path / "log", "--desk", str(make_desk(DESK)), "--play", take(tmp_path / "t.jsonl", *events)
    )
    running.says("profile: frames")
    wait_for(lambda: shown.keys_down() == [38], "the key a, held")
    shown.raise_window(sound)
    running.says("profile: sound (in front is Hushdesk")
    wait_for(lambda: shown.keys_down() == [50], "Shift, held in the other profile")
    shown.ask("xdotool", "set_window", "--name", "Rain", sound)
    running.says("profile: base")
    assert running.end() == 0
    assert not shown.keys_down()


def test_a_flicker_of_the_focus_changes_nothing(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    frames = shown.terminal("Snipwell", "Reel 2", tmp_path / "a")
    sound = shown.terminal("Hushdesk", "Wings, close", tmp_path / "b")
    shown.raise_window(frames)
    # Held from before, so that no press hurries the settling.
    held = take(tmp_path / "t.jsonl", (0.1, "mode", 1), (60, "mode", 0))
    desk = str(make_desk(DESK + '[timing]\nsettle = "2s"'))
    running = Running(shown, tmp_path / "log", "--desk", desk, "--play", held)
    running.says("is running")
    for _ in range(3):
        shown.raise_window(sound)
        shown.raise_window(frames)
    shown.raise_window(sound)
    running.says("profile: sound")
    assert running.log.read_text().count("profile: ") == 2  # the line at the start, and sound once
    assert running.end() == 0


def test_kill_leaves_no_key_down(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", tmp_path / "frames.txt"))
    held = take(tmp_path / "t.jsonl", (0.2, "mode", 1), (0.3, "east", 1), (60, "east", 0))
    running = Running(shown, tmp_path / "log", "--desk", str(make_desk(DESK)), "--play", held)
    wait_for(lambda: len(shown.keys_down()) == 2, "two keys held")
    running.process.send_signal(signal.SIGKILL)
    running.process.wait()
    wait_for(lambda: not shown.keys_down(), "the guard to lift the keys")


@pytest.mark.parametrize("how", [signal.SIGTERM, signal.SIGINT, signal.SIGHUP])
def test_ending_releases(shown: Screen, tmp_path: Path, make_desk: MakeDesk, how: signal.Signals) -> None:
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


def test_a_display_that_goes_away_and_comes_back(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    events = [event for t in range(60) for event in press(0.5 + t, "mode", 0.5)]
    running = Running(
        shown, tmp_path / "log", "--desk", str(make_desk(DESK)), "--play", take(tmp_path / "t.jsonl", *events)
    )
    wait_for(lambda: shown.keys_down() == [75], "f9 held")
    shown.stop()
    running.says("is gone")
    shown.start()
    running.says("is back")
    wait_for(lambda: shown.keys_down() == [75], "f9 held again")
    assert running.end() == 0
    assert running.log.read_text().count("is gone") == 1
    assert "Traceback" not in running.log.read_text()


def test_layout_in_force_decides_the_key(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    file = tmp_path / "frames.txt"
    desk = make_desk(
        """
        [surface.pad]
        kind = "gamepad"
        [profile.base.on.pad]
        south = "y then z then shift+7 then @z then ö then enter"
        """
    )
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    for layout, expected in (("de", "yz/yö"), ("us", "yz&zö"), ("fr", "yz7wö")):
        file.unlink(missing_ok=True)
        shown.ask("setxkbmap", layout)
        done = subprocess.run(
            [*FENKO, "run", "--desk", str(desk), "--play", take(tmp_path / "t.jsonl", *press(0.2, "south"))],
            env=shown.environment, capture_output=True, text=True,
        )  # fmt: skip
        wait_for(lambda: file.exists() and file.read_text(), f"text\n{done.stderr}")
        assert file.read_text().splitlines() == [expected], layout


def test_more_strange_characters_than_free_keys(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    text = "".join(chr(0x3041 + n) for n in range(60))
    file = tmp_path / "frames.txt"
    desk = make_desk(
        f"""
        [surface.pad]
        kind = "gamepad"
        [profile.base.on.pad]
        south = 'type "{text}" then enter'
        """
    )
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    subprocess.run(
        [*FENKO, "run", "--desk", str(desk), "--play", take(tmp_path / "t.jsonl", *press(0.2, "south"))],
        env=shown.environment, check=True, capture_output=True,
    )  # fmt: skip
    wait_for(lambda: file.exists() and file.read_text(), "text")
    assert file.read_text().splitlines() == [text]


# Cells of the desk below, and what hands may do with them within a second or so.
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
    shown: Screen, tmp_path: Path, make_desk: MakeDesk
) -> None:
    desk = str(make_desk(_BUSY_DESK))

    @settings(max_examples=12, phases=[Phase.generate])
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


def test_windows_prints_what_a_profile_takes(shown: Screen, tmp_path: Path) -> None:
    shown.terminal("Hushdesk", "Wings", tmp_path / "a")
    shown.raise_window(shown.terminal("Snipwell", 'Reel "2" – Größe ✓', tmp_path / "b"))
    listed = subprocess.run(
        [*FENKO, "windows"], env=shown.environment, capture_output=True, text=True, check=True
    ).stdout
    assert 'when = { app = "Snipwell" }' in listed
    assert "Hushdesk" in listed
    as_json = subprocess.run(
        [*FENKO, "windows", "--format", "json"], env=shown.environment, capture_output=True, text=True, check=True
    ).stdout
    front = [window for window in json.loads(as_json) if window["front"]]
    told = {"front": True, "app": "Snipwell", "title": 'Reel "2" – Größe ✓', "program": "xterm"}
    assert [{name: one[name] for name in told} for one in front] == [told]
    assert front[0]["path"].endswith("/xterm") and front[0]["arguments"].startswith("-class Snipwell -T Reel")


def test_windows_are_followed(shown: Screen, tmp_path: Path) -> None:
    log = tmp_path / "log"
    windows = [shown.terminal(app, "Reel 2", tmp_path / app) for app in ("Snipwell", "Hushdesk")]
    with log.open("wb") as file:
        process = subprocess.Popen([*FENKO, "windows", "--follow"], env=shown.environment, stdout=file, stderr=file)
    wait_for(log.read_text, "the window in front")
    for window, app in zip(windows, ("Snipwell", "Hushdesk"), strict=True):
        shown.raise_window(window)
        wait_for(lambda app=app: f'when = {{ app = "{app}" }}  # "Reel 2"' in log.read_text(), app)
    shown.ask("xdotool", "set_window", "--name", "Rain", windows[1])
    wait_for(lambda: 'when = { app = "Hushdesk" }  # "Rain"' in log.read_text(), f"the title\n{log.read_text()}")
    process.send_signal(signal.SIGINT)
    assert process.wait(10) == 0


def test_windows_that_vanish_while_being_read(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    running = Running(
        shown, tmp_path / "log", "--desk", str(make_desk(DESK)), "--play", take(tmp_path / "t.jsonl", (60, "mode", 1))
    )
    running.says("is running")
    # This window is there first: the server gives the number of one that vanished to the next, which can confuse the
    # window manager so much that it never manages that one.
    staying = shown.terminal("Snipwell", "Reel 2", tmp_path / "frames.txt")
    for number in range(12):
        process = shown.spawn("xterm", "-class", f"Short{number}", "-e", "true")
        process.wait(20)
    shown.raise_window(staying)
    wait_for(
        lambda: running.log.read_text().splitlines()[-1].lstrip().startswith("profile: frames"),
        f"the profile at the end:\n{running.log.read_text()}",
    )
    assert running.end() == 0
    assert "Traceback" not in running.log.read_text()


def test_no_display_is_said_with_what_to_do(tmp_path: Path, make_desk: MakeDesk) -> None:
    environment = {key: value for key, value in os.environ.items() if key not in ("DISPLAY", "WAYLAND_DISPLAY")}
    done = subprocess.run(
        [*FENKO, "run", "--desk", str(make_desk(DESK))], env=environment, capture_output=True, text=True, timeout=30
    )
    assert done.returncode == 1
    assert "DISPLAY is not set" in done.stderr
    assert "Traceback" not in done.stderr


def test_capitals_are_what_they_are_whatever_caps_lock_says(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    file = tmp_path / "frames.txt"
    desk = str(make_desk(DESK))
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    shown.press(66)  # Caps Lock
    once = take(tmp_path / "t.jsonl", *press(0.2, "south"))
    subprocess.run(
        [*FENKO, "run", "--desk", desk, "--play", once], env=shown.environment, check=True, capture_output=True
    )
    wait_for(lambda: file.exists() and file.read_text(), "text")
    assert file.read_text().splitlines() == ["frames: Größe ✓ 東"]
    shown.press(38, 36)  # what the person types is still in capitals
    wait_for(lambda: len(file.read_text().splitlines()) == 2, "a line of the person's")
    assert file.read_text().splitlines()[1] == "A"


def test_a_terminal_that_stops_reading_in_the_middle_of_a_text(
    shown: Screen, tmp_path: Path, make_desk: MakeDesk
) -> None:
    text = "".join(chr(0x4E00 + 5 * n) for n in range(200))
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
    assert running.process.poll() is None, "it waits until the program has read"
    terminal.send_signal(signal.SIGCONT)
    assert running.process.wait(30) == 0
    wait_for(lambda: file.exists() and file.read_text(), f"text\n{running.log.read_text()}")
    assert file.read_text().splitlines() == [text]


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
        shown, tmp_path / "log", "--desk", str(make_desk(DESK)), "--play", take(tmp_path / "t.jsonl", *events)
    )
    wait_for(lambda: mapping() != before, "characters to be lent")
    wait_for(lambda: mapping() == before, "them to be given back, while it still runs")
    assert running.process.poll() is None
    assert running.end() == 0


def test_without_a_window_manager_nothing_is_in_front(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", tmp_path / "frames.txt"))
    running = Running(
        shown, tmp_path / "log", "--desk", str(make_desk(DESK)), "--play", take(tmp_path / "t.jsonl", (60, "mode", 1))
    )
    running.says("profile: frames")
    manager = next(process for process in shown.processes if process.args == ("openbox",))
    manager.kill()
    running.says("profile: base (in front is nothing)")
    shown.manage()
    running.says("profile: frames (in front is Snipwell")
    assert running.end() == 0


def test_a_take_ends_when_what_it_set_off_has_ended(shown: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    file = tmp_path / "frames.txt"
    desk = make_desk(
        '[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = "a x20 then wait 300ms then b then enter"\n'
    )
    shown.raise_window(shown.terminal("Snipwell", "Reel 2", file))
    once = take(tmp_path / "t.jsonl", (0.1, "south", 1))
    subprocess.run(
        [*FENKO, "run", "--desk", str(desk), "--play", once], env=shown.environment, check=True, capture_output=True
    )
    wait_for(lambda: file.exists() and file.read_text(), "text")
    assert file.read_text().splitlines() == ["a" * 20 + "b"]


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
