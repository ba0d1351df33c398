"""Where bindings would sit better: the best there is where all can be tried, never worse than what was there, what has to stay stays, and a
desk that is written so is good."""

from __future__ import annotations

import json
import shutil
from itertools import permutations
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenko.data import DEMO
from fenko.desk.arranged import belong_together, failures, movable, rearranged
from fenko.desk.editing import EditError, write
from fenko.desk.load import load_desk
from fenko.desk.locate import keys
from fenko.showing.shown import Surfaces
from fenko.studies import arranging
from fenko.studies.arranging import Pair, Problem, arrange, assigned, lower_bound
from fenko.studies.effort import BIT, FINGERS, PRESS, Model, Site, hand_of, reaches, sites
from fenko.studies.made_up import made_up_year, write_made_up
from fenko.studies.proposing import MOVING, Uses, nothing_known, propose
from fenko.system.journal import journal_file
from started import run_fenko
from support import tries


@st.composite
def problems(draw: st.DrawFn, most: int = 6) -> tuple[Problem, tuple[int, ...]]:
    """Things on a grid of controls, some of which are free, some pairs of which belong together."""
    controls = draw(st.integers(2, most))
    things = draw(st.integers(1, controls))
    luck = np.random.default_rng(draw(st.integers(0, 10**6)))
    wide = draw(st.integers(1, 3))
    where = [(at % wide, at // wide) for at in range(controls)]
    near = np.full((controls, controls, 3), np.nan)
    for one, (x, y) in enumerate(where):
        for other, (to_x, to_y) in enumerate(where):
            if one != other and (x == to_x or y == to_y):
                near[one, other] = (np.sign(to_x - x), np.sign(to_y - y), abs(to_x - x) + abs(to_y - y) == 1)
    now = tuple(int(one) for one in luck.permutation(controls)[:things])
    pairs = []
    for one in range(0, things - 1, 2):
        found = near[now[one], now[one + 1]]
        if draw(st.booleans()) and not np.isnan(found[0]):
            pairs.append(Pair(one, one + 1, int(found[0]), int(found[1]), bool(found[2])))
    made = Problem(
        luck.random((things, controls)) * draw(st.sampled_from((0.0, 1.0, 10.0))), luck.random((things, things)) * draw(st.sampled_from((0.0, 1.0))),
        luck.random((controls, controls)), near, tuple(pairs),
    )  # fmt: skip
    return made, now


def _slow_cost(problem: Problem, places: tuple[int, ...]) -> float:
    total = 0.0
    for one, at in enumerate(places):
        total += problem.alone[one, at]
        for other, to in enumerate(places):
            total += problem.flow[one, other] * problem.between[at, to]
    return total


def _slow_best(problem: Problem) -> float:
    """All arrangements in which pairs are where they have to be to one another."""
    best = np.inf
    things, controls = problem.alone.shape
    for places in permutations(range(controls), things):
        for pair in problem.pairs:
            found = problem.near[places[pair.first], places[pair.second]]
            if (found[0], found[1]) != (pair.across, pair.down) or (pair.close and not found[2]):
                break
        else:
            best = min(best, _slow_cost(problem, places))
    return float(best)


@given(problems())
@settings(max_examples=tries(80), deadline=None)
def test_all_are_tried_where_that_can_be(given_: tuple[Problem, tuple[int, ...]]) -> None:
    problem, now = given_
    found = arrange(problem, now)
    assert found.exact
    assert found.cost == pytest.approx(_slow_best(problem))
    assert found.cost == pytest.approx(_slow_cost(problem, found.places))
    assert problem.allowed(found.places)


@given(problems(), st.integers(0, 99))
@settings(max_examples=tries(60), deadline=None)
def test_the_search_comes_close_to_it(given_: tuple[Problem, tuple[int, ...]], seed: int) -> None:
    problem, now = given_
    whole, arranging.TRIED_WHOLE = arranging.TRIED_WHOLE, 0
    try:
        found = arrange(problem, now, seed)
    finally:
        arranging.TRIED_WHOLE = whole
    best = _slow_best(problem)
    assert len(set(found.places)) == len(now)
    assert problem.allowed(found.places)
    assert found.cost <= problem.cost(now) + 1e-9
    assert found.bound <= best + 1e-9
    assert lower_bound(problem) == found.bound
    assert found.cost <= best * 1.02 + 1e-9  # of small ones it finds the best, or nearly


@given(problems(7))
@settings(max_examples=tries(40), deadline=None)
def test_without_order_it_is_an_assignment_and_exact(given_: tuple[Problem, tuple[int, ...]]) -> None:
    problem, now = given_
    alone = Problem(problem.alone, problem.flow * 0, problem.between, problem.near)
    found = assigned(alone.alone)
    assert alone.cost(found) == pytest.approx(lower_bound(alone))
    assert arrange(alone, now).cost == pytest.approx(alone.cost(found))


def test_large_ones_are_better_than_chance_and_than_a_hand() -> None:
    """Twenty things: better than the best of a thousand at random, and than by hand (most used on the nearest)."""
    luck = np.random.default_rng(4)
    places = [
        Site(
            str(at), (20.0 * (at % 5), 20.0 * (at // 5)), 15.0, ("index", "middle", "ring", "little")[at % 4], (40, 30)
        )
        for at in range(20)
    ]
    rest, between = reaches(places)
    uses = 1000 / np.arange(1, 21)
    flow = luck.random((20, 20)) ** 4 * uses[:, None] * 0.3
    problem = Problem(uses[:, None] * rest[None, :], flow, between, np.full((20, 20, 3), np.nan))
    now = tuple(int(one) for one in luck.permutation(20))
    found = arrange(problem, now)
    by_hand = np.empty(20, int)
    by_hand[np.argsort(-uses)] = np.argsort(rest)
    random = min(problem.cost(luck.permutation(20)) for _ in range(1000))
    assert found.cost < problem.cost(by_hand) < problem.cost(now)
    assert found.cost < random
    assert found.bound <= found.cost <= 1.15 * found.bound


# --- Effort ---


def test_effort_grows_with_the_way_and_falls_with_the_size() -> None:
    near, far, small = (
        Site("a", at, size, "index", (0.0, 0.0))
        for at, size in (((20.0, 0.0), 10), ((60.0, 0.0), 10), ((60.0, 0.0), 5))
    )
    model = Model()
    assert PRESS < near.reach(model) < far.reach(model) < small.reach(model)
    assert near.reach(model) == pytest.approx(PRESS + BIT * np.log2(3))  # 20 mm to something of 10 mm
    little = Site("a", (20.0, 0.0), 10, "little", (0.0, 0.0))
    assert little.reach(model) == pytest.approx(PRESS + (1 + FINGERS["little"]) * BIT * np.log2(3))
    rest, between = reaches([near, far, little])
    assert between[0, 1] == pytest.approx(far.reach(model, near.at))  # the same finger comes from there
    assert between[1, 2] == rest[2]  # another one from where it rests
    assert between[0, 0] == PRESS


def test_fingers_are_those_that_press() -> None:
    desk = load_desk(Path(str(DEMO)))
    shown = Surfaces(desk)

    def fingers(name: str, hand: str = "right") -> dict[str, str]:
        surface = desk.plan.surfaces[name]
        spots = shown.described(surface).spots
        return {one.control: one.finger for one in sites(surface.kind, spots, {}, hand)}

    pad = fingers("pad")
    assert (pad["south"], pad["hat"], pad["shoulder-right"]) == ("right thumb", "left thumb", "right index")
    assert fingers("mouse")["1"] == "thumb"
    assert fingers("mouse")["right"] == "middle"
    assert [fingers("knots")[name] for name in ("f13", "f14", "f15")] == ["index", "middle", "ring"]
    assert [fingers("knots", "left")[name] for name in ("f13", "f14", "f15")] == ["ring", "middle", "index"]
    assert {fingers("keypad")[name] for name in ("kp7", "kp8", "kp9", "kpminus")} == {
        "index",
        "middle",
        "ring",
        "little",
    }


def test_a_slow_hand_is_known_by_what_it_did() -> None:
    luck = np.random.default_rng(2)
    places = [Site(str(at), (20.0 * (at % 4), 15.0 * (at // 4)), 15.0, "index", (0.0, 0.0)) for at in range(24)]
    own = {one.control: 0.6 + 0.2 * one.difficulty(*one.rest) + float(luck.normal(0, 0.05)) for one in places}
    slow = hand_of(places, own).model
    assert 0.12 < slow.bit * (1 + slow.later["index"]) < 0.2  # what is usual is 0.1, this hand's 0.2
    usual = hand_of(places, {}).model
    assert usual.bit == pytest.approx(BIT)
    assert usual.later["index"] == pytest.approx(0.0)
    # One control that takes thought does not change the hand.
    odd = hand_of(places, {one.control: 0.7 for one in places[:3]} | {places[5].control: 1.4}).model
    assert abs(odd.bit - BIT) < 0.06


# --- Desks ---


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    found = tmp_path / "desk"
    shutil.copytree(str(DEMO), found)
    return found


def _buttons(desk: Any, surface: str) -> list[str]:
    known = desk.plan.surfaces[surface]
    return [
        known.own_name(spot.control)
        for spot in Surfaces(desk).described(known).spots
        if spot.at is not None and spot.sends is None
    ]


def test_what_has_to_stay_stays() -> None:
    desk = load_desk(Path(str(DEMO)))
    pad = movable(desk, "frames", "pad", _buttons(desk, "pad"))
    assert pad.things.keys() == {"north", "east"}
    assert pad.stay["shoulder-right"] == "it is held while others are pressed"
    assert pad.stay["shoulder-left"] == "a layer asks for it"
    assert pad.free == ["mode"]  # start and select have something beneath
    knots = movable(desk, "frames", "knots", _buttons(desk, "knots"), keep=["knot-3"])
    assert knots.stay == {
        "knot-1": "another profile has something of its own there", "knot-3": "you keep it",
        "knot-6": "it is held while others are pressed",
    }  # fmt: skip
    assert knots.free == ["knot-7", "knot-8"]
    keypad = movable(desk, "frames", "keypad", _buttons(desk, "keypad"))
    assert keypad.free == []  # unbound keys type their digits
    assert keypad.stay.keys() == {"kp0", "kp0-x2"}
    sound = movable(desk, "sound", "pad", _buttons(desk, "pad"))
    assert sound.stay["south"] == "it does something else in profiles beneath"


@given(st.data())
@settings(max_examples=tries(25), deadline=None)
def test_any_arrangement_leaves_the_desk_good(data: st.DataObject) -> None:
    """Whatever goes where: the desk loads, says the same of all else, and its expectations hold; comments are still there."""
    desk = load_desk(Path(str(DEMO)))
    profile = data.draw(st.sampled_from(("frames", "stream", "sound", "rail")))
    surface = data.draw(st.sampled_from(("pad", "keypad", "mouse", "knots", "jog")))
    may = movable(desk, profile, surface, _buttons(desk, surface))
    spots = [*may.things, *may.free]
    to = data.draw(st.permutations(spots))
    moves = {thing: place for thing, place in zip(may.things, to, strict=False) if thing != place}
    edits = rearranged(desk, profile, surface, moves)
    assert failures(desk, edits) == []
    texts = {edit.path: edit.after.decode() for edit in edits}
    new = load_desk(desk.folder, texts)
    before, after = (one.plan.profiles[profile].levels[-1].controls for one in (desk, new))
    for control in {*spots, *may.stay}:
        came_from = next(
            (one for one, place in moves.items() if place == control), control if control not in moves else None
        )
        cells = after.get(f"{surface}.{control}", ())
        was = before.get(f"{surface}.{came_from}", ()) if came_from else ()
        assert [gesture for cell in cells for gesture in cell.gestures() if gesture[1].words] == [
            gesture for cell in was for gesture in cell.gestures()
        ]
    for edit in edits:
        assert edit.before.count(b"#") == edit.after.count(b"#")
        assert len(edit.before.splitlines()) == len(edit.after.splitlines())
    assert bool(edits) == bool(moves)


def test_keys_are_renamed_however_they_are_written(tmp_path: Path) -> None:
    (tmp_path / "desk.toml").write_text("""format = 1
[surface.pad]
kind = "gamepad"
[profile.base.on]
pad = { south = "a", "east".tap = "b", east.hold = "c" } # in one line
[profile.one]
when = { app = "snipwell" }
[profile.one.on.pad.south] # a table of its own
do = "d" # what it does
label = "South"
[profile.one.on.pad.east]
tap = "e"
[profile.two]
when = { app = "hushdesk" }
[profile.two.on.pad]
south.tap = "f" # first
north = "h"
south.hold = "g" # second
""")
    desk = load_desk(tmp_path)
    assert len([path for path, _ in keys(desk.sources.files[0].text) if path[-1:] == ("south",)]) == 4
    for profile, moves in (("two", {"south": "north", "north": "south"}), ("base", {"south": "mode", "east": "south"})):
        (edit,) = rearranged(desk, profile, "pad", moves)
        assert edit.after.count(b"#") == 5
        write(edit)
        desk = load_desk(tmp_path)
    said = (tmp_path / "desk.toml").read_text()
    assert 'pad = { mode = "a", south.tap = "b", south.hold = "c" } # in one line' in said
    assert 'north.tap = "f" # first\nsouth = "h"\nnorth.hold = "g" # second' in said
    assert movable(desk, "one", "pad", ["south", "east"]).stay == {
        "south": "it does something else in profiles beneath"
    }
    (edit,) = rearranged(desk, "one", "pad", {"east": "west"})
    (tmp_path / "desk.toml").write_text(said + "\n")
    with pytest.raises(EditError, match="just been changed"):
        rearranged(desk, "one", "pad", {"east": "west"})
    with pytest.raises(EditError, match="in the meantime"):
        write(edit)


@pytest.mark.parametrize(
    ("one", "other", "found"),
    [("In point", "Out point", True), ("Previous scene", "Next scene", True), ("One frame back", "One frame on", True),
     ("Undo", "Save", False), ("Camera on the set", "Camera on the bench", False), ("Title on", "Title on", False), ("Copy", "Paste", True)],
)  # fmt: skip
def test_opposites_are_known(one: str, other: str, found: bool) -> None:
    assert belong_together(one, other) is found


def test_it_gains_what_it_says() -> None:
    """What is used most goes where it is reached soonest; a new place has to gain something."""
    places = [
        Site(name, (x, 0.0), 10.0, "index", (0.0, 0.0))
        for name, x in (("a", 80.0), ("b", 40.0), ("c", 5.0), ("d", 6.0))
    ]
    uses = Uses({"a": 900.0, "b": 90.0, "c": 10.0}, {}, [{"a": 9.0, "b": 1.0}] * 20, {})
    found = propose(places, ["a", "b", "c"], ["d"], uses, lambda one, other: False)
    assert found.exact
    assert found.moves == {"a": "c", "b": "d", "c": "b"}
    slow = {one.control: one.reach(Model()) for one in places}
    before = 900 * slow["a"] + 90 * slow["b"] + 10 * slow["c"]
    assert found.now == pytest.approx(before)
    assert found.gain == pytest.approx(1 - found.then / found.now)
    assert found.between[0] <= found.gain <= found.between[1] + 0.1
    assert found.gain >= MOVING * len(found.moves)
    kept = propose(
        places,
        ["a", "b", "c"],
        ["d"],
        nothing_known(dict.fromkeys("abc", "")),
        lambda one, other: {one, other} == {"a", "b"},
    )
    spots = {thing: kept.moves.get(thing, thing) for thing in "abc"}
    x = {one.control: one.at[0] for one in places}
    assert x[spots["b"]] < x[spots["a"]]  # as it was


# --- The command ---


def test_an_arranged_desk_is_good_and_stays_arranged(folder: Path, tmp_path: Path) -> None:
    path = journal_file(folder)
    path.parent.mkdir(parents=True)
    write_made_up(path, made_up_year(load_desk(folder).plan, 1, days=100, an_evening=300))
    at = ("--desk", str(folder))
    found = {one["surface"]: one for one in json.loads(run_fenko("arrange", "stream", *at, "--format", "json").stdout)}
    knots = found["knots"]
    assert knots["exact"]
    assert knots["gain"] > 0.1
    assert 0 < knots["between"][0] < knots["between"][1]
    kept = json.loads(
        run_fenko("arrange", "stream", *at, "--surface", "knots", "--keep", "knots.knot-7", "--format", "json").stdout
    )
    assert "knot-7" not in {*kept[0]["moves"], *kept[0]["moves"].values()}
    assert 0 <= kept[0]["gain"] < knots["gain"]
    written = run_fenko("arrange", "stream", *at, "--surface", "knots", "--write", "--out", str(tmp_path / "both.svg"))
    assert written.returncode == 0, written.stderr
    assert "from knot-7" in (tmp_path / "both.svg").read_text()
    assert run_fenko("check", *at).returncode == 0
    desk = load_desk(folder)
    for thing, place in knots["moves"].items():
        (cell,) = desk.plan.profiles["stream"].levels[-1].controls[f"knots.{place}"]
        assert cell.press is not None
        assert cell.press.title == knots["does"][thing]
    # The journal knows it by what it does, so it would not be moved again.
    again = run_fenko("arrange", "stream", *at, "--surface", "knots")
    assert "sits well" in again.stdout, again.stdout
    assert run_fenko("history", *at, "--format", "json").stdout.count("set.toml") == 1


def test_what_cannot_be_arranged_is_said(folder: Path) -> None:
    at = ("--desk", str(folder))
    none = run_fenko("arrange", "frames", *at)
    assert none.returncode == 0
    assert "every binding counts alike" in none.stderr
    for arguments, status, says in (
        (("frams",), 2, "did you mean `frames`"),
        (("frames", "--surface", "pod"), 2, "did you mean `pad`"),
        (("frames", "--keep", "pad.sooth"), 2, "did you mean `pad.south`"),
        (("frames", "--pair", "pad.south"), 2, "takes two controls"),
        (("frames", "--pair", "keypad.kp7,keypad.record"), 2, "not in one row or column"),
        (("frames", "--pair", "keypad.kp7,keypad.kp0"), 2, "keypad.kp0 may not move"),
        (("frames", "--out", "x.txt"), 2, "should end in"),
        (("titles",), 1, "could sit elsewhere"),
        (("frames", "--example"), 2, "desk of its own"),
    ):
        done = run_fenko("arrange", *arguments, *at)
        assert done.returncode == status, (arguments, done.stderr)
        assert says in done.stderr, (arguments, done.stderr)


def test_every_binding_of_a_surface_moves_or_says_why_it_stays() -> None:
    desk = load_desk(DEMO)
    for profile in ("frames", "sound", "stream"):
        own = desk.plan.profiles[profile].levels[-1]
        for name, surface in desk.plan.surfaces.items():
            may = movable(desk, profile, name, [])
            bound = {
                control.partition(".")[2] for control, cells in own.controls.items()
                if control.startswith(f"{name}.") and any(any(cell.gestures()) for cell in cells)
            }  # fmt: skip
            assert bound == {*may.things, *may.stay}, (profile, surface.name)
