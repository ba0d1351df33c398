"""What gestures mean, at the borders of their times, and what must hold whatever hands do."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from math import inf
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec import structs

from fenko.core.changes import FOCUS, KEYBOARD, UNPLUG, Change, Effect
from fenko.core.circumstances import Circumstances, Condition, Focus
from fenko.core.engine import Engine
from fenko.core.patterns import compile_pattern
from fenko.core.phrase import parse_phrase
from fenko.core.plan import BASE, Binding, Cell, Layer, Level, Plan, Profile, Timing
from fenko.core.rehearsal import rehearse
from fenko.core.value import Value
from hands import SURFACES, Witness, at_rest, kept_apart, performances, plans
from support import tries

HOLD, STROKE, GAP = 0.2, 0.01, 0.002


def plan(timing: dict[str, float] | None = None, **profiles: dict[str, str | dict[str, str]]) -> Plan:
    """A plan from phrases: profile=cells, each app's profile named like the app."""
    levels = {}
    for name, cells in {BASE: {}, **profiles}.items():
        controls: dict[str, tuple[Cell, ...]] = {}
        for address, what in cells.items():
            gestures = {"press": what} if isinstance(what, str) else what
            bindings: dict[str, Any] = {gesture: Binding(parse_phrase(phrase)) for gesture, phrase in gestures.items()}
            surface, control, *_ = address.split(".")
            members = (
                tuple(f"{surface}.{one.replace('hat-', 'hat.')}" for one in control.split("+"))
                if "+" in control
                else ()
            )
            whole = f"{surface}.{control}"
            controls[whole] = (*controls.get(whole, ()), Cell(address, name, members=members, **bindings))
        levels[name] = Level(name, controls)
    compiled = {}
    for name, level in levels.items():
        conditions = [] if name == BASE else [Condition({"app": (compile_pattern(name),)})]
        chain = [levels[BASE]] if name == BASE else [levels[BASE], level]
        compiled[name] = Profile(name, tuple(conditions), tuple(chain), {})
    return Plan(SURFACES, compiled, Timing(**{"hold": HOLD, "stroke": STROKE, **(timing or {})}))


def play(desk: Plan, *changes: Change) -> list[Effect]:
    """All effects, lifting at the end included."""
    return [effect for effects in rehearse(desk, changes) for effect in effects]


def keys(effects: list[Effect]) -> str:
    """Key effects in one line: `ctrl+ z+ z- ctrl-`."""
    return " ".join(f"{effect[3]}{'+' if effect[2] == 'down' else '-'}" for effect in effects if effect[1] == "keys")


def press(address: str, t: float, length: float = 0.05) -> tuple[Change, Change]:
    return (t, address, 1), (t + length, address, 0)


def test_keys_go_down_in_order_and_up_in_reverse() -> None:
    effects = play(plan(base={"pad.south": "ctrl+shift+z"}), *press("pad.south", 1.0, 0.5))
    assert [effect[0] for effect in effects] == [1.0] * 3 + [1.5] * 3
    assert keys(effects) == "ctrl+ shift+ z+ z- shift- ctrl-"


def test_a_shared_key_goes_down_once_and_up_with_its_last_holder() -> None:
    desk = plan(base={"pad.south": "ctrl+z", "pad.east": "ctrl+y"})
    changes = [(1.0, "pad.south", 1), (1.1, "pad.east", 1), (1.2, "pad.south", 0), (1.3, "pad.east", 0)]
    assert keys(play(desk, *changes)) == "ctrl+ z+ y+ z- y- ctrl-"


def test_one_control_holds_alt_while_another_taps_tab() -> None:
    desk = plan(base={"pad.south": "alt", "dial.dial.right": "tab"})
    effects = play(desk, (1.0, "pad.south", 1), (1.1, "dial.dial", 2), (2.0, "pad.south", 0))
    assert keys(effects) == "alt+ tab+ tab- tab+ tab- alt-"


def test_what_a_release_undoes_was_fixed_at_its_press() -> None:
    desk = plan(snipwell={"pad.south": "ctrl+z"}, hushdesk={"pad.south": "s"})
    changes = [
        (0.5, FOCUS, Focus("Snipwell")), (1.0, "pad.south", 1), (1.1, FOCUS, Focus("hushdesk")),
        (1.2, "pad.south", 0), (1.3, "pad.south", 1), (1.4, "pad.south", 0),
    ]  # fmt: skip
    assert keys(play(desk, *changes)) == "ctrl+ z+ z- ctrl- s+ s-"


@pytest.mark.parametrize(
    ("length", "expected"), [(HOLD - 0.001, "m+ m-"), (HOLD, "o+ o-"), (HOLD + 0.001, "o+ o-"), (0.0, "m+ m-")]
)
def test_tap_and_hold_at_the_border(length: float, expected: str) -> None:
    desk = plan(base={"pad.north": {"tap": "m", "hold": "o"}})
    assert keys(play(desk, *press("pad.north", 1.0, length))) == expected


def test_a_tap_is_decided_at_the_release_and_a_hold_at_the_threshold() -> None:
    desk = plan(base={"pad.north": {"tap": "m", "hold": "o"}})
    assert play(desk, *press("pad.north", 1.0, 0.1))[0][0] == pytest.approx(1.1)
    held = play(desk, *press("pad.north", 1.0, 0.5))
    assert [effect[0] for effect in held] == pytest.approx([1.0 + HOLD, 1.5])


def test_press_and_release_are_two_actions() -> None:
    desk = plan(base={"pad.west": {"press": "f9", "release": "f10"}, "pad.south": {"release": "a"}})
    effects = play(desk, *press("pad.west", 1.0, 2.0))
    assert keys(effects) == "f9+ f9- f10+ f10-"
    assert [effect[0] for effect in effects] == pytest.approx([1.0, 3.0, 3.0, 3.0 + STROKE])
    assert keys(play(desk, *press("pad.south", 1.0))) == "a+ a-"


def test_press_and_hold_of_one_control_hold_their_keys_together() -> None:
    desk = plan(base={"pad.west": {"press": "a", "hold": "b"}})
    assert keys(play(desk, *press("pad.west", 1.0, 1.0))) == "a+ b+ b- a-"


