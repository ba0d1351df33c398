"""What `fenko check` thinks of desks that load: each judgement, where it stands, and what it does not complain about."""

from __future__ import annotations

import json
import subprocess
from itertools import pairwise
from pathlib import Path

import pytest

from fenko.desk.importing import keys_from
from fenko.desk.judging import judge
from fenko.desk.load import load_desk
from screen import needs_screen, screen
from support import DEMO, FENKO, MakeDesk, Run

HEAD = """[surface.pad]
kind = "gamepad"
[surface.keypad]
kind = "keypad"
[profile.base.on]
keypad.kp1 = "f1"
pad.start = "f2"
"""


def judged(make_desk: MakeDesk, text: str, name: str = "desk") -> list[tuple[str, int, str]]:
    """Severity, line after the head, and message of each finding."""
    lines = HEAD.count("\n")
    found = judge(load_desk(make_desk(HEAD + text, name=name)))
    return [(one.severity, one.line - lines, one.message) for one in found]


FINDINGS = {
    "a profile that nothing brings": (
        '[profile.lost.on]\npad.south = "a"', "warning", 1, "nothing ever puts `lost` in force"),
    "what every profile hides": (
        '[profile.all.on]\npad.south = "a"\n[profile.one]\nextends = "all"\nwhen = { app = "x" }\n[profile.one.on]\npad.south = "b"',
        "warning", 2, "never fires: every profile that extends `all` binds `south` itself"),
    "what every profile hides, where not every direction is bound": (
        '[profile.all.on]\npad.hat.right = "a"\n[profile.one]\nextends = "all"\nwhen = { app = "x" }\n[profile.one.on]\npad.hat.up = "b"',
        "warning", 2, "never fires: every profile that extends `all` binds `hat` itself"),
    "the same `when` twice": (
        '[profile.one]\nwhen = { app = "x" }\non.pad.south = "a"\n[profile.two]\nwhen = { app = "x" }\non.pad.south = "b"',
        "warning", 5, "`two` never comes by itself: `one` has the same `when`"),
    "two that fit the same window": (
        '[profile.one]\nwhen = { app = "x*" }\non.pad.south = "a"\n[profile.two]\nwhen = { title = "Reel*" }\non.pad.south = "b"',
        "warning", 5, '`two` and `one` fit app "x", title "Reel" equally well'),
    "a layer that nothing turns on": (
        '[profile.one]\nwhen = { app = "x" }\n[profile.one.layer.trim.on]\npad.south = "a"', "warning", 3,
        "nothing turns the layer `trim` on"),
    "a layer without a way out": (
        '[profile.one]\nwhen = { app = "x" }\non.pad.south = "layer trim locked"\n[profile.one.layer.trim.on]\npad.south = "a"',
        "warning", 3, "nothing lifts the layer `trim` again"),
    "a profile without a way back": (
        '[profile.one]\nwhen = { app = "x" }\non.pad.south = "profile two"\n[profile.two]\non.pad.west = "a"',
        "warning", 3, "nothing in `two` leads to another profile again"),
    "what holds its own layer": (
        '[profile.one]\nwhen = { app = "x" }\non.pad.south = "layer trim"\n[profile.one.layer.trim.on]\npad.south = "a"',
        "warning", 5, "never fires: `south` is held as long as this layer is on"),
    "left and right at once": (
        '[profile.base.on.pad]\n"hat.left+hat.right" = "a"'.replace("base", "one") + '\n[profile.one]\nwhen = { app = "x" }', "warning", 2,
        "never fires: `hat` cannot be pushed left and right at once"),
    "a touch with its press": (
        '[surface.jog]\nkind = "ring-and-dial"\nnames = { button-1 = "knob", button-2 = "knob-touch" }\n[profile.one]\nwhen = { app = "x" }\n'
        'on.jog."knob+knob-touch" = "a"\non.jog.knob = "b"', "warning", 6, "never fires: `knob-touch` is silent"),
    "what is said below already": (
        '[profile.one]\nwhen = { app = "x" }\non.pad.start = "f2"', "hint", 3, "says the same as `base`, which lies under it"),
    "what hides the pause": (
        '[profile.under.on]\npad.mode = "pause"\n[profile.one]\nextends = "under"\nwhen = { app = "x" }\non.pad.mode = "a"\n[profile.two]\n'
        'extends = "under"\nwhen = { app = "y" }\non.pad.south = "b"', "warning", 6, "hides `pause` of `under`: in `one` nothing stops"),
    "two that do the same": (
        '[profile.one]\nwhen = { app = "x" }\non.pad.south = "a"\non.pad.east = "a"', "hint", 4, "does the same as `south`: a"),
    "a press before every double": (
        '[profile.one]\nwhen = { app = "x" }\non.pad.south = { press = "a", double = "b" }', "hint", 3,
        "`press` acts at once, so it also comes before every `double` of `south`"),
    "lifting what is not pressed": (
        '[profile.one]\nwhen = { app = "x" }\non.pad.south = "press a then lift b"', "warning", 3, "`lift b` lifts nothing"),
    "a surface that is not used": ('[surface.old]\nkind = "dial"', "hint", 1, "nothing is bound on `old`"),
    "a name that is not used": (
        '[surface.two]\nkind = "keypad"\nnames = { kp5 = "stop" }\n[profile.one]\nwhen = { app = "x" }\non.two.kp1 = "a"',
        "hint", 3, "nothing is bound on `stop`"),
    "a group of one": (
        '[profile.one]\nwhen = { app = "x" }\non.pad.south = { do = "toggle f5", group = "view" }', "hint", 3, "`view` has no other binding"),
    "a control that the thing does not have": (
        '[surface.knots]\ndescription = "nine-knots"\n[profile.one]\nwhen = { app = "x" }\non.knots.f24 = "a"', "warning", 5,
        "never fires: the description `nine-knots` knows no `f24`"),
    "an expectation that fails": (
        '[profile.one]\nwhen = { app = "x" }\non.pad.south = "a"\n[[expect]]\nthat = "it undoes"\ndo = ["front x", "tap pad.south"]\nsends = "ctrl+z"',
        "error", 7, "it undoes: something else comes"),
}  # fmt: skip


