"""Takes and timelines, through the built program."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st

from fenko.cli import cli
from fenko.core.rehearsal import rehearse
from fenko.desk.load import load_desk
from fenko.devices.take import TakeError, read_take
from support import DEMO, MakeDesk, Run, tries

DESK = """
format = 1
[surface.pad]
kind = "gamepad"
[surface.keypad]
kind = "keypad"
names = { kp5 = "stop" }
[timing]
hold = "200ms"
stroke = "10ms"
[profile.base.on.pad]
south = { do = "ctrl+z", label = "Undo" }
north.hold = "o"
[profile.frames]
when = { app = "snipwell" }
[profile.frames.on.pad]
south = 'type "東"'
[profile.frames.on.keypad]
stop = "k"
"""
HEAD: dict[str, Any] = {"take": 1, "name": "test", "surfaces": {"pad": "gamepad"}}


def write(path: Path, *lines: dict[str, Any] | str) -> Path:
    path.write_text("\n".join(line if isinstance(line, str) else json.dumps(line) for line in lines) + "\n")
    return path


def button(t: float, control: str, value: float, surface: str = "pad") -> dict[str, Any]:
    return {"t": t, "surface": surface, "control": control, "value": value}


def test_a_take_of_what_the_device_said_plays_like_one_of_shares(
    fenko: Run, make_desk: MakeDesk, tmp_path: Path
) -> None:
    desk = make_desk(
        '[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nstick-left.right = "r"\ntrigger-left = "t"'
    )
    axis = {"surface": "pad", "control": "stick-left.x", "range": [0, 255]}
    trigger = {"surface": "pad", "control": "trigger-left", "range": [-100, 100]}
    told = {
        "raw": [{"t": 1, **axis, "raw": 128}, {"t": 2, **axis, "raw": 191}, {"t": 3, **axis, "raw": 192}, {"t": 4, **axis, "raw": 900},
                {"t": 5, **axis, "raw": 178}, {"t": 6, **trigger, "raw": 0}, {"t": 7, **trigger, "raw": -21}],
        "shares": [button(1, "stick-left.x", 0), button(2, "stick-left.x", 0.498), button(3, "stick-left.x", 0.506),
                   button(4, "stick-left.x", 1), button(5, "stick-left.x", 0.39), button(6, "trigger-left", 0.5),
                   button(7, "trigger-left", 0.395)],
    }  # fmt: skip
    shown = []
    for version, (name, lines) in enumerate(sorted(told.items(), reverse=True), 1):
        take = write(tmp_path / f"{name}.jsonl", {**HEAD, "take": version}, *lines)
        done = fenko("rehearse", take, "--desk", desk, "--format", "jsonl")
        assert done.returncode == 0, done.stderr
        shown.append(done.stdout)
    assert shown[0] == shown[1]
    assert [json.loads(line)["t"] for line in shown[0].splitlines()] == [3, 5, 6, 7]


def test_one_line_an_effect(fenko: Run, make_desk: MakeDesk, tmp_path: Path) -> None:
    take = write(
        tmp_path / "t.jsonl", HEAD, button(1.204, "south", 1), button(1.3, "south", 0),
        {"t": 2, "focus": {"app": "snipwell", "title": "Reel 2"}}, {"t": 2.1, "keyboard": ["shift"]},
        button(3, "south", 1), button(3.05, "south", 0), button(4, "kp5", 1, "keypad"), button(4.1, "stop", 0, "keypad"),
        button(5, "kp7", 1, "keypad"), {"t": 5.5, "unplug": "keypad"}, {"t": 6, "plug": "keypad"}, button(7, "north", 1),
    )  # fmt: skip
    done = fenko("rehearse", take, "--desk", make_desk(DESK), "--format", "jsonl")
    assert done.returncode == 0, done.stderr
    assert [json.loads(line) for line in done.stdout.splitlines()] == [
        {"t": 1.204, "out": "keys", "act": "down", "key": "ctrl"},
        {"t": 1.204, "out": "keys", "act": "down", "key": "z"},
        {"t": 1.3, "out": "keys", "act": "up", "key": "z"},
        {"t": 1.3, "out": "keys", "act": "up", "key": "ctrl"},
        {"t": 2.0, "out": "fenko", "act": "profile", "name": "frames", "by": "focus"},
        {"t": 3.0, "out": "keys", "act": "type", "text": "東"},
        {"t": 4.0, "out": "keys", "act": "down", "key": "k"},
        {"t": 4.1, "out": "keys", "act": "up", "key": "k"},
        {"t": 5.0, "out": "keys", "act": "down", "key": "kp7"},
        {"t": 5.5, "out": "keys", "act": "up", "key": "kp7"},
        {"t": 7.2, "out": "keys", "act": "down", "key": "o"},  # the pending hold finishes
        {"t": 7.2, "out": "keys", "act": "up", "key": "o"},  # and all that is held is released
    ]


def test_the_table_says_who_did_what_and_why(fenko: Run, make_desk: MakeDesk, tmp_path: Path) -> None:
    take = write(
        tmp_path / "t.jsonl", HEAD, button(1.2, "south", 1), button(1.3, "south", 0), button(2, "kp7", 1, "keypad")
    )
    lines = fenko("rehearse", take, "--desk", make_desk(DESK)).stdout.splitlines()
    assert lines[1].split("  ") and all(
        word in lines[1] for word in ("1.200", "pad south press", "base", "Undo · ctrl+z", "ctrl↓  z↓")
    )
    assert "not bound, handed on" in lines[3]


@pytest.mark.parametrize(
    ("lines", "number", "message"),
    [
        ([], 0, "this file is empty"),
        (['{"t": 1}'], 1, "a take begins with"),
        ([{**HEAD, "take": 3}], 1, "take format 3; this Fenko reads formats 1 and 2"),
        ([{**HEAD, "take": 2}, {"t": 1, "surface": "pad", "control": "stick-left.x", "raw": 7}], 2, "`raw` and `range`"),
        ([HEAD, {"t": 1, "surface": "pad", "control": "south", "raw": 1, "range": [0, 1]}], 2, "`raw` and `range`"),
        ([HEAD, {"t": 1, "surface": "pad", "control": "hat.x", "raw": 0.5, "range": [0, 1]}], 2, "a whole number"),
        ([HEAD, {"t": 1, "surface": "pad", "control": "hat.x", "raw": 1, "range": [0]}], 2, "a whole number"),
        ([HEAD, {"t": 1, "surface": "pad", "control": "hat.x", "raw": 1, "range": [0, 1], "value": 1}], 2, "one is enough"),
        ([{**HEAD, "surfaces": {"padd": "gamepad"}}], 1, "no surface `padd`; did you mean `pad`?"),
        ([HEAD, button(1, "south", 1, "pda")], 2, "no surface `pda`; did you mean `pad`?"),
        ([HEAD, button(1, "suoth", 1)], 2, "no control `suoth`; did you mean `south`?"),
        ([HEAD, button(1, "stick-left", 1)], 2, "does not say which part"),
        ([HEAD, button(1, "south", 2)], 2, "a button is 0 or 1, not 2"),
        ([HEAD, button(1, "stick-left.x", 1.5)], 2, "goes from -1 to 1"),
        ([HEAD, button(1, "trigger-left", -0.5)], 2, "goes from 0 to 1"),
        ([HEAD, button(-1, "south", 1)], 2, "time in seconds"),
        ([HEAD, "", button(2, "south", 1), button(1, "south", 0)], 4, "time runs backwards"),
        ([HEAD, '{"t": 1, "surface": "pad", "contr'], 2, "was the take cut off here?"),
        ([HEAD, "[1]"], 2, "not a JSON object"),
        ([HEAD, '{"t": 1}'], 2, "tells of nothing"),
        ([HEAD, {"t": 1, "focus": {"ap": "x"}}], 2, "no `ap`; did you mean `app`?"),
        ([HEAD, {"t": 1, "focus": "x"}], 2, "`focus` is an object"),
        ([HEAD, {"t": 1, "keyboard": ["hyper"]}], 2, "list of modifiers"),
        ([HEAD, {"t": 1, "unplug": "x"}], 2, "no surface `x`"),
    ],
)  # fmt: skip
def test_a_bad_take_is_an_error_that_names_the_line(
    fenko: Run, make_desk: MakeDesk, tmp_path: Path, lines: list[Any], number: int, message: str
) -> None:
    take = write(tmp_path / "t.jsonl", *lines) if lines else tmp_path / "t.jsonl"
    take.touch()
    done = fenko("rehearse", take, "--desk", make_desk(DESK))
    assert done.returncode == 2
    assert done.stdout == ""
    assert message in done.stderr
    assert f"t.jsonl:{number}: " in done.stderr or number == 0


def test_a_take_that_is_not_there(fenko: Run, make_desk: MakeDesk, tmp_path: Path) -> None:
    for path in (tmp_path / "none.jsonl", tmp_path):
        done = fenko("rehearse", path, "--desk", make_desk(DESK))
        assert (done.returncode, "cannot be read" in done.stderr) == (2, True)


def test_a_long_take_is_rehearsed_in_reasonable_time(fenko: Run, make_desk: MakeDesk, tmp_path: Path) -> None:
    presses = [button(round(n * 0.018, 3), "south", 1 - n % 2) for n in range(200_000)]
    done = fenko(
        "rehearse", write(tmp_path / "t.jsonl", HEAD, *presses), "--desk", make_desk(DESK), "--format", "jsonl"
    )
    assert done.stdout.count("\n") == 400_000


def test_one_more_scene_shows_every_other_gesture(fenko: Run) -> None:
    take = DEMO / "takes/more.jsonl"
    done = fenko("rehearse", take, "--desk", DEMO, "--format", "jsonl")
    effects = [json.loads(line) for line in done.stdout.splitlines()]
    assert [effect["state"] for effect in effects if effect["act"] == "state"] == ["Muted", "Live", "Muted"]
    assert [effect["on"] for effect in effects if effect["act"] == "layer"] == [True, False]
    table = fenko("rehearse", take, "--desk", DEMO).stdout
    for shown in ("stick-right-press double", "select+start press", "kp0-x2 press", "dial.right fast", "hat.down-left",
                  "frames/trim", "button left↓", "→ Live"):  # fmt: skip
        assert shown in table, shown


def test_the_demos_take_is_the_same_each_time(fenko: Run) -> None:
    take = DEMO / "takes/evening.jsonl"
    first, second = (fenko("rehearse", take, "--desk", DEMO, "--format", "jsonl").stdout for _ in range(2))
    assert first == second
    downs = [line for line in map(json.loads, first.splitlines()) if line["act"] in ("down", "up")]
    assert sum(1 if line["act"] == "down" else -1 for line in downs) == 0


_PLAN = load_desk(DEMO).plan


def _broken_take(path: Path, data: st.DataObject) -> None:
    good = (DEMO / "takes/evening.jsonl").read_bytes()[:3000]
    a, b = sorted(data.draw(st.tuples(st.integers(0, len(good)), st.integers(0, len(good)))))
    new = data.draw(
        st.one_of(
            st.binary(max_size=5),
            st.sampled_from([b'"t": 1e999', b'"value": null', b"{}", b"\n\n", b"[", b"-1", b"9" * 400]),
        )
    )
    path.write_bytes(good[:a] + new + good[min(b, a + 20) :])


@settings(max_examples=tries(300))
@given(st.data())
def test_broken_takes_are_told_and_nothing_else(tmp_path_factory: pytest.TempPathFactory, data: st.DataObject) -> None:
    path = tmp_path_factory.getbasetemp() / "broken.jsonl"
    _broken_take(path, data)
    try:
        changes = read_take(path, _PLAN.surfaces).changes
    except TakeError as error:
        assert str(path) in str(error)
    else:
        list(rehearse(_PLAN, changes))


@settings(max_examples=tries(20))
@given(st.data())
def test_broken_takes_never_make_a_traceback(tmp_path_factory: pytest.TempPathFactory, data: st.DataObject) -> None:
    path = tmp_path_factory.getbasetemp() / "broken.jsonl"
    _broken_take(path, data)
    for form in ("table", "jsonl"):
        done = CliRunner().invoke(cli, ["rehearse", str(path), "--desk", str(DEMO), "--format", form])
        assert done.exception is None or isinstance(done.exception, SystemExit), done.exc_info
        assert done.exit_code == 0 or (done.exit_code == 2 and str(path) in done.stderr and not done.stdout)