def test_repeats_waits_and_texts_follow_one_another() -> None:
    desk = plan(base={"pad.east": 'ctrl+z x2 then wait 100ms then type "ü" then f5'})
    effects = play(desk, *press("pad.east", 1.0))
    assert keys(effects[:8]) == "ctrl+ z+ z- ctrl- ctrl+ z+ z- ctrl-"
    assert effects[8] == (pytest.approx(1.0 + 2 * STROKE + GAP + 0.1), "keys", "type", "ü")
    assert keys(effects[9:]) == "f5+ f5-"


def test_a_stroke_never_mixes_into_another_controls_keys() -> None:
    desk = plan(base={"dial.dial.right": "ctrl+up", "pad.south": "a"})
    effects = play(desk, (1.0, "dial.dial", 1), (1.0 + STROKE / 2, "pad.south", 1), (2.0, "pad.south", 0))
    assert keys(effects) == "ctrl+ up+ up- ctrl- a+ a-"
    assert effects[4][0] == 1.0 + STROKE / 2  # and it did not wait


def test_a_dial_turned_fast_does_not_lag() -> None:
    desk = plan(base={"dial.dial.right": "right x10"})
    effects = play(desk, *[(1.0 + n / 1000, "dial.dial", 1) for n in range(20)])
    assert keys(effects).count("right+") == 200
    assert effects[-1][0] <= 1.019 + 190 * GAP + 10 * (STROKE + GAP)


def test_actions_of_one_control_keep_their_order() -> None:
    desk = plan(base={"dial.dial.right": "a then b"})
    assert keys(play(desk, (1.0, "dial.dial", 2))) == "a+ a- b+ b- a+ a- b+ b-"
    desk = plan(base={"pad.east": "a then wait 100ms then b"})
    changes = [*press("pad.east", 1.0, 0.01), *press("pad.east", 1.02, 0.01)]
    assert keys(play(desk, *changes)) == "a+ a- b+ b- a+ a- b+ b-"


def test_the_topmost_level_owns_all_gestures_and_directions_of_a_control() -> None:
    desk = plan(
        base={"pad.north": {"tap": "m", "hold": "o"}, "pad.hat.left": "a", "pad.hat.right": "b", "pad.south": "s"},
        snipwell={"pad.north": {"tap": "x"}, "pad.hat.left": "c", "pad.south": "nothing"},
    )
    front = (0.0, FOCUS, Focus("snipwell"))
    assert keys(play(desk, front, *press("pad.north", 1.0, 1.0))) == ""
    assert keys(play(desk, front, (1.0, "pad.hat.x", 1), (2.0, "pad.hat.x", -1), (3.0, "pad.hat.x", 0))) == "c+ c-"
    assert keys(play(desk, front, *press("pad.south", 1.0))) == ""
    assert keys(play(desk, *press("pad.south", 1.0))) == "s+ s-"


def test_axes_press_past_their_thresholds_with_hysteresis() -> None:
    desk = plan(base={"pad.trigger-right": "space", "pad.stick-left.up": "pageup", "pad.stick-left.down": "pagedown"})
    trigger = [(1.0 + n, "pad.trigger-right", value) for n, value in enumerate([0.49, 0.5, 1, 0.41, 0.5, 0.4, 0.0])]
    effects = play(desk, *trigger)
    assert [(effect[0], effect[2]) for effect in effects] == [(2.0, "down"), (6.0, "up")]
    across = [(1.0 + n, "pad.stick-left.y", value) for n, value in enumerate([-1, 1, 0])]
    assert keys(play(desk, *across)) == "pageup+ pageup- pagedown+ pagedown-"


def test_detents_lose_no_fraction() -> None:
    desk = plan(base={"dial.dial.right": "a", "dial.dial.left": "b"})
    assert keys(play(desk, *[(1.0 + n, "dial.dial", 0.1) for n in range(30)])).count("a+") == 3
    assert keys(play(desk, (1.0, "dial.dial", 0.9), (2.0, "dial.dial", -1))) == "b+ b-"


def test_unbound_controls_of_a_surface_that_was_taken_over_are_handed_on() -> None:
    desk = plan(base={"keys.kp1": "x"})
    changes = [
        *press("keys.kp2", 1.0),
        *press("mouse.left", 2.0),
        (3.0, "mouse.wheel", 1.0),
        (4.0, "mouse.motion.x", 5),
    ]
    assert [effect[1:] for effect in play(desk, *changes, *press("pad.east", 5.0))] == [
        ("keys", "down", "kp2"), ("keys", "up", "kp2"), ("pointer", "down", "left"), ("pointer", "up", "left"),
        ("pointer", "scroll", 0, -1.0), ("pointer", "move", 5, 0),
    ]  # fmt: skip


def test_pause_reaches_fenko_when_paused_and_nothing_else_does() -> None:
    desk = plan(base={"pad.north": {"tap": "pause", "hold": "x"}, "pad.south": "a", "keys.kp1": "b"})
    changes = [
        (1.0, "pad.south", 1), *press("pad.north", 1.5), (2.0, "pad.south", 0), *press("pad.south", 2.5),
        *press("keys.kp2", 3.0), *press("pad.north", 4.0, 1.0), *press("pad.north", 6.0), *press("pad.south", 7.0),
    ]  # fmt: skip
    effects = play(desk, *changes)
    assert keys(effects) == "a+ a- a+ a-"
    assert [effect[3] for effect in effects if effect[1] == "fenko"] == [True, False]


def test_unplugging_lifts_and_ends_but_does_not_tap() -> None:
    desk = plan(base={"pad.south": "a", "pad.west": {"press": "f9", "release": "f10"}, "pad.north": {"tap": "m"}})
    changes = [(1.0 + n / 10, address, 1) for n, address in enumerate(["pad.south", "pad.west", "pad.north"])]
    effects = play(desk, *changes, (1.35, UNPLUG, "pad"))
    assert keys(effects) == "a+ f9+ a- f9- f10+ f10-"