@pytest.mark.parametrize("about", FINDINGS)
def test_each_judgement(make_desk: MakeDesk, about: str) -> None:
    text, severity, line, message = FINDINGS[about]
    found = judged(make_desk, text)
    assert [one for one in found if one[2].startswith(message)] == [(severity, line, found[0][2])], found
    assert len(found) == 1, "and nothing else"


QUIET = [
    # A way out of a locked layer: the same again, another profile, or pausing.
    '[profile.one]\nwhen = { app = "x" }\non.pad.south = "layer trim locked"\n[profile.one.layer.trim.on]\npad.west = "a"',
    '[profile.one]\nwhen = { app = "x" }\non.pad.south = "layer trim locked"\non.pad.north = "profile auto"\n'
    '[profile.one.layer.trim.on]\npad.south = "a"',
    # A profile chosen by hand from which one leads away.
    '[profile.one]\nwhen = { app = "x" }\non.pad.south = "profile two"\n[profile.two.on]\npad.west = "profile auto"',
    # More conditions decide; other programs do not meet; other titles do not either.
    '[profile.one]\nwhen = { app = "x" }\non.pad.south = "a"\n[profile.two]\nwhen = { app = "x", title = "*Titles*" }\non.pad.south = "b"',
    '[profile.one]\nwhen = { app = "x", title = "A" }\non.pad.south = "a"\n[profile.two]\nwhen = { app = "x", title = "B" }\non.pad.south = "b"',
    # Held layers on a control of their own, layers that go with the keyboard, layers that a child turns on.
    '[profile.one]\nwhen = { app = "x" }\n[profile.one.layer.coarse]\nwhile = "shift"\non.pad.south = "a"',
    '[profile.all.layer.trim.on]\npad.west = "a"\n[profile.one]\nextends = "all"\nwhen = { app = "x" }\non.pad.south = "layer trim"',
    # `profile next` reaches every profile.
    '[profile.lost.on]\npad.south = "profile next"',
    # Two of a group, and the same in two profiles.
    '[profile.one]\nwhen = { app = "x" }\non.pad = { south = { do = "toggle a", group = "g" }, east = { do = "toggle b", group = "g" } }',
    '[[expect]]\ndo = ["tap pad.start", "hold keypad.kp1"]\nsends = "f2 then f1"\nholds = "f1"\nprofile = "base"\nlayers = []',
]  # fmt: skip


@pytest.mark.parametrize("text", QUIET)
def test_what_is_well_is_not_complained_about(make_desk: MakeDesk, text: str) -> None:
    assert judged(make_desk, text) == []


def test_what_the_program_makes_of_held_keys(make_desk: MakeDesk) -> None:
    folder = make_desk(
        HEAD + '[app.snip]\nshortcuts = "snip.csv"\n[profile.one]\nwhen = { app = "snip" }\n[profile.one.on.pad]\n'
        'south = "m"\neast = "tap m"\nwest = "shift"\nnorth = "right"'
    )
    (folder / "snip.csv").write_text("command,keys,group,note\nMute,m,,toggles\nTen on,shift+right,,\nOne on,right,,\n")
    found = {one.message: one.severity for one in judge(load_desk(folder))}
    assert found["held down, `m` repeats, and `Mute` switches over each time"] == "warning"
    (hint,) = [message for message in found if "while it holds shift" in message]
    assert "`north` is then shift+right (Ten on)" in hint and "south" not in hint and found[hint] == "hint"


