"""`fenko explain`, and the scripts of hands by which it and the expectations of a desk find out what happens."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenko.core.performing import perform
from fenko.core.phrase import Phrase
from fenko.core.script import HAND_WORDS, ScriptError, parse_hand_step
from fenko.desk.load import load_desk
from fenko.desk.model import BindingFile, DeskTimingFile, SurfaceFile
from fenko.desk.settings import find_settings
from fenko.desk.settings import settings as all_settings
from fenko.desk.structure import fields
from hands import SURFACES, Witness, plans
from support import DEMO, MakeDesk, Run, tries

DESK = """[surface.pad]
kind = "gamepad"
[surface.dial]
kind = "dial"
[surface.keypad]
kind = "keypad"
names = { kp5 = "stop" }
[profile.base.on.pad]
north = "f1"
south = { do = "f2", label = "Two", note = "in a hurry" }
[profile.frames]
when = { app = "snipwell" }
[profile.frames.on.pad]
south.tap = "ctrl+z"
south.hold = { do = "o then wait 50ms then p", label = "Onion" }
"west+east" = "ctrl+s"
stick-left.up.full = "pageup"
[profile.frames.on.dial]
dial.left = { press = "left", fast = "left x10" }
[profile.frames.layer.coarse]
while = "shift"
[profile.frames.layer.coarse.on.pad]
south = "alt+s"
"""


@pytest.fixture
def explain(fenko: Run, make_desk: MakeDesk) -> Any:
    folder = make_desk(DESK)

    def ask(*arguments: str) -> list[dict[str, Any]]:
        done = fenko("explain", *arguments, "--desk", folder, "--format", "json")
        assert done.returncode == 0, done.stderr
        found: list[dict[str, Any]] = json.loads(done.stdout)
        return found

    return ask


def effects(one: dict[str, Any]) -> list[tuple[str, float, str, str]]:
    return [(effect["phase"], effect["t"], effect["act"], effect.get("key", "")) for effect in one["sends"]]


def test_who_owns_a_control_and_what_that_hides(explain: Any) -> None:
    tap, hold = explain("pad.south", "--app", "snipwell")
    assert (tap["gesture"], tap["does"], tap["level"], tap["where"]) == ("tap", "ctrl+z", "frames", "desk.toml:14")
    assert tap["hides"] == [{"level": "base", "gesture": "press", "does": "Two · f2", "where": "desk.toml:10"}]
    assert tap["otherwise"] == [
        {"level": "frames/coarse", "gesture": "press", "does": "alt+s", "where": "desk.toml:23"}
    ]
    assert hold["does"] == "Onion · o then wait 50ms then p"
    assert hold["waits"] == ["220ms after the press: it has to be held so long"]
    assert [(phase, act, key) for phase, _, act, key in effects(hold)] == [
        ("the hold", "down", "o"), ("the hold", "up", "o"), ("the hold", "down", "p"), ("the hold", "up", "p")
    ]  # fmt: skip
    o, o_up, p, _ = (t for _, t, _, _ in effects(hold))
    assert (o, round(o_up - o, 6), round(p - o, 6)) == (pytest.approx(0.22), 0.008, 0.058)


def test_in_other_circumstances(explain: Any) -> None:
    (base,) = explain("pad.south")
    assert (base["does"], base["note"], base["situation"]) == (
        "Two · f2",
        "in a hurry",
        "profile base (nothing in particular in front)",
    )
    assert effects(base) == [("the press", 0.0, "down", "f2"), ("the release", 0.0, "up", "f2")]
    for arguments in (("--keyboard", "shift"), ("--layer", "coarse")):
        (layered,) = explain("pad.south", "--app", "Snipwell", *arguments)
        assert (layered["does"], layered["level"]) == ("alt+s", "frames/coarse")
        assert [one["does"] for one in layered["hides"]] == ["ctrl+z", "Onion · o then wait 50ms then p", "Two · f2"]
    (by_name,) = explain("pad.south.tap", "--profile", "frames")
    assert by_name["situation"] == "profile frames"


def test_every_sort_of_control(explain: Any) -> None:
    (chord,) = explain("pad.east+west", "--app", "snipwell")
    assert (chord["does"], chord["waits"]) == ("ctrl+s", [])
    (up,) = explain("pad.stick-left.up.full", "--app", "snipwell")
    assert effects(up)[0] == ("the press", 0.0, "down", "pageup")
    turn, fast = explain("dial.dial.left", "--app", "snipwell")
    assert (turn["gesture"], effects(turn)[0]) == ("turn", ("one detent", 0.0, "down", "left"))
    assert fast["gesture"] == "fast" and len([one for one in effects(fast) if one[2] == "down"]) == 11
    (owned,) = explain("pad.south.double", "--app", "snipwell")
    assert owned["does"] == "nothing: frames owns the control, and binds south tap, south hold"
    (free,) = explain("keypad.stop")
    assert free["does"] == "nothing is bound; it is handed on as kp5"
    (elsewhere,) = explain("west+east")
    assert [one["does"] for one in elsewhere["otherwise"]] == ["ctrl+s"]


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (("pad.sout",), "did you mean `pad.south`?"),
        (("nothing",), "no surface has a control `nothing`"),
        (("pad.south", "--profile", "frame"), "did you mean `frames`?"),
        (("pad.south", "--app", "snipwell", "--layer", "corse"), "did you mean `coarse`?"),
        (("pad.south", "--keyboard", "shfit"), "did you mean `shift`?"),
        (("--setting", "hld"), "did you mean `hold`?"),
        ((), "name a control"),
    ],
)
def test_what_is_not_there(fenko: Run, make_desk: MakeDesk, arguments: tuple[str, ...], said: str) -> None:
    done = fenko("explain", *arguments, "--desk", make_desk(DESK))
    assert done.returncode == 2 and said in done.stderr and "Traceback" not in done.stderr


def test_people_read_it(fenko: Run) -> None:
    told = fenko("explain", "pad.hat.left", "--app", "snipwell", "--layer", "trim", "--desk", DEMO).stdout
    for line in (
        "pad hat.left press  profile frames (snipwell in front), layer trim on",
        "  does    Cut one frame earlier · alt+left",
        "  hides   One frame back · left in frames",
        "  waits   for nothing",
        "  sends   the press: alt↓  left↓",
        "          the release: left↑  alt↑",
    ):
        assert line in told


def test_every_setting_says_what_it_does(fenko: Run) -> None:
    known = all_settings()
    assert [one.name for one in known if not one.does] == []
    names = {one.name for one in known}
    assert {f"timing.{name}" for name in fields(DeskTimingFile)} <= names
    assert {f"surface.NAME.{name}" for name in fields(SurfaceFile) if name not in ("timing", "network")} <= names
    assert "surface.NAME.network.latest" in names
    assert {f"profile.NAME.on.SURFACE.CONTROL.{name}" for name in fields(BindingFile) if name != "timing"} <= names
    (kind,) = find_settings("surface.pad.kind")
    assert kind.default == "what its description says, else other" and "ring-and-dial" in kind.takes
    done = fenko("explain", "--setting", "timing.hold")
    assert done.stdout.splitlines()[-4:] == [
        "  does    From a press to its hold; shorter is a tap.", "  takes   a time in ms or s", "  range   50ms to 5s",
        "  default 220ms",
    ]  # fmt: skip
    assert len(fenko("explain", "--settings").stdout.splitlines()) == len(known) + 1


# --- Scripts ---


@pytest.mark.parametrize(
    ("text", "offset", "hint"),
    [
        ("", 0, "tap pad.south"),
        ("tpa pad.south", 0, "tap"),
        ("tap", 0, None),
        ("tap pad.sout", 4, None),
        ("tap pad.hat", 4, None),
        ("tap pad.south.half", 4, None),
        ("tap dial.dial.left", 4, "turn dial.dial.left"),
        ("turn dial.dial.left 0", 20, None),
        ("turn pad.south", 5, "tap pad.south"),
        ("keyboard shfit", 9, "shift"),
        ("wait 3", 5, None),
        ("unplug pda", 7, "pad"),
        ("tap pad.south now", 14, None),
    ],
)
def test_a_script_says_where_it_is_wrong(text: str, offset: int, hint: str | None) -> None:
    with pytest.raises(ScriptError) as error:
        parse_hand_step(text, SURFACES)
    assert (error.value.offset, error.value.hint) == (offset, hint), str(error.value)


_WORDS = st.sampled_from([*HAND_WORDS, "pad.south", "pad.hat.left", "pad.east+south", "dial.dial.left", "fast", "3", '"', "pad", "keys.kp1-x2"])  # fmt: skip


@settings(max_examples=tries(400))
@given(st.one_of(st.text(max_size=30), st.lists(_WORDS, max_size=4).map(" ".join)))
def test_a_script_raises_nothing_but_its_own_error(text: str) -> None:
    try:
        parse_hand_step(text, SURFACES)
    except ScriptError as error:
        assert 0 <= error.offset <= len(text) and error.length >= 1


_DEEDS = [
    "front snipwell", "front hushdesk", "keyboard shift", "keyboard none", "press pad.south", "hold pad.south", "release pad.south",
    "tap pad.south", "double pad.south", "triple pad.north", "tap pad.east+south", "tap keys.kp1-x2", "press pad.hat.up-left",
    "release pad.hat.up-left", "press pad.trigger-right.half", "tap pad.trigger-right.full", "turn dial.dial.right 3", "turn dial.dial.left 2 fast",
    "wait 100ms", "unplug pad", "plug pad", "tap old.south", "tap mouse.side",
]  # fmt: skip


@settings(max_examples=tries(120), deadline=None)
@given(plans(), st.lists(st.sampled_from(_DEEDS), max_size=8))
def test_any_script_on_any_desk_tells_what_a_program_sees(plan: Any, texts: list[str]) -> None:
    outcome = perform(plan, [parse_hand_step(text, SURFACES) for text in texts])
    witness = Witness()
    witness.see(outcome.effects)
    assert {
        (out, key.split(" ")[-1]) for key in outcome.held for out in [("pointer" if " " in key else "keys")]
    } == witness.down
    assert outcome.profile in plan.profiles
    assert outcome == perform(plan, [parse_hand_step(text, SURFACES) for text in texts]), "and the same each time"


def test_a_script_does_what_the_gestures_mean() -> None:
    plan = load_desk(DEMO).plan

    def sent(*texts: str) -> str:
        outcome = perform(plan, [parse_hand_step(text, plan.surfaces) for text in texts])
        return str(Phrase(outcome.sent)) if outcome.sent else ""

    assert sent("front snipwell", "tap pad.stick-right-press", "double pad.stick-right-press") == "n then shift+n"
    assert sent("front snipwell", "press pad.shoulder-left", "turn dial.dial.right") == "shift then shift+right"
    assert sent("front snipwell", "hold pad.shoulder-right", "unplug pad", "plug pad", "tap pad.hat.left") == "left"
    assert sent('front railmoth "Rail A"', "tap pad.hat.down-left") == "home"
    assert sent('front railmoth "No rail"', "tap pad.hat.left") == ""