def test_profiles_by_hand_stay_until_auto() -> None:
    desk = plan(
        base={"pad.south": "profile next", "pad.east": "profile auto", "pad.north": "profile previous"},
        snipwell={}, hushdesk={}, beamcart={},
    )  # fmt: skip
    changes = [
        *press("pad.south", 1.0), *press("pad.south", 2.0), (3.0, FOCUS, Focus("beamcart")), *press("pad.north", 4.0),
        *press("pad.east", 5.0),
    ]  # fmt: skip
    effects = [effect[1:] for effect in play(desk, *changes)]
    assert effects == [
        ("fenko", "profile", "snipwell", "hand"), ("fenko", "profile", "hushdesk", "hand"),
        ("fenko", "profile", "snipwell", "hand"), ("fenko", "profile", "beamcart", "focus"),
    ]  # fmt: skip


TIMES = {"double": 0.25, "chord": 0.04, "burst": 0.06, "fast": 0.05}


@pytest.mark.parametrize(("gap", "expected"), [(0.249, "d+ d-"), (0.25, "m+ m- m+ m-"), (0.251, "m+ m- m+ m-")])
def test_a_double_at_the_border(gap: float, expected: str) -> None:
    desk = plan(base={"pad.north": {"tap": "m", "double": "d"}})
    assert keys(play(desk, *press("pad.north", 1.0), *press("pad.north", 1.05 + gap))) == expected


def test_a_double_comes_with_the_second_press_and_a_lone_tap_when_the_window_closes() -> None:
    desk = plan(base={"pad.north": {"tap": "m", "double": "d"}})
    assert play(desk, *press("pad.north", 1.0), *press("pad.north", 1.2))[0][0] == pytest.approx(1.2)
    assert play(desk, *press("pad.north", 1.0))[0][0] == pytest.approx(1.05 + TIMES["double"])
    # Whatever else is pressed meanwhile comes after the tap, and ends the counting.
    desk = plan(base={"pad.north": {"tap": "m", "double": "d"}, "pad.south": "a"})
    effects = play(desk, *press("pad.north", 1.0), *press("pad.south", 1.1), *press("pad.north", 1.2))
    assert keys(effects) == "m+ m- a+ a- m+ m-"


@pytest.mark.parametrize(("presses", "expected"), [(1, "m"), (2, "d"), (3, "t"), (4, "t m")])
def test_three_in_a_row(presses: int, expected: str) -> None:
    desk = plan(base={"pad.north": {"tap": "m", "double": "d", "triple": "t"}})
    changes = [change for n in range(presses) for change in press("pad.north", 1.0 + n / 10)]
    assert keys(play(desk, *changes)) == " ".join(f"{key}+ {key}-" for key in expected.split())


CHORD = {"pad.south": "a", "pad.east": {"tap": "b", "hold": "c"}, "pad.east+south": "x", "pad.north": "n"}


@pytest.mark.parametrize(("gap", "expected"), [(0.039, "x+ x-"), (0.04, "a+ a- b+ b-"), (0.041, "a+ a- b+ b-")])
def test_a_chord_at_the_border(gap: float, expected: str) -> None:
    changes = [(1.0, "pad.south", 1), (1.0 + gap, "pad.east", 1), (1.1, "pad.south", 0), (1.15, "pad.east", 0)]
    assert keys(play(plan(base=CHORD), *changes)) == expected


def test_members_of_a_chord_wait_for_its_window_only_and_others_do_not() -> None:
    desk = plan(base=CHORD)
    assert play(desk, *press("pad.south", 1.0, 0.5))[0][0] == pytest.approx(1.0 + TIMES["chord"])
    assert [effect[0] for effect in play(desk, *press("pad.south", 1.0, 0.02))] == pytest.approx([1.02, 1.02])
    assert play(desk, *press("pad.north", 1.0))[0][0] == 1.0
    effects = play(desk, (1.0, "pad.south", 1), (1.01, "pad.north", 1), (1.5, "pad.south", 0), (1.6, "pad.north", 0))
    assert keys(effects) == "a+ n+ a- n-"  # in the order of the hand
    # The time that it waited counts for its hold.
    assert [effect[0] for effect in play(desk, *press("pad.east", 1.0, 0.5))] == pytest.approx([1.0 + HOLD, 1.5])


def test_a_chord_is_held_until_its_first_member_is_let_go_and_the_larger_one_wins() -> None:
    desk = plan(base={**CHORD, "pad.east+north+south": "y"})
    start = [(1.0, "pad.south", 1), (1.01, "pad.east", 1)]
    end = [(2.0, "pad.east", 0), (3.0, "pad.south", 0), (3.1, "pad.north", 0)]
    two = play(desk, *start, *end)
    assert [(effect[0], effect[3]) for effect in two] == [(pytest.approx(1.04), "x"), (2.0, "x")]
    assert keys(play(desk, *start, (1.02, "pad.north", 1), *end)) == "y+ y-"


@pytest.mark.parametrize(
    ("gaps", "expected"),
    [((), "z+ z-"), ((0.059,), "q+ q-"), ((0.061,), "z+ z- z+ z-"), ((0.01, 0.01), "q+ q- z+ z-")],
)
def test_a_key_that_sends_its_code_several_times(gaps: tuple[float, ...], expected: str) -> None:
    desk = plan(base={"keys.kp0": "z", "keys.kp0-x2": "q"})
    t, changes = 1.0, list(press("keys.kp0", 1.0, 0.005))
    for gap in gaps:
        t += gap
        changes += press("keys.kp0", t, 0.005)
    assert keys(play(desk, *changes)) == expected


def test_a_key_that_could_be_a_burst_is_held_as_long_as_the_hand_holds_it() -> None:
    desk = plan(base={"keys.kp0": "z", "keys.kp0-x3": "q"})
    effects = play(desk, *press("keys.kp0", 1.0, 1.0))
    assert [(effect[0], effect[2]) for effect in effects] == [(pytest.approx(1.06), "down"), (2.0, "up")]