def test_what_is_plugged_in_decides_before_the_description(make_desk: MakeDesk) -> None:
    text = (
        HEAD + '[surface.knots]\ndescription = "nine-knots"\n[profile.one]\nwhen = { app = "x" }\non.knots.knot-1 = "a"'
    )
    desk = load_desk(make_desk(text))
    assert [one.message for one in judge(desk, {"knots": frozenset({"f14"})})] == [
        "never fires: the device that is plugged in knows no `knot-1`"
    ]
    assert judge(desk, {"knots": frozenset({"f13"})}) == []


def test_exit_status_and_strictness(fenko: Run, make_desk: MakeDesk) -> None:
    hint = make_desk(HEAD + '[surface.old]\nkind = "dial"', name="hint")
    assert fenko("check", "--desk", hint).returncode == 0
    assert fenko("check", "--desk", hint, "--strict").returncode == 1
    warning = make_desk(HEAD + FINDINGS["a layer that nothing turns on"][0], name="warning")
    assert fenko("check", "--desk", warning).returncode == 1
    error = make_desk(HEAD + FINDINGS["an expectation that fails"][0], name="error")
    done = fenko("check", "--desk", error, "--format", "json")
    assert done.returncode == 1 and json.loads(done.stdout)["usable"] is True
    bad = make_desk(HEAD + '[[expect]]\ndo = ["tap pad.sout"]\nsends = "a"', name="bad")
    done = fenko("check", "--desk", bad)
    assert done.returncode == 2 and "bad/desk.toml:9:12: error: pad has no control `sout`" in done.stdout


def test_hundreds_of_the_same_are_counted(make_desk: MakeDesk) -> None:
    surfaces = "\n".join(f'[surface.s{number}]\nkind = "dial"' for number in range(50))
    found = judge(load_desk(make_desk(HEAD + surfaces)))
    assert len(found) == 21 and found[-1].message == "30 more: surfaces without a binding"


def test_what_each_binding_waits_for(fenko: Run, make_desk: MakeDesk) -> None:
    text = HEAD + (
        '[timing]\nchord = "50ms"\n[profile.one]\nwhen = { app = "x" }\n[profile.one.on]\n'
        'pad.south = { tap = "a", double = "b", timing = { double = "300ms" } }\npad.north.hold = "c"\n"pad"."east+west" = "d"\n'
        'pad.east = "e"\nkeypad.kp0 = "f"\nkeypad.kp0-x2 = "g"\npad.hat = { left = "h", up-left = "i" }\npad.start = "j"\n'
        'pad.select = { double = "k", triple = "l" }\n'
    )
    done = fenko("check", "--desk", make_desk(text), "--delays", "--format", "json")
    assert done.returncode == 0
    waits = {(one["control"], one["gesture"]): (one["ms"], one["after"]) for one in json.loads(done.stdout)}
    assert waits == {
        ("pad.south", "tap"): (300, "release"), ("pad.north", "hold"): (220, "press"), ("pad.east", "press"): (50, "press"),
        ("keypad.kp0", "press"): (60, "press"), ("pad.hat.left", "press"): (50, "press"),
        ("pad.select", "double"): (250, "release"),
    }  # fmt: skip
    assert fenko("check", "--desk", make_desk(HEAD, name="b"), "--delays").stdout == "Every binding acts at once.\n"


def test_the_demo_keeps_what_it_promises(fenko: Run) -> None:
    done = fenko("check", "--desk", DEMO, "--format", "json", XKB_DEFAULT_LAYOUT="us")
    assert done.returncode == 0
    assert {one["severity"] for one in json.loads(done.stdout)["problems"]} == {"hint"}
    assert len(load_desk(Path(DEMO)).expectations) >= 15


# --- What a newcomer writes first ---


