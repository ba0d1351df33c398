"""Real programs of several toolkits, as a person uses them: nothing that is sent is lost, doubled or another character."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from desktops import DESKTOPS, lasting
from started import run_fenko
from support import MakeDesk, wait_for

PROGRAMS: dict[str, tuple[str, list[str]]] = {
    "Qt": ("featherpad", ["featherpad", "--standalone", "{file}"]),
    "GTK": ("mousepad", ["mousepad", "--disable-server", "{file}"]),
    "Java": ("jedit", ["jedit", "-noserver", "-nosplash", "-norestore", "-settings={folder}/jedit", "{file}"]),
}
"""By toolkit: the Debian package and command, and how it is started with a file."""

_PLAIN = "Größe ✓ и ещё ελ 東京 bookkeeper می\u200cخواهم क\u094d\u200dष"
_KANA = "".join(chr(0x3041 + n) for n in range(60))
_MANY = "".join(chr(0x4E00 + 7 * n) for n in range(170))
_FEW = _MANY[:34]
"""As many strange characters as a program of the X server behind GNOME sees at a time."""
_TEXTS = ["東 one", "✓ two", "東京 three", "🦋 four", "🌗"]
"""One after the other: each waits for the one before."""
_RULER = "".join(chr(ord("a") + n % 26) for n in range(230))
DESK = f"""
[surface.pad]
kind = "gamepad"
[surface.dial]
kind = "dial"
[profile.base.on.pad]
south = "b x30"
east = {json.dumps(f"type {json.dumps(_PLAIN, ensure_ascii=False)}", ensure_ascii=False)}
north = {json.dumps(f"type {json.dumps(_KANA, ensure_ascii=False)}", ensure_ascii=False)}
west = {json.dumps(f"type {json.dumps(_MANY, ensure_ascii=False)}", ensure_ascii=False)}
shoulder-right = {json.dumps(f"type {json.dumps(_FEW, ensure_ascii=False)}", ensure_ascii=False)}
hat.up = 'type "{_RULER}"'
hat.down = "ctrl+home"
hat.left = 'type "|"'
hat.right = "enter"
select = "ctrl+a"
start = "ctrl+s"
mode = "delete"
stick-left-press = '''type "dusk 🦋🌗🦋 reel" then 🦋'''
stick-right-press = {json.dumps(" then ".join(f'type "{one}"' for one in _TEXTS), ensure_ascii=False)}
shoulder-left = "ctrl+z"
[profile.base.on.dial]
dial.right = "right"
"""
_ROWS = {
    "south": 30 * "b", "east": _PLAIN, "north": _KANA, "west": _MANY, "shoulder-right": _FEW,
    "stick-left-press": "dusk 🦋🌗🦋 reel🦋", "stick-right-press": "".join(_TEXTS),  # characters of more than 16 bits
}  # fmt: skip


def taps(*controls: str) -> list[tuple[str, float]]:
    """Buttons of the pad that are pressed and released, one after the other."""
    return [(f"pad.{control}", value) for control in controls for value in (1.0, 0.0)]


class Editor:
    """A program with a file open, and hands on the desk before it."""

    def __init__(self, shown: Any, folder: Path, toolkit: str) -> None:
        self.shown = shown
        self.folder = folder
        self.file = folder / "reel.txt"
        self.file.write_text("")
        self.log = ""
        (folder / "jedit").mkdir()
        (folder / "jedit/properties").write_text("firstTime=false\ntip.show=false\n")  # else its help comes in front
        command = [part.format(file=self.file, folder=folder) for part in PROGRAMS[toolkit][1]]
        environment = (
            shown.environment
            # Java: what runs for seconds is not worth being compiled well.
            | {
                "HOME": str(folder),
                "XDG_CONFIG_HOME": str(folder),
                "JAVA_TOOL_OPTIONS": "-XX:TieredStopAtLevel=1 -Xshare:auto",
            }
            | ({} if "WAYLAND_DISPLAY" in shown.environment else {"XDG_RUNTIME_DIR": str(folder)})
        )
        self.process = subprocess.Popen(
            command,
            env=environment,
            cwd=folder,
            start_new_session=True,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        shown.processes.append(self.process)
        self.window = shown.find(self.process, "reel")
        shown.raise_window(self.window)
        wait_for(self.rests, "the program to have started", 60)
        # So many lent characters there can be at a time, in programs of the X server behind a Wayland compositor fewer; KWin's are
        # pasted.
        limits = {"Sway": (72, 1000), "Gnome": (34, 180)}.get(type(shown).__name__, (1000, 1000))
        self.sees = limits[0 if toolkit == "Java" else 1]

    def rests(self) -> bool:
        """Whether it has done nothing for a while: one that has a window, and still starts, forgets keys, whoever strikes them."""
        before = self._worked()
        time.sleep(0.3)
        return self._worked() - before <= 1

    def _worked(self) -> int:
        """How long it and what it has started have worked (hundredths of a second)."""
        worked = 0
        for stat in Path("/proc").glob("[0-9]*/stat"):
            with contextlib.suppress(OSError):
                fields = stat.read_text().rpartition(")")[2].split()
                if int(fields[2]) == self.process.pid:  # the group of processes
                    worked += int(fields[11]) + int(fields[12])
        return worked

    def do(self, *events: tuple[str, float] | float, pause: float = 0.02) -> None:
        """Controls that change, one after the other, on the desk as it runs; or seconds in which none does."""
        lines = [json.dumps({"take": 1, "name": "x", "surfaces": {"pad": "gamepad", "dial": "dial"}})]
        t = 0.05
        for event in events:
            if isinstance(event, float):
                t += event
                continue
            surface, _, control = event[0].partition(".")
            lines.append(json.dumps({"t": round(t, 6), "surface": surface, "control": control, "value": event[1]}))
            t += pause
        take = self.folder / "hands.jsonl"
        take.write_text("\n".join(lines))
        done = run_fenko("run", "--desk", str(self.folder), "--play", str(take), env=self.shown.environment)  # fmt: skip
        self.log = done.stderr
        assert done.returncode == 0, done.stderr
        assert not self.shown.keys_down()

    def tap(self, *controls: str) -> None:
        self.do(*taps(*controls))

    def types(self, control: str, expected: str) -> None:
        """Types into the empty program, and saves."""
        self.do(*taps("select", "mode", control), 0.5, *taps("start"))
        self.saves(expected)

    def saves(self, expected: str) -> None:
        """Saves until the file says what is expected, and fails with what it says instead."""
        end = time.monotonic() + 20
        while time.monotonic() < end:
            for _ in range(20):
                if self.said() == expected:
                    return
                time.sleep(0.05)
            self.tap("start")
        assert self.said() == expected, self.log

    def said(self) -> str:
        return self.file.read_text(encoding="utf-8", errors="replace").removeprefix("\ufeff").rstrip("\n")

    def empty(self) -> None:
        self.tap("select", "mode")


_BY_DAY = {"X11-Java", "sway-Qt", "kwin-GTK", "gnome-GTK"}
"""Every desktop and every toolkit; `make test-long` has all pairs."""


@pytest.fixture(
    scope="module",
    params=[
        pytest.param((name, toolkit), id=pair, marks=[] if pair in _BY_DAY else [pytest.mark.long])
        for name in DESKTOPS for toolkit in PROGRAMS for pair in [f"{name}-{toolkit}"]
    ],
)  # fmt: skip
def editor(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Editor]:
    """One program for all tests of it: starting one takes longer than most of them."""
    name, toolkit = request.param
    command = PROGRAMS[toolkit][0]
    if shutil.which(command) is None:
        pytest.skip(f"needs a {toolkit} program: apt-get install {command}")
    folder = tmp_path_factory.mktemp(toolkit)
    (folder / "desk.toml").write_text(DESK)
    with lasting(name, request.node) as shown:
        yield Editor(shown, folder, toolkit)


def test_everything_arrives(editor: Editor) -> None:
    together: list[list[str]] = [[]]
    for control, text in _ROWS.items():
        if len(set(text)) > editor.sees:
            continue
        if len(set("".join(_ROWS[one] for one in [*together[-1], control]))) > editor.sees:
            together.append([])
        together[-1].append(control)
    for controls in together:
        # "b x30" takes 0.3 s.
        hands = [hand for control in controls for hand in (*taps(control), 0.5, *taps("hat.right"))]
        editor.do(*taps("select", "mode"), *hands, *taps("start"))
        editor.saves("\n".join(_ROWS[control] for control in controls))
    editor.empty()
    # A dial that is turned as fast as it goes, and one in single detents.
    editor.do(("pad.hat.y", -1), ("pad.hat.y", 0), ("pad.hat.y", 1), ("pad.hat.y", 0))
    editor.do(
        *[("dial.dial", 1.0)] * 100, 1.5, ("dial.dial", 100.0), 1.5, ("pad.hat.x", -1.0), ("pad.hat.x", 0.0), *taps("start"), pause=0.001,
    )  # fmt: skip
    editor.saves(f"{_RULER[:200]}|{_RULER[200:]}")


def test_a_key_comes_behind_the_text_before_it(editor: Editor) -> None:
    lines = 6
    editor.do(*taps("select", "mode"), *lines * taps("shoulder-right", "hat.right"), 0.5, *taps("start"))
    editor.saves("\n".join(lines * [_FEW]))


def test_a_program_that_stops_reading_in_the_middle_of_a_text(editor: Editor) -> None:
    control = "west" if editor.sees >= len(_MANY) else "shoulder-right"
    editor.empty()
    os.killpg(editor.process.pid, signal.SIGSTOP)
    goes_on = threading.Timer(2, os.killpg, (editor.process.pid, signal.SIGCONT))
    goes_on.start()
    start = time.monotonic()
    editor.tap(control)
    # A Wayland compositor tells of keymaps and keys in one order.
    in_order = "WAYLAND_DISPLAY" in editor.shown.environment
    assert in_order or time.monotonic() - start > 2, (
        "nothing gets another symbol before the program has read the old one"
    )
    editor.saves(_ROWS[control])


def test_shortcuts_and_the_layout_under_another_group(editor: Editor) -> None:
    shown = editor.shown
    shown.use_layout("us,ru")
    editor.types("south", 30 * "b")
    shown.lock_group(1)
    wait_for(editor.rests, "the program to know of the other group")  # Java looks at keys by the one that it knows
    editor.types("east", _PLAIN)
    editor.empty()
    # What the person types is what it was.
    shown.press(61, 52)
    editor.tap("start")
    editor.saves(".я")


_QT = Path("/usr/lib/python3/dist-packages/PyQt5")


@pytest.mark.skipif(not _QT.exists(), reason="needs Qt for Debian's Python: apt-get install python3-pyqt5")
@pytest.mark.parametrize("name", DESKTOPS)
def test_an_action_that_refuses_repeating_gets_every_stroke(
    name: str, request: pytest.FixtureRequest, tmp_path: Path, make_desk: MakeDesk
) -> None:
    counted = tmp_path / "counted"
    desk = make_desk(
        '[surface.pad]\nkind = "gamepad"\n[surface.dial]\nkind = "dial"\n'
        '[profile.base.on.pad]\nsouth = "f7 x5"\neast = "f7"\nnorth = "f7"\n[profile.base.on.dial]\ndial.right = "f7"\n'
    )
    hands = [
        {"t": 0.1, "surface": "pad", "control": "south", "value": 1},
        {"t": 0.3, "surface": "pad", "control": "south", "value": 0},
    ]
    hands += [
        {"t": round(0.4 + n / 1000, 3), "surface": "pad", "control": ("east", "north")[n // 2 % 2], "value": 1 - n % 2}
        for n in range(20)
    ]
    hands += [{"t": 0.7, "surface": "dial", "control": "dial", "value": 200}]
    take = tmp_path / "hands.jsonl"
    head = {"take": 1, "name": "x", "surfaces": {"pad": "gamepad", "dial": "dial"}}
    take.write_text("\n".join(json.dumps(line) for line in [head, *hands]))
    with lasting(name, request.node) as shown:
        program = shown.spawn("/usr/bin/python3", str(Path(__file__).parent / "qt_window.py"), str(counted))
        shown.raise_window(shown.find(program, "reel actions"))
        run_fenko("run", "--desk", str(desk), "--play", str(take), env=shown.environment, check=True)
        wait_for(lambda: counted.exists() and counted.read_text() == "215", "every stroke")
        time.sleep(0.3)
        assert counted.read_text() == "215"