def test_half_and_all_the_way() -> None:
    desk = plan(base={"pad.trigger-right.half": "a", "pad.trigger-right.full": "b", "pad.stick-left.up.full": "c"})
    values = [0.49, 0.5, 0.94, 0.95, 0.86, 0.85, 0.41, 0.4]
    effects = play(desk, *[(1.0 + n, "pad.trigger-right", value) for n, value in enumerate(values)])
    assert [(effect[0], effect[3], effect[2]) for effect in effects] == [
        (2.0, "a", "down"), (4.0, "b", "down"), (6.0, "b", "up"), (8.0, "a", "up"),
    ]  # fmt: skip
    up = [(1.0, "pad.stick-left.y", -0.9), (2.0, "pad.stick-left.y", -1), (3.0, "pad.stick-left.y", 0)]
    assert keys(play(desk, *up)) == "c+ c-"


def test_eight_directions_where_one_between_two_is_bound() -> None:
    desk = plan(base={"pad.hat.up": "u", "pad.hat.left": "l", "pad.hat.up-left": "d"})
    both = [(1.0, "pad.hat.x", -1), (1.0, "pad.hat.y", -1)]
    # Both directions go in the same moment as they came, one a little before the other; neither is meant alone.
    assert keys(play(desk, *both, (2.0, "pad.hat.x", 0), (2.039, "pad.hat.y", 0))) == "d+ d-"
    assert keys(play(desk, *both, (2.0, "pad.hat.x", 0), (2.041, "pad.hat.y", 0))) == "d+ d- u+ u-"
    rolled = [(1.0, "pad.hat.y", -1), (1.5, "pad.hat.x", -1), (2.0, "pad.hat.y", 0), (3.0, "pad.hat.x", 0)]
    assert keys(play(desk, *rolled)) == "u+ u- d+ d- l+ l-"
    assert keys(play(desk, (1.0, "pad.hat.y", -1), (1.01, "pad.hat.y", 0))) == "u+ u-"  # a flick
    four = plan(base={"pad.hat.up": "u", "pad.hat.left": "l"})
    assert [effect[0] for effect in play(four, *both)[:2]] == [1.0, 1.0]


def test_a_dial_that_is_turned_fast() -> None:
    desk = plan(base={"dial.dial.right": {"press": "a", "fast": "b"}})
    slow = [(1.0 + n * 0.051, "dial.dial", 1) for n in range(3)]
    fast = [(2.0 + n * 0.049, "dial.dial", 1) for n in range(3)]
    assert keys(play(desk, *slow, *fast)) == "a+ a- a+ a- a+ a- a+ a- b+ b- b+ b-"


def test_bounce_is_ignored_and_the_first_edge_is_not_delayed() -> None:
    desk = plan(base={"old.south": "a"})
    bouncing = [(1.0, "old.south", 1), (1.005, "old.south", 0), (1.01, "old.south", 1), (1.5, "old.south", 0)]
    assert [(effect[0], effect[2]) for effect in play(desk, *bouncing)] == [(1.0, "down"), (1.5, "up")]
    short = [(1.0, "old.south", 1), (1.019, "old.south", 0)]  # let go for good within the time
    assert [(effect[0], effect[2]) for effect in play(desk, *short)] == [(1.0, "down"), (pytest.approx(1.02), "up")]


def test_a_touch_is_silent_while_the_control_is_pressed() -> None:
    desk = plan(base={"pad.south": "a", "pad.south-touch": "t"})
    changes = [
        (1.0, "pad.south-touch", 1), (2.0, "pad.south", 1), (2.5, "pad.south-touch", 0), (2.6, "pad.south-touch", 1),
        (3.0, "pad.south", 0), (4.0, "pad.south-touch", 0),
    ]  # fmt: skip
    assert keys(play(desk, *changes)) == "t+ t- a+ a-"


def test_again_and_again_while_held() -> None:
    desk = plan(base={"pad.trigger-right": "space every 90ms", "pad.south": "b x3 every 50ms"})
    effects = play(desk, (1.0, "pad.trigger-right", 1), (1.2, "pad.trigger-right", 0))
    assert [effect[0] for effect in effects if effect[2] == "down"] == pytest.approx([1.0, 1.09, 1.18])
    assert [effect[0] for effect in play(desk, *press("pad.south", 1.0)) if effect[2] == "down"] == pytest.approx(
        [1.0, 1.05, 1.1]
    )


def test_a_tapped_key_comes_up_by_itself_and_a_toggled_one_with_the_next_time() -> None:
    desk = plan(base={"pad.south": "tap ctrl+s", "pad.east": "toggle shift"}, snipwell={})
    effects = play(desk, *press("pad.south", 1.0, 1.0), *press("pad.east", 3.0), *press("pad.east", 4.0))
    assert keys(effects) == "ctrl+ s+ s- ctrl- shift+ shift-"
    assert [effect[0] for effect in effects][2] == pytest.approx(1.0 + STROKE)
    away = play(desk, *press("pad.east", 1.0), (2.0, FOCUS, Focus("snipwell")), (3.0, FOCUS, Focus("other")))
    assert [(effect[0], effect[2]) for effect in away if effect[1] == "keys"] == [(1.0, "down"), (2.0, "up")]


def test_mouse_buttons_are_keys_of_another_kind() -> None:
    desk = plan(base={"pad.south": "ctrl+button left", "pad.east": "button right x2"})
    effects = play(desk, *press("pad.south", 1.0), *press("pad.east", 2.0))
    assert [effect[1:] for effect in effects] == [
        ("keys", "down", "ctrl"), ("pointer", "down", "left"), ("pointer", "up", "left"), ("keys", "up", "ctrl"),
        *[("pointer", act, "right") for act in ("down", "up", "down", "up")],
    ]  # fmt: skip


def with_layers(held: tuple[str, ...] = (), **cells: str) -> Plan:
    """A plan whose base has the layers `trim` (south is t, held by north; locked by west, once by east) and `deep`."""
    base = plan(base={"pad.south": "a", "pad.north": "layer trim", "pad.west": "layer trim locked",
                      "pad.east": "layer trim once", "pad.hat.up": "layer deep"})  # fmt: skip
    levels = {
        name: Level(name, {"pad.south": (Cell("pad.south", name, Binding(parse_phrase(key))),)})
        for name, key in (("trim", "t"), ("deep", "d"))
    }
    layers = {"trim": Layer((levels["trim"],), held), "deep": Layer((levels["deep"],))}
    watched = frozenset(name for name in held if "." in name)
    profile = Profile(BASE, (), base.profiles[BASE].levels, layers)
    return Plan(SURFACES, {BASE: profile}, base.timing, watched)


