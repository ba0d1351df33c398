"""Controls and whole surfaces that are left to the program: `pass` and `leaves`."""

from __future__ import annotations

from pathlib import Path

import pytest

from fenko.core.changes import FOCUS, Change
from fenko.core.circumstances import Focus
from fenko.core.engine import Engine
from fenko.desk.compiled import compiled
from fenko.desk.load import load_desk
from fenko.services.compiling import Assembly, compile_desk
from support import MakeDesk, Run

DESK = """
format = 1
[surface.pad]
kind = "gamepad"
[surface.keypad]
kind = "keypad"
{keypad}
[surface.mouse]
kind = "mouse"
[profile.base.on.pad]
south = "ctrl+z"
[profile.base.on.keypad]
kp1 = "ctrl+s"
kp2 = "ctrl+x"
[profile.base.on.mouse]
side = "ctrl+v"
wheel.up = "a"
motion = "pointer x0.5"
[profile.base.layer.trim.on.pad]
east = "t"
[profile.game]
when = {{ app = "lanternquest" }}
{leaves}
[profile.game.on.keypad]
kp1 = "pass"
kp0 = "layer trim"
[profile.game.on.pad]
mode = "x"
[profile.game.on.mouse]
side = "pass"
wheel.up = "pass"
motion = "pass"
"""
GAME: Change = (0.0, FOCUS, Focus("lanternquest"))


def _engine(make_desk: MakeDesk, leaves: str = 'leaves = ["pad"]', keypad: str = "") -> Engine:
    engine = Engine(load_desk(make_desk(DESK.format(leaves=leaves, keypad=keypad))).plan)
    engine.feed(GAME)
    return engine


def _sent(engine: Engine, *changes: Change) -> list[tuple[object, ...]]:
    return [effect[1:] for change in changes for effect in engine.feed(change)]


def test_pass_is_the_control_as_it_always_was(make_desk: MakeDesk) -> None:
    engine = _engine(make_desk)
    assert _sent(engine, (1.0, "keypad.kp1", 1), (1.1, "keypad.kp1", 0)) == [
        ("keys", "down", "kp1"),
        ("keys", "up", "kp1"),
    ]
    assert _sent(engine, (2.0, "mouse.side", 1), (2.1, "mouse.side", 0)) == [
        ("pointer", "down", "side"), ("pointer", "up", "side")
    ]  # fmt: skip
    assert _sent(engine, (3.0, "mouse.motion.x", 7)) == [("pointer", "move", 7, 0)]
    assert _sent(engine, (3.1, "mouse.wheel", 1)) == [("pointer", "scroll", 0, -1)]
    # What is not mentioned is base's.
    assert _sent(engine, (4.0, "keypad.kp2", 1), (4.1, "keypad.kp2", 0))[0] == ("keys", "down", "ctrl")


def test_pass_sends_nothing_where_other_programs_have_the_device_anyway(make_desk: MakeDesk) -> None:
    engine = _engine(make_desk, keypad="exclusive = false")
    assert _sent(engine, (1.0, "keypad.kp1", 1), (1.1, "keypad.kp1", 0)) == []


def test_of_a_surface_that_is_left_only_the_profiles_own_bindings_act(make_desk: MakeDesk) -> None:
    engine = _engine(make_desk)
    assert _sent(engine, (1.0, "pad.south", 1), (1.1, "pad.south", 0)) == []
    assert _sent(engine, (2.0, "pad.mode", 1), (2.1, "pad.mode", 0)) == [("keys", "down", "x"), ("keys", "up", "x")]
    engine.feed((3.0, "keypad.kp0", 1))  # a layer of base's says nothing of it either
    assert _sent(engine, (3.1, "pad.east", 1), (3.2, "pad.east", 0)) == []
    engine.feed((3.3, "keypad.kp0", 0))
    assert _sent(engine, (4.0, FOCUS, Focus("snipwell"))) == [("fenko", "profile", "base", "focus")]
    assert _sent(engine, (5.0, "pad.south", 1))[0] == ("keys", "down", "ctrl")


def test_what_is_held_when_a_profile_leaves_the_surface_is_released_by_its_hand(make_desk: MakeDesk) -> None:
    engine = Engine(load_desk(make_desk(DESK.format(leaves='leaves = ["pad"]', keypad=""))).plan)
    engine.feed((0.0, "pad.south", 1))
    assert _sent(engine, (0.5, FOCUS, Focus("lanternquest"))) == [("fenko", "profile", "game", "focus")]
    assert _sent(engine, (1.0, "pad.south", 0)) == [("keys", "up", "z"), ("keys", "up", "ctrl")]


def test_an_unbound_control_of_a_surface_that_is_left_is_not_sent_twice(make_desk: MakeDesk) -> None:
    engine = _engine(make_desk, 'leaves = ["keypad", "mouse"]')
    assert _sent(engine, (1.0, "keypad.kp7", 1), (1.1, "keypad.kp7", 0), (1.2, "mouse.tilt-wheel", 1)) == []


@pytest.mark.parametrize(
    ("lines", "says"),
    [
        (
            '[profile.game.on.pad]\nsouth = "pass"',
            ["`south` of a gamepad is no key and no mouse button", '`leaves = ["pad"]`'],
        ),
        ('[profile.game]\non-enter = "pass"', ["`pass` leaves a control to the program, and here is none"]),
        ('[profile.game]\nleaves = ["pda"]', ["unknown surface `pda`", "did you mean `pad`?"]),
        ('[profile.game]\nleaves = "pad"', ["expected a list, not a text"]),
    ],
)
def test_what_cannot_be_left_is_said(fenko: Run, make_desk: MakeDesk, lines: str, says: list[str]) -> None:
    desk = make_desk('format = 1\n[surface.pad]\nkind = "gamepad"\n' + lines + "\n")
    done = fenko("check", "--desk", desk)
    assert done.returncode == 2
    for one in says:
        assert one in done.stdout + done.stderr, done.stdout + done.stderr


def test_explain_says_who_has_the_surface(fenko: Run, make_desk: MakeDesk) -> None:
    desk = make_desk(DESK.format(leaves='leaves = ["pad"]', keypad=""))
    assert fenko("check", "--desk", desk).returncode == 0
    done = fenko("explain", "pad.south", "--app", "lanternquest", "--desk", desk)
    assert "the program has it: game leaves pad to it" in done.stdout
    assert "ctrl+z in base" in done.stdout
    done = fenko("explain", "keypad.kp1", "--app", "lanternquest", "--desk", desk)
    assert "does    pass" in done.stdout and "kp1↓" in done.stdout


def test_a_desk_that_was_compiled_elsewhere_leaves_the_same(make_desk: MakeDesk, tmp_path: Path) -> None:
    folder = make_desk(DESK.format(leaves='leaves = ["pad"]', keypad=""))
    assembly = Assembly()
    (desk,) = [found for piece in compile_desk(str(folder)) if (found := assembly.take(*piece)) is not None]
    wanted = compiled(load_desk(folder)).plan
    plan = desk.plan  # type: ignore[union-attr]
    for name, profile in wanted.profiles.items():
        assert [level.controls for level in plan.profiles[name].levels] == [level.controls for level in profile.levels]
        assert plan.profiles[name].leaves == profile.leaves
    assert (
        plan.levels["base"].controls == wanted.levels["base"].controls and "pad.south" in plan.levels["base"].controls
    )
