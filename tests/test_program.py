"""Programs and windows: real windows on a real screen, with a real window manager; and what starts, ends, and does not."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from desktops import DESKTOPS, desktop
from ends import MakeFar, far
from screen import Screen, needs_screen
from started import run_fenko

__all__ = ["far"]

DESK = """
[app.snipwell]
app = ["snipwell", "Snip*"]
command = ["xterm", "-class", "snipwell", "-T", "Reel 1"]
[app.hushdesk]
[app.broken]
command = ["/nowhere/broken"]
[app.failing]
command = ["{python}", "-c", "import sys; sys.stderr.write('no project here\\\\n\\\\x1b]0;x'); sys.exit(3)"]
[app.lasting]
command = ["{python}", "-c", "import os, time; open('{out}', 'w').write(f'{{os.getpid()}} {{os.getsid(0)}} {{os.getcwd()}}'); time.sleep(60)"]
[profile.base.on.pad]
south = "start snipwell"
east = "front snipwell"
north = "close snipwell"
west = "close window"
start = "front hushdesk"
select = "start broken"
mode = "start failing"
shoulder-left = "start lasting"
shoulder-right = 'open "notes.txt"'
stick-left-press = 'open "https://lantern.example/"'
"""


@pytest.fixture
def screen() -> Iterator[Screen]:
    """A screen with a window manager."""
    found = Screen()
    found.manage()
    yield found
    found.close()


def desk(out: Path | None = None) -> str:
    return DESK.format(python=sys.executable, out=out or "")


@pytest.mark.parametrize("where", DESKTOPS)
def test_windows_come_to_the_front_and_close(where: str, far: MakeFar, tmp_path: Path) -> None:
    """Windows of the X server, also of one behind a Wayland compositor, and of a compositor itself."""
    with desktop(where) as shown:

        def windows(app: str) -> list[str]:
            return [window for window, known, _ in shown.listed() if known.lower() == app]

        def in_front() -> str:
            return next((window for window, _, front in shown.listed() if front), "")

        hands = far(desk(), shown.environment)
        hands.tap("east")
        (first,) = hands.until(lambda: windows("snipwell"), "what does not run is started")
        hands.until(lambda: in_front() == first)
        shown.terminal("hushdesk", "Mix", tmp_path / "typed")
        (other,) = hands.until(lambda: windows("hushdesk"))
        hands.until(lambda: in_front() == other)
        hands.tap("east")
        hands.until(lambda: in_front() == first, "it comes to the front")
        assert len(windows("snipwell")) == 1, "and is not started again"
        hands.tap("start")
        hands.until(lambda: in_front() == other)
        hands.tap("south")
        hands.until(lambda: len(windows("snipwell")) == 2, "`start` starts another one")
        second = next(one for one in windows("snipwell") if one != first)
        hands.until(lambda: in_front() == second)
        hands.tap("east")
        hands.until(lambda: in_front() == first, "with one in front, its next one comes")
        hands.tap("west")
        hands.until(lambda: windows("snipwell") == [second], "the window in front closes")
        hands.tap("north")
        hands.until(lambda: not windows("snipwell"), "the program's windows close")
        assert windows("hushdesk"), "and no other"
        hands.tap("north")
        hands.said("`snipwell` has no window")
        assert len(hands.notes) == 1


@needs_screen
def test_the_profile_follows(screen: Screen, tmp_path: Path) -> None:
    """The whole way: a control brings a program to the front, and its profile comes."""
    folder = tmp_path / "desk"
    folder.mkdir()
    (folder / "desk.toml").write_text(
        'format = 1\n[surface.pad]\nkind = "gamepad"\n[app.snipwell]\ncommand = ["xterm", "-class", "snipwell"]\n'
        '[profile.base.on.pad]\nsouth = "front snipwell"\n[profile.frames]\nwhen = { app = "snipwell" }\n'
        '[profile.frames.on.pad]\neast = "close window"\n'
    )
    (folder / "take.jsonl").write_text(
        '{"take": 1, "name": "x", "surfaces": {"pad": "gamepad"}}\n'
        + "".join(
            f'{{"t": {t}, "surface": "pad", "control": "{control}", "value": {value}}}\n'
            for t, control, value in (
                (0.5, "south", 1), (0.6, "south", 0), (4.0, "east", 1), (4.1, "east", 0), (6.5, "north", 1), (6.6, "north", 0)
            )
        )
    )  # fmt: skip
    home = {**screen.environment, "XDG_STATE_HOME": str(tmp_path / "state")}
    run = ["run", "--desk", str(folder), "--play", str(folder / "take.jsonl")]
    refused = run_fenko(*run, env=home, check=True)
    assert "not done, for nobody has agreed to it: starts snipwell: xterm -class snipwell" in refused.stderr
    assert "profile: frames" not in refused.stderr
    run_fenko("trust", "--yes", "--desk", str(folder), env=home, check=True)
    agreed = run_fenko(*run, env=home, check=True)
    assert "profile: frames" in agreed.stderr
    assert "profile: base" in agreed.stderr.partition("profile: frames")[2], "and goes with its window"
    assert "not done" not in agreed.stderr


@needs_screen
def test_a_program_that_does_not_start_says_why(screen: Screen, far: MakeFar) -> None:
    hands = far(desk(), screen.environment)
    hands.tap("select")
    hands.said("`broken` does not start: /nowhere/broken: no such file or directory")
    hands.tap("mode")
    hands.said("`failing` ended at once, with status 3: ")
    assert all(note.isprintable() for note in hands.notes)
    hands.tap("start")
    hands.said("`hushdesk` has no window, and the desk does not say how it is started")


def test_a_program_is_the_persons_own(far: MakeFar, tmp_path: Path) -> None:
    """It has a session of its own, goes on when Fenko ends, however that happens, and leaves no zombie."""
    out = tmp_path / "who"
    hands = far(desk(out), {"DISPLAY": ""})
    hands.tap("shoulder-left")
    number, group, place = hands.until(lambda: out.read_text().split(), "it runs")
    process, session = int(number), int(group)
    assert place == str(Path.home())
    try:
        assert process == session
        ignored = int(Path(f"/proc/{process}/status").read_text().partition("SigIgn:\t")[2].split()[0], 16)
        for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
            assert not ignored >> (number - 1) & 1, "it can be ended as any other program"
        os.kill(hands.workers, signal.SIGKILL)
        hands.said("has ended")
        os.kill(process, 0)
    finally:
        os.kill(process, signal.SIGKILL)


def test_ended_programs_leave_no_zombies(far: MakeFar) -> None:
    hands = far(desk(), {"DISPLAY": ""})
    for _ in range(5):
        hands.tap("mode")
        hands.look(0.05)
    hands.said("ended at once")

    def zombies() -> list[str]:
        listed = subprocess.run(["ps", "--ppid", str(hands.workers), "-o", "stat="], capture_output=True, text=True)
        return [line for line in listed.stdout.split() if line.startswith("Z")]

    hands.until(lambda: not zombies(), "nobody is left")


def test_what_opens_things_gets_the_files_of_the_desk(far: MakeFar, tmp_path: Path) -> None:
    """The desktop's own opener is put in by this test: there is no desktop here."""
    opener = tmp_path / "bin/xdg-open"
    opener.parent.mkdir()
    opener.write_text(f'#!/bin/sh\necho "$@" >>{tmp_path}/opened\n')
    opener.chmod(0o755)
    hands = far(desk(), {"DISPLAY": "", "PATH": f"{opener.parent}:{os.environ['PATH']}"})
    hands.tap("shoulder-right")
    hands.tap("stick-left-press")
    opened = hands.until(
        lambda: (
            sorted((tmp_path / "opened").read_text().split())
            if (tmp_path / "opened").read_text().count("\n") == 2
            else None
        )
    )
    assert opened == [str(tmp_path / "desk/notes.txt"), "https://lantern.example/"]


def test_without_a_screen_windows_are_not_there_and_that_is_said(far: MakeFar) -> None:
    hands = far(desk(), {"DISPLAY": ""})
    hands.tap("west")
    hands.said("there is no display, so there are no windows")