def test_a_layer_is_on_while_held_and_what_was_pressed_in_it_stays() -> None:
    desk = with_layers()
    changes = [
        *press("pad.south", 0.5), (1.0, "pad.north", 1), (1.1, "pad.south", 1), (1.2, "pad.north", 0),
        (1.3, "pad.south", 0), *press("pad.south", 2.0),
    ]  # fmt: skip
    effects = play(desk, *changes)
    assert keys(effects) == "a+ a- t+ t- a+ a-"
    assert [effect[3:] for effect in effects if effect[1] == "fenko"] == [("trim", True), ("trim", False)]


def test_layers_are_locked_until_the_same_again_or_for_one_action() -> None:
    twice = [*press("pad.south", 2.0), *press("pad.south", 3.0)]
    assert keys(play(with_layers(), *press("pad.west", 1.0), *twice)) == "t+ t- t+ t-"
    assert keys(play(with_layers(), *press("pad.west", 1.0), *press("pad.west", 1.5), *twice)) == "a+ a- a+ a-"
    assert keys(play(with_layers(), *press("pad.east", 1.0), *twice)) == "t+ t- a+ a-"


def test_the_newest_layer_lies_on_top() -> None:
    changes = [(1.0, "pad.north", 1), (1.1, "pad.hat.y", -1), *press("pad.south", 1.2), (2.0, "pad.hat.y", 0)]
    assert keys(play(with_layers(), *changes, *press("pad.south", 2.1), (3.0, "pad.north", 0))) == "d+ d- t+ t-"


@pytest.mark.parametrize(
    ("held", "changes"),
    [
        (("shift",), [(1.0, KEYBOARD, ("rightshift",)), (2.0, KEYBOARD, ())]),
        (("pad.trigger-right",), [(1.0, "pad.trigger-right", 0.6), (2.0, "pad.trigger-right", 0)]),
        (("shift", "pad.start"), [(0.9, "pad.start", 1), (1.0, KEYBOARD, ("shift",)), (2.0, "pad.start", 0)]),
    ],
)
def test_a_layer_while_something_is_held(held: tuple[str, ...], changes: list[Change]) -> None:
    presses = [*press("pad.south", 0.5), *press("pad.south", 1.5), *press("pad.south", 2.5)]
    assert keys(play(with_layers(held), *sorted([*changes, *presses], key=lambda change: change[0]))) == (
        "a+ a- t+ t- a+ a-"
    )


def test_in_turn_and_at_random_without_the_same_twice_running() -> None:
    several = tuple(parse_phrase(key) for key in "bc")

    def desk(**how: object) -> Plan:
        binding = Binding(parse_phrase("a"), others=several, **how)  # type: ignore[arg-type]
        level = Level(BASE, {"pad.south": (Cell("pad.south", BASE, binding),)})
        return Plan(SURFACES, {BASE: Profile(BASE, (), (level,), {})}, Timing(stroke=STROKE))

    changes = [change for n in range(40) for change in press("pad.south", 1.0 + n)]
    turned = play(desk(states=("one", "two", "three")), *changes[:8])
    assert keys(turned) == "a+ a- b+ b- c+ c- a+ a-"
    assert [effect[4] for effect in turned if effect[2] == "state"] == ["one", "two", "three", "one"]
    drawn = [effect[3] for effect in play(desk(at_random=True), *changes) if effect[2] == "down"]
    assert set(drawn) == {"a", "b", "c"} and all(one != other for one, other in pairwise(drawn))
    assert drawn == [effect[3] for effect in play(desk(at_random=True), *changes) if effect[2] == "down"]


def test_of_a_group_only_one_is_on() -> None:
    cells = {
        control: Binding(parse_phrase(f"toggle {key}"), group="view")
        for control, key in (("south", "a"), ("east", "b"))
    }
    level = Level(BASE, {f"pad.{name}": (Cell(f"pad.{name}", BASE, binding),) for name, binding in cells.items()})
    desk = Plan(SURFACES, {BASE: Profile(BASE, (), (level,), {})}, Timing(stroke=STROKE))
    changes = [*press("pad.south", 1.0), *press("pad.east", 2.0), *press("pad.east", 3.0)]
    assert keys(play(desk, *changes)) == "a+ a- b+ b-"


def test_unplugging_ends_layers_chords_and_all_that_waits() -> None:
    desk = plan(base={**CHORD, "pad.west": {"tap": "m", "double": "d"}})
    changes = [*press("pad.west", 1.0), (1.1, "pad.south", 1), (1.11, UNPLUG, "pad")]
    assert keys(play(desk, *changes)) == "m+ m-"
    assert keys(play(with_layers(), (1.0, "pad.north", 1), (1.1, UNPLUG, "pad"), *press("pad.south", 2.0))) == "a+ a-"


def test_a_press_the_short_way_leaves_no_trace_behind() -> None:
    desk = plan(
        snipwell={"pad.south": "a", "pad.east": "b"},
        hushdesk={"pad.south": {"press": "c", "hold": "d"}, "pad.east": "b"},
    )
    changes = [
        (0.0, FOCUS, Focus("snipwell")), (1.0, "pad.south", 1), (1.1, "pad.east", 1), (1.2, "pad.south", 0),
        (1.3, "pad.east", 0), (1.4, FOCUS, Focus("hushdesk")), (1.5, "pad.south", 1), (1.6, "pad.south", 0),
    ]  # fmt: skip
    assert keys(play(desk, *changes)) == "a+ b+ a- b- c+ c-"


@settings(max_examples=tries(150))
@given(plans(), performances())
def test_with_all_controls_at_rest_nothing_stays_down(desk: Plan, changes: list[Change]) -> None:
    engine, witness = Engine(desk), Witness()
    for change in changes:
        witness.see(engine.feed(change))
        assert kept_apart(engine.held) == witness.down
    last = changes[-1][0] if changes else 0.0
    for change in at_rest(last + 0.001):
        witness.see(engine.feed(change))
    assert engine.deadline == inf or engine.under_way, "nothing repeats that nobody holds"
    while engine.under_way:
        witness.see(engine.advance(engine.deadline))
    assert engine.deadline == inf
    assert set(engine.held) == set(engine.toggled)
    witness.see(engine.release_all(witness.t))
    assert not witness.down and not engine.held


