"""Learning: by name, by typing in a terminal, by performing on a keyboard of a real X server."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from desktops import desktop
from fenko.core.changes import Change
from fenko.core.engine import Engine
from fenko.core.keys import MODIFIERS
from fenko.core.macros import recorded
from fenko.core.phrase import parse_phrase
from fenko.core.plan import BASE, Binding, Cell, Level, Plan, Profile, Surface, Timing
from fenko.core.recognising import Recogniser
from support import DEMO, Run
from terminal import Terminal

SURFACES = {"pad": Surface("pad", "gamepad"), "keys": Surface("keys", "keypad"), "dial": Surface("dial", "dial")}


@pytest.fixture
def bench(tmp_path: Path) -> Path:
    folder = tmp_path / "bench"
    shutil.copytree(DEMO, folder)
    return folder


# --- With everything named ---


def test_everything_named_is_written_without_a_question(fenko: Run, bench: Path) -> None:
    before = (bench / "profiles/frames.toml").read_text()
    done = fenko(
        "learn", "pad.mode", "ctrl+shift+e", "--desk", bench, "--profile", "frames", "--label", "Export", "--colour",
        "#112233", "--icon", "E",
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    after = (bench / "profiles/frames.toml").read_text()
    (new,) = set(after.splitlines()) - set(before.splitlines())
    assert new == 'mode = { do = "ctrl+shift+e", label = "Export", colour = "#112233", icon = "E" }'
    kept = json.loads(fenko("history", "frames.toml", "--desk", bench / "profiles", "--format", "json").stdout)
    assert [(one["version"], one["added"], one["removed"]) for one in kept] == [(1, 1, 0)]
    assert f"frames.toml:{after.splitlines().index(new) + 1}: {new}" in done.stdout
    assert fenko("check", "--desk", bench, XKB_DEFAULT_LAYOUT="us").returncode == 0


def test_a_press_becomes_a_tap_where_a_hold_comes_to_it(fenko: Run, bench: Path) -> None:
    done = fenko("learn", "pad.east.hold", "snipwell: redo", "--desk", bench, "--profile", "frames")
    assert "by a tap now" in done.stderr
    text = (bench / "profiles/frames.toml").read_text()
    assert 'east = { tap = { do = "ctrl+z x3", label = "Undo three steps" }, hold = "snipwell: redo" }' in text


def test_it_says_what_is_hidden_from_then_on(fenko: Run, bench: Path) -> None:
    done = fenko("learn", "pad.west.hold", "f5", "--desk", bench, "--profile", "frames")
    assert "hides west press: Save · ctrl+s  (in editing, profiles/frames.toml:6)" in done.stderr


def test_a_new_profile_for_a_program_and_a_new_layer(fenko: Run, bench: Path) -> None:
    options = ("--desk", bench, "--profile", "paint", "--app", "paintmoth")
    assert fenko("learn", "pad.south", "b", *options).returncode == 0
    assert fenko("learn", "pad.south", "shift+b", *options, "--layer", "fine").returncode == 0
    assert fenko("learn", "pad.shoulder-left.hold", "layer fine", *options).returncode == 0
    told = fenko("explain", "pad.south", "--app", "paintmoth", "--layer", "fine", "--desk", bench).stdout
    assert "shift+b" in told and "hides   b in paint" in told


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (("pad.sout", "a"), "did you mean `pad."),
        (("pad.hat", "a"), "name one of pad.hat.left"),
        (("pad.south", "ctlr+a"), "did you mean `ctrl`?"),
        (("pad.south", "snipwell: splti all"), "did you mean `Split all`?"),
        (("pad.south", "layer nowhere"), "unknown layer `nowhere`"),
        (("dial.dial.left.hold", "a"), "it has no hold"),
        (("pad.south", "a", "--colour", "blue"), "`blue` cannot stand here"),
        (("pad.south", "a", "--layer", "Not A Name"), "cannot be a layer's name"),
    ],
)
def test_what_cannot_be_learned_leaves_the_desk_alone(
    fenko: Run, bench: Path, arguments: tuple[str, ...], said: str
) -> None:
    before = {path: path.read_bytes() for path in bench.rglob("*") if path.is_file()}
    done = fenko("learn", *arguments, "--desk", bench, *(() if "--profile" in arguments else ("--profile", "frames")))
    assert done.returncode == 2 and said in done.stderr and "Traceback" not in done.stderr
    assert {path: path.read_bytes() for path in bench.rglob("*") if path.is_file()} == before


def test_a_desk_that_may_not_be_written_stays_whole(fenko: Run, bench: Path) -> None:
    if os.getuid() == 0:
        # Root may write everywhere; a file in place of the folder for versions is in anybody's way.
        (bench.parent / "state/fenko").mkdir(parents=True)
        (bench.parent / "state/fenko/history").touch()
    else:
        (bench / "profiles").chmod(0o500)
    before = (bench / "profiles/frames.toml").read_bytes()
    done = fenko("learn", "pad.mode", "a", "--desk", bench, "--profile", "frames")
    assert done.returncode == 1 and "cannot be written" in done.stderr
    assert (bench / "profiles/frames.toml").read_bytes() == before


# --- In a terminal ---


@contextmanager
def _lesson(*arguments: str) -> Iterator[Terminal]:
    terminal = Terminal("learn", *arguments)
    try:
        yield terminal
    finally:
        if terminal.process.poll() is None:
            terminal.process.kill()


def test_a_lesson_by_typing(bench: Path) -> None:
    original = (bench / "profiles/frames.toml").read_bytes()
    with _lesson("--desk", str(bench), "--profile", "frames") as lesson:
        lesson.says("Press a control")
        lesson.line("pad.sotuh")
        lesson.says("did you mean")
        lesson.line("pad.hat.up")
        lesson.says("nothing is bound there")
        lesson.line("ctlr+j")
        lesson.says("did you mean `ctrl`?")
        lesson.line("?onion")
        lesson.says("1  Onion skin")
        lesson.line("1")
        lesson.says("label [Onion skin]: ")
        lesson.line("")
        lesson.says("colour (#rrggbb): ")
        lesson.line("#0072b2")
        lesson.says("icon: ")
        lesson.line("")
        lesson.says('hat.up = { do = "snipwell: Onion skin", label = "Onion skin", colour = "#0072b2" }')
        lesson.says("Press a control")
        first = (bench / "profiles/frames.toml").read_bytes()
        lesson.line("pad.north.tap")
        lesson.says("Marker")
        lesson.line("ctrl+m")
        for name in ("label", "colour", "icon"):
            lesson.says(name)
            lesson.line("")
        lesson.says("Press a control")
        assert b'north.tap = "ctrl+m"' in (bench / "profiles/frames.toml").read_bytes()
        lesson.line("undo")
        lesson.says("taken back: north.tap")
        assert (bench / "profiles/frames.toml").read_bytes() == first
        lesson.line("undo")
        lesson.says("taken back: hat.up")
        assert (bench / "profiles/frames.toml").read_bytes() == original
        lesson.line("undo")
        lesson.says("nothing to undo")
        lesson.line("layer trim")
        lesson.says("learning for frames/trim")
        lesson.line("pad.west")
        lesson.says("what shall it do?")
        lesson.line("-")
        lesson.says("Press a control")
        lesson.line("stop")
        assert lesson.end() == 0
    assert (bench / "profiles/frames.toml").read_bytes() == original


@pytest.mark.parametrize("steps", [0, 1, 2, 3])
def test_ctrl_c_at_any_question_writes_nothing(bench: Path, steps: int) -> None:
    before = (bench / "profiles/frames.toml").read_bytes()
    with _lesson("--desk", str(bench), "--profile", "frames", "--once") as lesson:
        for question, answer in [("Press a control", "pad.mode"), ("what shall it do?", "a"), ("label", "A")][:steps]:
            lesson.says(question)
            lesson.line(answer)
        lesson.says(["Press a control", "what shall it do?", "label", "colour"][steps])
        lesson.type(b"\x03")
        assert lesson.end() == 1
        assert b"Traceback" not in lesson.shown
    assert (bench / "profiles/frames.toml").read_bytes() == before


CTRL, SHIFT, ALT, Z, KP5, F12, MUTE, TAB, RIGHT, C, A = 37, 50, 64, 52, 84, 96, 121, 23, 114, 54, 38
"""Key codes as X counts them."""


@pytest.mark.parametrize("where", ["X11", "sway", "kwin"])
def test_a_shortcut_that_is_performed(where: str, bench: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with desktop(where) as one:
        for name, value in one.environment.items():
            monkeypatch.setenv(name, value)
        if where != "X11":
            one.listen(bench)
        with _lesson(
            "--desk", str(bench), "--profile", "frames", "--label", "", "--colour", "", "--icon", ""
        ) as lesson:
            for performed, written in (
                ((CTRL, SHIFT, Z), 'mode = "ctrl+shift+z"'),
                ((KP5,), 'mode = "kp5"'),
                ((F12,), 'mode = "f12"'),
                ((MUTE,), 'mode = "mute"'),
                # The desktop keeps this one for itself.
                ((ALT, TAB), 'mode = "alt+tab"'),
                ((SHIFT,), 'mode = "shift"'),
            ):
                lesson.says("Press a control")
                lesson.line("pad.mode")
                lesson.says("what shall it do?")
                lesson.line("")
                lesson.says("perform it now")
                one.hold(*performed)
                lesson.says(written)
            lesson.says("Press a control")
            lesson.line("pad.mode")
            lesson.line("record")
            lesson.says("perform it now")
            for performed in ((RIGHT,), (RIGHT,), (CTRL, C), (A,)):
                one.hold(*performed)
            lesson.says('mode = "right x2 then ctrl+c then a"')
            lesson.says("Press a control")
            lesson.line("stop")
            assert lesson.end() == 0
        assert one.keys_down() == []


# --- Recognising what a hand did ---


def recognised(*changes: Change, end: float = 9.0) -> str:
    recogniser = Recogniser(SURFACES, Timing())
    for change in changes:
        recogniser.feed(change)
        if recogniser.meant is not None:
            return recogniser.meant.words
    recogniser.settle(end)
    return recogniser.meant.words if recogniser.meant else ""


def press(address: str, t: float, length: float = 0.05) -> tuple[Change, Change]:
    return (t, address, 1), (t + length, address, 0)


def test_gestures_are_recognised() -> None:
    assert recognised(*press("pad.south", 1.0)) == "pad south"
    assert recognised(*press("pad.south", 1.0, 0.219)) == "pad south"
    assert recognised(*press("pad.south", 1.0, 0.221)) == "pad south hold"
    assert recognised((1.0, "pad.south", 1)) == "pad south hold"
    assert recognised(*press("pad.south", 1.0), *press("pad.south", 1.2)) == "pad south double"
    assert recognised(*press("pad.south", 1.0), *press("pad.south", 1.301)) == "pad south"
    three = [*press("pad.south", 1.0), *press("pad.south", 1.2), *press("pad.south", 1.4)]
    assert recognised(*three) == "pad south triple"
    assert recognised((1.0, "pad.south", 1), (1.1, "pad.west", 1), (1.6, "pad.south", 0)) == "pad south+west"
    assert recognised((1.0, "dial.dial", -1)) == "dial dial.left"
    assert recognised((1.0, "dial.wheel", 0.5), (1.1, "dial.wheel", 0.5)) == "dial wheel.up"


def test_axes_are_recognised() -> None:
    pushed = [(1.0, "pad.stick-left.y", -0.4), (1.1, "pad.stick-left.y", -0.9), (2.0, "pad.stick-left.y", 0.0)]
    assert recognised(*pushed) == "pad stick-left.up"
    both = [(1.0, "pad.hat.x", -1), (1.01, "pad.hat.y", 1), (1.5, "pad.hat.x", 0), (1.5, "pad.hat.y", 0)]
    assert recognised(*both) == "pad hat.down-left"
    assert recognised((1.0, "pad.trigger-right", 1.0), (1.5, "pad.trigger-right", 0.0)) == "pad trigger-right"
    assert recognised((1.0, "pad.hat.x", -1), (1.1, "pad.south", 1), (1.2, "pad.south", 0)) == "pad hat.left+south"


def test_a_key_that_sends_its_code_several_times() -> None:
    burst = [change for n in range(3) for change in press("keys.kp0", 1.0 + n * 0.01, 0.005)]
    assert recognised(*burst) == "keys kp0-x3"
    assert recognised(*burst[:2]) == "keys kp0"


# --- Macros ---

_FEW = st.sampled_from(["ctrl", "shift", "a", "b", "f5"])


@given(st.lists(st.tuples(_FEW, st.booleans()), max_size=24), st.booleans())
def test_a_recorded_macro_does_what_was_performed(steps: list[tuple[str, bool]], timed: bool) -> None:
    strokes = [(n * 0.05, key, on) for n, (key, on) in enumerate(steps)]
    phrase = recorded(strokes, timed)
    down: list[str] = []
    wanted: list[tuple[str, bool]] = []
    for _, key, on in strokes:
        if on != (key in down):
            wanted.append((key, on))
            (down.append if on else down.remove)(key)
    if phrase is None:
        assert wanted == []
        return
    assert parse_phrase(str(phrase)) == phrase
    cell = Cell("pad.south", BASE, tap=Binding(phrase))
    profile = Profile(BASE, (), (Level(BASE, {"pad.south": (cell,)}),), {})
    engine = Engine(Plan(SURFACES, {BASE: profile}))
    effects = [*engine.feed((0.0, "pad.south", 1)), *engine.feed((0.01, "pad.south", 0)), *engine.advance(99.0)]
    sent = [(effect[3], effect[2] == "down") for effect in effects]
    assert [key for key, on in sent if on] == [key for key, on in wanted if on]
    # With times, the very same keys are down at each key that goes down; without, the same modifiers.
    assert _held_at_each_press(sent, timed) == _held_at_each_press(wanted, timed)
    assert engine.held == ()


def _held_at_each_press(strokes: list[tuple[str, bool]], whole: bool) -> list[tuple[str, frozenset[str]]]:
    down: set[str] = set()
    found = []
    for key, on in strokes:
        if on:
            found.append((key, frozenset(key for key in down if whole or key in MODIFIERS)))
        (down.add if on else down.discard)(key)
    return found


def test_macros_read_well() -> None:
    def phrase(text: str, timed: bool = False) -> str:
        strokes = [(n * 0.1, word[1:], word[0] == "+") for n, word in enumerate(text.split())]
        return str(recorded(strokes, timed))

    assert phrase("+ctrl +shift +z -z -shift -ctrl") == "ctrl+shift+z"
    assert phrase("+ctrl +shift +z -ctrl -z -shift") == "ctrl+shift+z"  # hands let go in any order
    assert phrase("+a +b -a -b") == "a then b"
    assert phrase("+ctrl +shift -ctrl -shift") == "ctrl+shift"
    assert phrase("+ctrl +k -k -ctrl +s -s") == "ctrl+k then s"
    assert phrase("+a -a +a -a +a -a") == "a x3"
    assert phrase("+shift +right -right +right -right -shift") == "press shift then right x2 then lift shift"
    assert phrase("+a -a", timed=True) == "press a then wait 100ms then lift a"
    assert phrase("-a") == "None"