@pytest.mark.parametrize(
    ("lines", "says"),
    [
        (
            '[profile.base.on.wren]\nleft = "a"',
            ["`left` is the arrow key, and a dial has none", "expected `dial.left`"],
        ),
        ('[profile.base.on.pad]\nleft = "a"', ["a gamepad has no control `left`", "did you mean `hat.left`?"]),
        ('[profile.base.on.pad]\nwst = "a"', ["unknown control `wst`", "did you mean `west`?"]),
        ('[profile.base.on.pad]\nsouth = "run firefox"', ["did you mean `start`?"]),
        ('[profile.base.on.pad]\nsouth = "click"', ["did you mean `button left`?"]),
        ('[profile.base.on.pad]\nsouth = "mouse left"', ["did you mean `button left`?"]),
        ("[timing]\nhold = 200", ["a time is a text with its unit, not `200`", 'expected `hold = "200ms"`']),
        (
            '[profile.base.on.pad]\nsouth = "b"\nsouth.hold = "c"',
            ["`south` is a binding of its own already in line 7", 'expected `south = { press = "b", hold = "c" }`'],
        ),
        (
            '[profile.base.on.pad]\nsouth = "b"\n[profile.base.on.pad]\neast = "c"',
            ["the table [profile.base.on.pad] is there already, in line 6", "its lines under that one"],
        ),
        ('[profile.base.on.pad]\nsouth = "b\neast = "c"', ['this text has no closing "', 'expected `south = "b"`']),
        ('[profile.base.on.pad]\nsouth = \'b\neast = "c"', ["this text has no closing '"]),
    ],
)
def test_what_a_newcomer_writes_first_is_said_with_the_form_that_works(
    fenko: Run, make_desk: MakeDesk, lines: str, says: list[str]
) -> None:
    desk = make_desk('format = 1\n[surface.pad]\nkind = "gamepad"\n[surface.wren]\nkind = "dial"\n' + lines + "\n")
    done = fenko("check", "--desk", desk)
    assert done.returncode in (1, 2)
    for one in says:
        assert one in done.stdout + done.stderr, done.stdout + done.stderr


def test_a_failed_expectation_says_what_was_expected_and_what_came(fenko: Run, make_desk: MakeDesk) -> None:
    desk = make_desk(
        'format = 1\n[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = "a"\n[[expect]]\nthat = "it undoes"\n'
        'do = ["tap pad.south"]\nsends = "ctrl+z"\nholds = "shift"\nprofile = "base"\n'
    )
    done = fenko("check", "--desk", desk)
    assert done.returncode == 1
    assert (
        "  expected: ctrl+z\n  got:      a\n" in done.stdout
        and "  expected: shift\n  got:      nothing\n" in done.stdout
    )
    assert "does not do what it expects of itself (2 failures)" in done.stdout and "works" not in done.stdout
    found = json.loads(fenko("check", "--desk", desk, "--format", "json").stdout)
    assert [(one["expected"], one["got"]) for one in found["problems"]] == [("ctrl+z", "a"), ("shift", "nothing")]


def test_a_program_whose_window_is_in_front_runs_too(fenko: Run, make_desk: MakeDesk) -> None:
    desk = make_desk(
        'format = 1\n[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = "a"\n[profile.rail]\n'
        'when = { running = "railmoth" }\n[profile.rail.on.pad]\nsouth = "b"\n'
    )
    for more in (["--app", "railmoth"], ["--app", "snipwell", "--running", "railmoth"]):
        assert "profile rail" in fenko("explain", "pad.south", "--desk", desk, *more).stdout
        assert "rail" in fenko("explain", "--profile", "--desk", desk, *more).stdout.partition("why")[2].split("\n")[1]


def test_a_long_line_is_cut_around_what_is_meant(fenko: Run, make_desk: MakeDesk) -> None:
    long = " then ".join(["a"] * 400 + ["suoth"] + ["b"] * 400)
    done = fenko(
        "check",
        "--desk",
        make_desk(f'format = 1\n[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = "{long}"\n'),
    )
    lines = done.stdout.splitlines() or done.stderr.splitlines()
    line, caret = next((one, two) for one, two in pairwise(lines) if "suoth" in one and "^" in two)
    assert len(line) < 200 and line[caret.index("^") :].startswith("suoth") and line.count("…") == 2


@pytest.mark.parametrize("keys", ["Hyper+Q", "hyper q"])
def test_a_key_that_fenko_has_no_word_for_is_no_other_key(keys: str) -> None:
    assert keys_from(keys) is None


@needs_screen
def test_the_kernel_s_layout_matters_where_keys_go_through_the_kernel(make_desk: MakeDesk) -> None:
    strange = HEAD + "pad.south = 'type \"Größe ✓\"'\n"
    told = "✓` cannot be typed through the kernel"
    desk, always = make_desk(strange, name="desk"), make_desk('[output]\nkeys = "kernel"\n' + strange, name="always")

    def check(desk: Path, environment: dict[str, str]) -> str:
        command = [*FENKO, "check", "--desk", str(desk)]
        return subprocess.run(command, env=environment, capture_output=True, text=True, check=False).stdout

    with screen() as one:
        nowhere = {name: value for name, value in one.environment.items() if name != "DISPLAY"}
        assert f"hint: `öß{told}" in check(desk, nowhere)
        assert told not in check(desk, one.environment) and "is in order" in check(desk, one.environment)
        assert f"warning: `öß{told}" in check(always, one.environment)