@pytest.mark.parametrize("listener", [None, lambda *what: None])
@pytest.mark.parametrize("held", [[], [(0.9, "pad.west", 1)]])
def test_the_same_key_keeps_its_gap_on_every_shorter_way(listener: Any, held: list[Change]) -> None:
    engine = Engine(plan(base={"pad.south": "a", "pad.east": "a", "pad.west": "b", "dial.dial.right": "a"}), listener)
    warm = [
        *press("pad.south", 0.1),
        *press("pad.east", 0.3),
        *press("pad.west", 0.5),
        (0.7, "dial.dial", 1),
        *press("pad.east", 0.8),
    ]
    hasty = [(1.0, "pad.south", 1), (1.1, "pad.south", 0), (1.1005, "pad.east", 1), (1.2, "pad.east", 0),
             (1.2005, "dial.dial", 1), (1.203, "dial.dial", 1), (1.2035, "dial.dial", 1), (1.3, "pad.south", 1)]  # fmt: skip
    witness = Witness()
    effects = [effect for change in [*warm, *held, *hasty] for effect in engine.feed(change)]
    witness.see(effects)
    witness.see(engine.release_all(2.0))
    assert [effect[2:] for effect in effects].count(("down", "a")) == 4 + 6


@settings(max_examples=tries(200))
@given(plans(), plans(), performances(), performances())
def test_another_plan_in_the_middle_leaves_nothing_behind(
    desk: Plan, other: Plan, before: list[Change], after: list[Change]
) -> None:
    engine, witness = Engine(desk), Witness()
    for change in before:
        witness.see(engine.feed(change))
    t = before[-1][0] + 0.001 if before else 0.001
    witness.see(engine.use_plan(t, other))
    for change in [(t + change[0], *change[1:]) for change in after]:
        witness.see(engine.feed(change))
    last = t + (after[-1][0] if after else 0.0)
    for change in at_rest(last + 0.001):
        witness.see(engine.feed(change))
    while engine.under_way:
        witness.see(engine.advance(engine.deadline))
    assert engine.deadline == inf
    assert set(engine.held) == set(engine.toggled)
    assert kept_apart(engine.held) == witness.down
    witness.see(engine.release_all(witness.t))
    assert not witness.down and not engine.held


def test_what_is_held_stays_held_under_another_plan() -> None:
    one = plan(base={"pad.south": "ctrl+z", "pad.east": "a then wait 200ms then b"}, snipwell={"pad.north": "x"})
    two = plan(base={"pad.south": "q", "pad.east": "w"}, snipwell={"pad.north": "y"})
    engine = Engine(one)
    effects = list(engine.feed((0.5, FOCUS, Focus("snipwell"))))
    for change in ((1.0, "pad.south", 1), (1.1, "pad.east", 1)):
        effects += engine.feed(change)
    effects += engine.use_plan(1.15, two)
    assert engine.profile.name == "snipwell" and engine.profile is two.profiles["snipwell"]
    for change in ((1.2, "pad.south", 0), (1.25, "pad.east", 0), (1.4, "pad.south", 1), (1.5, "pad.north", 1)):
        effects += engine.feed(change)
    effects += engine.release_all(2.0)
    assert keys(effects) == "ctrl+ z+ a+ a- z- ctrl- b+ b- q+ y+ y- q-"


def test_an_action_goes_on_as_it_began_where_a_reload_took_away_what_it_names() -> None:
    phrase = (
        "wait 200ms then value exposure by +1 then wait 100ms then value exposure to 0 then profile snipwell then b"
    )
    base: dict[str, str | dict[str, str]] = {
        "pad.south": phrase,
        "pad.east": {"press": "a", "release": "profile snipwell"},
    }
    values = {("value", "exposure"): Value("exposure", -10, 10)}
    engine = Engine(structs.replace(plan(base=base, snipwell={"pad.north": "x"}), values=values))
    effects = [effect for change in ((1.0, "pad.south", 1), (1.1, "pad.east", 1)) for effect in engine.feed(change)]
    effects += engine.use_plan(1.15, plan(base={"pad.south": "q"}))
    effects += engine.feed((1.2, "pad.east", 0))
    while engine.deadline < inf:
        effects += engine.advance(engine.deadline)
    assert engine.profile.name == BASE and not engine.by_hand
    assert not engine.values
    told = [effect[2:] for effect in effects if effect[1] != "keys"]
    assert told == [("set", "exposure", 1.0), ("set", "exposure", 0.0)]
    assert keys(effects) == "a+ a- b+ b-"


class Plodding(Engine):
    """Never takes a shorter way."""

    def feed(self, change: Change) -> Sequence[Effect]:
        t, address, value = change
        self._agenda.pass_time(t)
        self._change(t, address, value)
        self._agenda.pass_time(t)
        return self._finish()

    def _finish(self) -> Sequence[Effect]:
        effects = super()._finish()
        self._calm = False
        return effects


@settings(max_examples=tries(400))
@given(plans(), performances(), st.booleans())
def test_the_shorter_ways_lead_to_the_same_place(desk: Plan, changes: list[Change], told: bool) -> None:
    """Also for who listens: the same actions are reported, at the same times."""
    _lead_to_the_same_place(desk, changes, told)


def _lead_to_the_same_place(desk: Plan, changes: list[Change], told: bool) -> None:
    reports: list[list[Any]] = [[], []]
    effects: list[list[Effect]] = [[], []]
    for number, kind in enumerate((Engine, Plodding)):
        engine = kind(desk, (lambda *what, to=reports[number]: to.append(what)) if told else None)
        for change in changes:
            if told:  # time passes up to the change in one go, and not with it
                effects[number] += engine.advance(change[0])
            effects[number] += engine.feed(change)
        while engine.under_way:
            effects[number] += engine.advance(engine.deadline)
        effects[number] += engine.release_all(changes[-1][0] + 9 if changes else 9.0)
    assert effects[0] == effects[1]
    assert [effect[0] for effect in effects[0]] == sorted(effect[0] for effect in effects[0])
    assert reports[0] == reports[1]


