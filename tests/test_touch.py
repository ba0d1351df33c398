"""A finger on a touch area."""

from __future__ import annotations

import pytest

from fenko.core.changes import UNPLUG, Change, Effect
from fenko.core.plan import Plan
from fenko.core.rehearsal import rehearse
from fenko.desk.load import load_desk
from fenko.desk.problems import DeskError
from fenko.devices.node import addresses_of
from fenko.system.things import Node
from support import MakeDesk, Run

DESK = """
[surface.pad]
kind = "gamepad"
[profile.base.on.pad]
touch = { move = "pointer 1000", tap = "button left" }
touch-press = "button right"
[[expect]]
do = ["tap pad.touch"]
sends = "button left"
"""


@pytest.fixture
def plan(make_desk: MakeDesk) -> Plan:
    return load_desk(make_desk(DESK)).plan


def _finger(t: float, *places: tuple[float, float], up: bool = True) -> list[Change]:
    """A finger that comes down, is at these places one after the other, and goes up again."""
    changes: list[Change] = [(t, "pad.touch", 1)]
    for n, (x, y) in enumerate(places):
        changes += [(t + n / 100, "pad.touch.x", x), (t + n / 100, "pad.touch.y", y)]
    return [*changes, (t + len(places) / 100, "pad.touch", 0)] if up else changes


def _played(plan: Plan, *changes: Change) -> tuple[tuple[float, float], str]:
    """How far the pointer went, and the buttons."""
    effects: list[Effect] = [effect for effects in rehearse(plan, changes) for effect in effects]
    steps = [effect[3:] for effect in effects if effect[2] == "move"]
    buttons = " ".join(
        f"{effect[3]}{'+' if effect[2] == 'down' else '-'}" for effect in effects if effect[2] in ("down", "up")
    )
    return (round(sum(x for x, _ in steps), 3), round(sum(y for _, y in steps), 3)), buttons


def test_the_pointer_goes_as_far_as_the_finger_wherever_it_comes_down(plan: Plan) -> None:
    assert _played(plan, *_finger(1, (0.2, 0.2), (0.3, 0.4), (0.25, 0.5))) == ((50, 150), "")
    moves = [
        *_finger(1, (0.2, 0.2), (0.3, 0.2)),
        *_finger(2, (0.9, 0.9), (0.8, 0.9)),
        *_finger(3, (0.1, 0.1), (0.3, 0.1)),
    ]
    assert _played(plan, *moves) == ((200, 0), "")


def test_a_short_touch_that_hardly_moves_is_a_tap(plan: Plan) -> None:
    assert _played(plan, *_finger(1, (0.5, 0.5), (0.505, 0.5))) == ((5, 0), "left+ left-")
    assert _played(plan, *_finger(1, (0.5, 0.5), (0.6, 0.5)))[1] == ""
    held = [(1.0, "pad.touch", 1), (1.0, "pad.touch.x", 0.5), (2.0, "pad.touch", 0)]
    assert _played(plan, *held)[1] == ""


def test_what_moves_without_a_finger_moves_nothing(plan: Plan) -> None:
    away = [(1.0, "pad.touch.x", 0.1), (1.1, "pad.touch.x", 0.9)]
    assert _played(plan, *away) == ((0, 0), "")
    gone = [*_finger(1, (0.2, 0.2), up=False), (1.5, UNPLUG, "pad"), (1.6, "pad.touch.x", 0.9)]
    assert _played(plan, *gone) == ((0, 0), "")


def test_its_axes_are_no_stick(plan: Plan) -> None:
    node = Node(
        "",
        "Pad Touchpad",
        3,
        0x1209,
        0x4D50,
        "",
        "",
        frozenset({0x110, 0x14A}),
        frozenset(),
        frozenset({0, 1, 0x2F, 0x35, 0x36}),
    )
    assert set(addresses_of(node, plan.surfaces["pad"]).values()) == {
        "pad.touch",
        "pad.touch.x",
        "pad.touch.y",
        "pad.touch-press",
    }
    assert node.controls == ["touch", "touch-press"]


def test_a_desk_says_what_a_tap_is_and_explains_it(make_desk: MakeDesk, fenko: Run) -> None:
    desk = str(make_desk(DESK))
    assert fenko("check", "--desk", desk).returncode == 0
    explained = fenko("explain", "pad.touch", "--desk", desk).stdout
    assert "1000 px across its width" in explained
    assert "the tap" in explained


@pytest.mark.parametrize(
    ("text", "message"),
    [('touch = "value lamp follow"', "moves things as far as it moves"), ('touch = "pointer x0.5"', "a factor is for a mouse's `motion`"),
     ('touch = { move = "a" }', "this is over at once"), ('touch = { full = "a" }', "unknown gesture `full`")],
)  # fmt: skip
def test_what_cannot_stand_on_it(make_desk: MakeDesk, text: str, message: str) -> None:
    with pytest.raises(DeskError) as caught:
        load_desk(make_desk(f'[surface.pad]\nkind = "gamepad"\n[value.lamp]\n[profile.base.on.pad]\n{text}\n'))
    assert message in caught.value.problems[0].render()


def test_a_trigger_can_move_something_and_be_pressed_all_the_way(make_desk: MakeDesk) -> None:
    text = '[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\ntrigger-left = { move = "scroll 10", full = "a" }\n'
    changes = [(1.0, "pad.trigger-left", 1.0), (2.0, "pad.trigger-left", 0.0)]
    effects = [effect for effects in rehearse(load_desk(make_desk(text)).plan, changes) for effect in effects]
    assert sum(effect[4] for effect in effects if effect[2] == "scroll") == pytest.approx(10)
    assert [effect[0] for effect in effects if effect[1] == "keys"] == [1.0, 2.0]