_PLAIN = {
    "keys.kp1": "ctrl+z", "keys.kp2": "ctrl+y", "keys.kp3": "a", "keys.kp4": "button left", "pad.south": "b", "pad.east": "c", "pad.west": "d",
    "pad.east+south": "ctrl+s", "pad.south+west": "ctrl+z", "pad.north": {"tap": "m", "hold": "o"}, "pad.select": "f then g",
    "dial.dial.right": "ctrl+up", "dial.dial.left": "z", "pad.stick-left": {"move": "pointer 900"},
}  # fmt: skip
_PLAIN_BUTTONS = [
    address for address in _PLAIN if not address.startswith("dial") and "+" not in address and "stick" not in address
]


@st.composite
def _quick_hands(draw: st.DrawFn) -> list[Change]:
    """Hands on controls that nearly always take a shorter way; each has been used before."""
    changes: list[Change] = [(0.0, "dial.dial", 1), (0.1, "dial.dial", -1)]
    for number, address in enumerate(_PLAIN_BUTTONS):
        changes += press(address, 1.0 + number)
    down: set[str] = set()
    t = 100.0
    for _ in range(draw(st.integers(1, 25))):
        t = round(t + draw(st.sampled_from([0.0, 0.001, 0.002, 0.003, 0.01, 0.039, 0.04, 0.041, 0.3])), 6)
        address = draw(
            st.sampled_from([*_PLAIN_BUTTONS, "dial.dial", "pad.south", "pad.east", "pad.stick-left.x", UNPLUG])
        )
        if address == UNPLUG:
            surface = draw(st.sampled_from(["keys", "pad"]))
            changes.append((t, UNPLUG, surface))
            down = {one for one in down if not one.startswith(surface)}
        elif address == "pad.stick-left.x":
            changes.append((t, address, draw(st.sampled_from([0, 0.3, 0.45, 0.7]))))
        elif address == "dial.dial":
            changes.append((t, address, draw(st.sampled_from([1, 1, -1, 0.5]))))
        else:
            on = draw(st.sampled_from([address not in down] * 9 + [True, False]))
            changes.append((t, address, int(on)))
            (down.add if on else down.discard)(address)
    return changes


@settings(max_examples=tries(300))
@given(_quick_hands(), st.sets(st.integers(0, 40)))
def test_who_looks_at_what_is_held_changes_nothing(changes: list[Change], looks: set[int]) -> None:
    watched, plodding = Engine(plan(base=_PLAIN)), Plodding(plan(base=_PLAIN))
    for number, change in enumerate(changes):
        assert list(watched.feed(change)) == list(plodding.feed(change))
        if number in looks:
            assert sorted(watched.held) == sorted(plodding.held)
            assert watched.down == plodding.down
    end = changes[-1][0] + 9
    assert list(watched.advance(end)) == list(plodding.advance(end))


@settings(max_examples=tries(1000))
@given(_quick_hands(), st.booleans())
def test_the_shorter_ways_mix_with_the_longer_ones(changes: list[Change], told: bool) -> None:
    _lead_to_the_same_place(plan(base=_PLAIN), changes, told)


@settings(max_examples=tries(150))
@given(plans(), performances(), st.data())
def test_time_in_pieces_or_in_one_go_is_the_same(desk: Plan, changes: list[Change], data: st.DataObject) -> None:
    whole = [effect for effects in rehearse(desk, changes) for effect in effects]
    engine, pieces, t = Engine(desk), [], 0.0
    for change in changes:
        for share in data.draw(st.lists(st.floats(0, 1), max_size=3).map(sorted)):
            pieces += engine.advance(t + (change[0] - t) * share * 0.999)
        t = change[0]
        pieces += engine.feed(change)
    while engine.under_way:
        t = engine.deadline
        pieces += engine.advance(t)
    pieces += engine.release_all(t)
    assert pieces == whole


@settings(max_examples=tries(150))
@given(plans(), performances())
def test_the_short_way_and_the_long_way_are_the_same(desk: Plan, changes: list[Change]) -> None:
    told: list[str] = []
    watched = Engine(desk, lambda t, address, gesture, profile, binding: told.append(address))
    plain = Engine(desk)
    for change in changes:
        assert list(plain.feed(change)) == list(watched.feed(change))


@settings(max_examples=tries(150))
@given(plans(), performances())
def test_release_all_lifts_everything_at_any_moment(desk: Plan, changes: list[Change]) -> None:
    engine, witness = Engine(desk), Witness()
    for change in changes:
        witness.see(engine.feed(change))
    witness.see(engine.release_all(witness.t))
    assert not witness.down
    assert engine.deadline == inf


# --- Where two rules of `docs/desk.md` meet ---


def _hand(words: str) -> list[Change]:
    """Changes as they are told in words: `0 west 1, .05 west 0`."""
    found: list[Change] = []
    for part in words.split(", "):
        t, control, value = part.split()
        surface = "dial" if control == "dial" else "keys" if control.startswith("kp") else "pad"
        found.append((float(t), f"{surface}.{control}", float(value)))
    return found


_TAPS_OF_THREE = {"pad.west": {"tap": "q", "triple": "t"}, "pad.south": "a", "dial.dial.right": "w"}
_MEETING: list[tuple[str, dict[str, Any], str, str]] = [
    (
        "a press elsewhere settles taps before it, also while the next press of theirs is down",
        _TAPS_OF_THREE,
        "0 west 1, .05 west 0, .15 west 1, .2 south 1, .25 south 0, .3 west 0",
        "q+0.2 a+0.2 q+0.55",
    ),
    (
        "and so does a dial",
        _TAPS_OF_THREE,
        "0 west 1, .05 west 0, .15 west 1, .2 dial 1, .3 west 0",
        "q+0.2 w+0.2 q+0.55",
    ),
    (
        "the second press counts from when the hand made it, beside a chord",
        {"pad.west": {"tap": "q", "double": "d"}, "pad.south+west": "c"},
        "0 west 1, .05 west 0, .28 west 1, .36 west 0",
        "d+0.32",
    ),
    (
        "and beside a diagonal",
        {"pad.hat.up": {"tap": "q", "double": "d"}, "pad.hat.up-left": "c"},
        "0 hat.y -1, .05 hat.y 0, .28 hat.y -1, .36 hat.y 0",
        "d+0.32",
    ),
    (
        "a tap comes the time of a double after its release, also of a key with a burst",
        {"keys.kp0": {"tap": "q", "triple": "t"}, "keys.kp0-x2": "c"},
        "0 kp0 1, .05 kp0 0",
        "q+0.3",
    ),
    (
        "an earlier tap comes before a burst of its key",
        {"keys.kp0": {"tap": "q", "double": "d"}, "keys.kp0-x2": "c"},
        "0 kp0 1, .02 kp0 0, .2 kp0 1, .21 kp0 0, .22 kp0 1, .23 kp0 0",
        "q+0.22 c+0.22",
    ),
    (
        "what turns out to be held acts when that is known, before what made it known",
        {"pad.west": {"hold": "h"}, "pad.south+west": "c", "pad.east": "a"},
        "0 west 1, .25 east 1",
        "h+0.25 a+0.25",
    ),
    (
        "a `wait` begins when its stroke is over, however much waits behind it",
        {"dial.dial.right": "a then wait 500ms then b"},
        "0 dial 1, .1 dial 1, .2 dial 1",
        "a+0 b+0.51 a+0.51 b+1.02 a+1.02 b+1.53",
    ),
    (
        "a key that is a member of several at once may send bursts",
        {"keys.kp1": "q", "keys.kp1-x2": "d", "keys.kp1+kp2": "c"},
        "0 kp1 1, .01 kp1 0, .02 kp1 1, .03 kp1 0, 1 kp1 1, 1.01 kp2 1, 1.1 kp1 0, 1.2 kp2 0, 2 kp1 1, 2.01 kp1 0",
        "d+0.03 c+1.01 q+2.06",
    ),
    (
        "fast counts in whole microseconds, and a border is not within",
        {"dial.dial.right": {"press": "a", "fast": "f"}},
        ".052 dial 1, .072 dial 1, .5 dial 1, .52 dial 1, .6 dial 1, .619999 dial 1",
        "a+0.052 a+0.072 a+0.5 a+0.52 a+0.6 f+0.619999",
    ),
]


@pytest.mark.parametrize("case", _MEETING, ids=lambda case: case[0])
def test_where_two_rules_meet(case: tuple[str, dict[str, Any], str, str]) -> None:
    _, cells, hands, expected = case
    times = {"chord": 0.3} if "h+0.25" in expected else {"fast": 0.02}
    effects = play(plan(times, base=cells), *_hand(hands))
    downs = [f"{effect[3]}+{round(effect[0], 6):g}" for effect in effects if effect[1:3] == ("keys", "down")]
    assert " ".join(downs) == expected


def test_a_stroke_lasts_no_longer_than_a_stroke_before_a_wait() -> None:
    effects = play(plan(base={"dial.dial.right": "a then wait 500ms then b"}), *_hand("0 dial 1, .1 dial 1, .2 dial 1"))
    down: dict[str, float] = {}
    for t, _, act, key in effects:
        if act == "down":
            down[key] = t
        else:
            assert t - down.pop(key) <= STROKE + 1e-9


def test_taps_before_a_press_that_is_cut_off_come_at_once() -> None:
    desk = plan(base=_TAPS_OF_THREE)
    effects = play(desk, *_hand("0 west 1, .05 west 0, .15 west 1"), (0.2, UNPLUG, "pad"))
    assert keys(effects) == "q+ q-" and effects[0][0] == 0.2


def test_an_unbound_wheel_settles_taps_before_it_is_handed_on() -> None:
    desk = plan(base={"mouse.side": {"tap": "q", "double": "d"}})
    effects = play(desk, (0.0, "mouse.side", 1), (0.05, "mouse.side", 0), (0.1, "mouse.wheel", 1))
    assert [effect[1:4] for effect in effects][:2] == [("keys", "down", "q"), ("keys", "up", "q")] or [
        (effect[1], effect[2]) for effect in effects
    ].index(("keys", "down")) < [(effect[1], effect[2]) for effect in effects].index(("pointer", "scroll"))


def test_of_a_group_only_one_is_on_whenever_its_actions_come_to_it() -> None:
    cells = {"pad.north": "c then toggle f9", "pad.west": "toggle f10"}
    desk = plan(base=cells)
    grouped = Level(
        BASE,
        {
            address: (structs.replace(cell, press=structs.replace(cell.press, group="view")),)
            for address, (cell,) in desk.profiles[BASE].levels[0].controls.items()
        },
    )
    desk = structs.replace(desk, profiles={BASE: structs.replace(desk.profiles[BASE], levels=(grouped,))})
    engine = Engine(desk)
    for change in _hand("0 north 1, .004 west 1"):
        engine.feed(change)
    engine.advance(1)
    assert engine.toggled == (("keys", "f9"),)


def test_what_paused_on_its_way_is_silent_until_it_is_let_go() -> None:
    desk = plan(base={"pad.hat.right": {"release": "pause"}, "pad.hat.up-right": "z"})
    engine = Engine(desk)
    for change in _hand("0 hat.x 1, .5 hat.y -1, 1 hat.y 0, 2 hat.x 0"):
        engine.feed(change)
        engine.advance(change[0] + 0.2)
        assert engine.paused == (change[0] >= 0.5)
    engine.feed((3.0, "pad.hat.x", 1))
    engine.advance(3.5)
    engine.feed((4.0, "pad.hat.x", 0))
    assert not engine.paused


def test_what_a_profile_must_not_meet_is_asked_of_a_dialog_and_of_its_owner() -> None:
    there = Condition(
        {"running": (compile_pattern("railmoth"),)}, (Condition({"app": (compile_pattern("snipwell"),)}),)
    )
    dialog = Focus("chooser", owner=Focus("snipwell"))
    running = frozenset({"railmoth"})
    assert there.closeness(Circumstances(Focus("other"), running)) is not None
    assert there.closeness(Circumstances(dialog, running)) is None
    assert there.closeness(Circumstances(Focus("snipwell"), running)) is None
