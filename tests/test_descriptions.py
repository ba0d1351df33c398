"""Descriptions of devices: what walking along the controls comes to, the files, and what a desk takes from them."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenko.core.controls import KINDS
from fenko.core.describing import Describer, Heard
from fenko.core.descriptions import Description
from fenko.desk.descriptions import Catalogue, kind_description, load_description
from fenko.desk.load import load_desk
from fenko.desk.problems import DeskError
from fenko.desk.writing import description_text, write_new
from support import MakeDesk, Run

GAMEPAD, KEYPAD, JOG = (kind_description(kind) for kind in ("gamepad", "keypad", "ring-and-dial"))


def press(describer: Describer, *controls: str, at: float = 0.0, times: int = 1, gap: float = 0.02) -> bool:
    """Presses and releases controls, `times` times, and rests."""
    for number in range(times):
        for value in (1, 0):
            for control in controls:
                describer.feed((at + number * gap + (1 - value) * gap / 2, f"thing.{control}", value))
    return describer.settle()


def test_three_rows_with_a_silent_key_a_double_one_and_two_alike() -> None:
    describer = Describer(KEYPAD)
    describer.nothing("Num")
    assert press(describer, "kpslash", at=1)
    describer.take("÷")
    describer.row()
    assert press(describer, "kp0", at=2)
    describer.take("")
    assert press(describer, "kp0", at=3, times=2)
    assert describer.pending == Heard(("kp0",), 2)
    describer.take("00")
    describer.skip()
    assert press(describer, "kpenter", at=4)
    describer.take("Record")
    assert press(describer, "kpenter", at=5)
    same = describer.same_as()
    assert same is not None and same.name == "record"
    describer.take("Right Enter")
    found = {spot.control: spot for spot in describer.description("Tallow", ("usb 1209:4d17",)).spots}
    assert list(found) == ["num", "kpslash", "kp0", "kp0-x2", "kpenter", "right-enter"]
    assert found["num"].sends == () and "cannot be bound" in (found["num"].trouble or "")
    assert found["kpslash"].printed == "÷" and found["kpslash"].at == (30, 11)
    assert found["kp0-x2"].at == (30, 30) and "2 presses" in (found["kp0-x2"].trouble or "")
    assert found["kpenter"].at == (68, 30) and found["kpenter"].name == "record"
    assert found["right-enter"].sends == ("kpenter",) and "told apart" in (found["right-enter"].trouble or "")


@pytest.mark.parametrize(("gap", "times"), [(0.059, 2), (0.061, 1)])
def test_only_presses_that_no_finger_manages_are_one_key(gap: float, times: int) -> None:
    describer = Describer(KEYPAD)
    press(describer, "kp0", times=2, gap=gap)
    assert describer.pending == Heard(("kp0",), times)


def test_a_key_that_sends_several_at_once() -> None:
    describer = Describer(KEYPAD)
    assert press(describer, "leftctrl", "c")
    spot = describer.take("Copy!")
    assert (spot.control, spot.sends, spot.printed) == ("copy", ("leftctrl", "c"), "Copy!")
    assert "`leftctrl` and `c` at once" in (spot.trouble or "")


def test_sticks_and_dials_are_heard_by_how_far_they_go() -> None:
    describer = Describer(GAMEPAD)
    describer.feed((0.0, "thing.stick-left.x", -0.9))
    describer.feed((0.0, "thing.stick-right.y", 0.2))
    assert not describer.settle()  # it has not come back yet
    describer.feed((0.1, "thing.stick-left.x", 0.0))
    describer.feed((0.1, "thing.stick-right.y", 0.1))
    assert describer.settle()
    assert describer.pending == Heard(("stick-left",))
    describer.take("")
    assert press(describer, "stick-left-press", at=2)
    spots = {spot.control: spot for spot in describer.description("Pad", ()).spots}
    assert spots["stick-left"].at == (60, 98)  # where a gamepad has it
    assert spots["stick-left-press"].on == "stick-left"
    jog = Describer(JOG)
    jog.feed((0.0, "thing.dial", -1))
    assert jog.settle()
    assert jog.pending == Heard(("dial",))


def test_going_back_and_again() -> None:
    describer = Describer(KEYPAD)
    assert not describer.back()
    press(describer, "kp7")
    describer.again()
    assert describer.pending is None and describer.spots == []
    press(describer, "kp7", at=1)
    describer.take("one")
    press(describer, "kp8", at=2)
    with pytest.raises(ValueError, match="already a name"):
        describer.take("One")
    describer.take("")
    assert describer.back()
    assert [spot.control for spot in describer.spots] == ["kp7"]


@given(
    st.lists(
        st.tuples(
            st.sampled_from(["press", "twice", "nothing", "skip", "row", "back", "again"]),
            st.sampled_from(["kp0", "kp1", "kpenter", "a"]),
            st.text(max_size=24),
        ),
        max_size=25,
    )
)
def test_whatever_a_person_does_the_file_says_the_same(steps: list[tuple[str, str, str]]) -> None:
    describer = Describer(KEYPAD)
    for number, (step, control, text) in enumerate(steps):
        try:
            if step in ("press", "twice"):
                press(describer, control, at=number, times=1 + (step == "twice"))
                describer.take(text)
            elif step == "nothing":
                describer.nothing(text)
            else:
                getattr(describer, step)()
        except ValueError:
            describer.again()
    made = describer.description("Tallow", ("usb 1209:4d17",))
    assert _read_back(made) == made
    inside = [spot for spot in made.spots if spot.at is not None]
    assert all(0 <= spot.at[axis] <= made.body[axis] for spot in inside for axis in (0, 1) if spot.at)
    assert len({spot.at for spot in inside}) == len(inside)


def _read_back(made: Description) -> Description:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "made.toml"
        write_new(path, description_text(made))
        return load_description(path)


def test_every_description_that_ships_is_good() -> None:
    catalogue = Catalogue.usual()
    assert {"thistle-pad", "tallow-17", "nine-knots"} <= set(catalogue.all())
    assert catalogue.problems == []
    for kind in KINDS:
        spots = kind_description(kind).laid_out().spots
        assert all(spot.at is not None or spot.on is not None for spot in spots)
        places = [(spot.at, spot.size) for spot in spots if spot.at]
        assert len(set(places)) == len(places)


@pytest.mark.parametrize(
    ("text", "where", "message"),
    [
        ('kind = "keypad"', "", "`description` is missing"),
        ('description = 1\nkind = "keypod"', "2:8", "not known here"),
        ('description = 1\nkind = "keypad"\nbody = [1]', "3:8", "expected 2 values, not 1"),
        ('description = 1\nkind = "keypad"\n[controls]\nkp55 = {}', "4:1", "no control `kp55`"),
        ('description = 1\nkind = "keypad"\n[controls]\nfn = { sends = "kp55" }', "4:16", "no control `kp55`"),
        ('description = 1\nkind = "keypad"\n[controls]\nkp5 = { on = "kp4" }', "4:14", "no control `kp4`"),
        ('description = 1\nkind = "keypad"\n[controls]\nkp5 = { size = [0, 3] }', "4:16", "that small"),
        ('description = 1\nkind = "keypad"\n[controls]\nkp5 = { name = "x" }\nkp4 = { name = "x" }', "5:16", "already the name"),
        ('description = 1\nkind = "keypad"\n[controls]\nkp5 = { at = ["a", 2] }', "4:15", "number"),
        ('description = 1\nkind = "other"\n[controls]\naxis-40 = { sort = "fadder" }', "4:20", "did you mean `fader`"),
        ('description = 1\nkind = "other"\n[controls]\naxis-40 = { sort = "stick" }', "4:20", "cannot be a stick"),
        ('description = 1\nkind = "keypad"\n[controls]\nkp5 = { sort = "fader" }', "4:16", "cannot be a fader"),
        ("", "", "missing"),
        ("[", "1:", "not TOML"),
    ],
)  # fmt: skip
def test_mistakes_in_a_description(tmp_path: Path, text: str, where: str, message: str) -> None:
    path = tmp_path / "x.toml"
    path.write_text(text)
    with pytest.raises(DeskError) as error:
        load_description(path)
    said = "\n".join(problem.render() for problem in error.value.problems)
    assert f"x.toml:{where}" in said if where else "x.toml" in said
    assert message in said


DESK = """
[surface.keys]
description = "nine-knots"
links = ["usb 1209:4d09"]
names = { f13 = "first" }
[profile.base.on.keys]
first = "a"
knot-2 = "b"
"""


def test_a_desk_takes_kind_and_names_from_a_description(tmp_path: Path, make_desk: MakeDesk) -> None:
    desk = load_desk(make_desk(DESK))
    surface = desk.plan.surfaces["keys"]
    assert (surface.kind, surface.own_name("f13"), surface.own_name("f14")) == ("macro-pad", "first", "knot-2")


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (("nine-knots", "nine-knot"), "did you mean `nine-knots`?"),
        (('links = ["usb 1209:4d09"]', 'kind = "keypad"'), "says that this is a macro-pad"),
        (('"first" }', '"knot-2" }'), "already the name of `f14`"),
        (("knot-2 =", "knot-1 ="), "unknown control `knot-1`"),
    ],
)
def test_a_desk_that_does_not_fit_its_description(
    make_desk: MakeDesk, fenko: Run, change: tuple[str, str], message: str
) -> None:
    done = fenko("check", "--desk", make_desk(DESK.replace(*change)))
    assert done.returncode == 2
    assert message in done.stdout + done.stderr


def test_eight_faders_on_one_surface(make_desk: MakeDesk, fenko: Run, tmp_path: Path) -> None:
    faders = "\n".join(f'axis-{40 + n} = {{ name = "grain-{n}", sort = "fader" }}' for n in range(8))
    description = f'description = 1\nkind = "other"\nlinks = ["usb 1209:4d61"]\n[controls]\n{faders}'
    bound = "\n".join(f'grain-{n} = {{ press = "f{n + 1}", full = "shift+f{n + 1}" }}' for n in range(8))
    desk = make_desk(f'[surface.desk]\ndescription = "grains"\n[profile.base.on.desk]\n{bound}')
    (desk / "devices").mkdir()
    (desk / "devices/grains.toml").write_text(description)
    head = {"take": 2, "name": "x", "surfaces": {"desk": "other"}}
    moved = {"t": 1, "surface": "desk", "control": "grain-7", "raw": 4000, "range": [0, 4095]}
    take = tmp_path / "t.jsonl"
    take.write_text("\n".join(map(json.dumps, [head, moved])))
    done = fenko("rehearse", take, "--desk", desk, "--format", "jsonl")
    assert done.returncode == 0, done.stderr
    sent = [(one["act"], one["key"]) for one in map(json.loads, done.stdout.splitlines())]
    assert sent == [("down", "f8"), ("down", "shift"), ("up", "shift"), ("up", "f8")]
    known = load_description(desk / "devices/grains.toml")
    copy = tmp_path / "copy.toml"
    copy.write_text(description_text(known))
    assert load_description(copy).spots == known.spots


def test_a_desk_brings_its_own_descriptions(make_desk: MakeDesk, fenko: Run) -> None:
    desk = make_desk(DESK)
    (desk / "devices").mkdir()
    (desk / "devices/nine-knots.toml").write_text('description = 1\nkind = "keypad"\n[controls]\nkp55 = {}\n')
    done = fenko("check", "--desk", desk)
    assert done.returncode == 2
    assert "devices/nine-knots.toml:4:1" in done.stdout + done.stderr


def test_known_descriptions_are_listed_also_when_one_is_bad(tmp_path: Path, fenko: Run) -> None:
    folder = tmp_path / "config/fenko/devices"
    folder.mkdir(parents=True)
    (folder / "bad.toml").write_text("description = 7\n")
    (folder / "tallow-17.toml").write_text('description = 1\nkind = "keypad"\nname = "Mine"\n')
    done = fenko("devices", "--known", "--format", "json")
    found = {one["description"]: one for one in json.loads(done.stdout)}
    assert found["tallow-17"]["name"] == "Mine"
    assert done.returncode == 1 and "bad.toml:1:15" in done.stderr


def test_nothing_is_overwritten(tmp_path: Path) -> None:
    path = tmp_path / "new/x.toml"
    write_new(path, "one")
    assert (path.stat().st_mode & 0o777, path.parent.stat().st_mode & 0o777) == (0o600, 0o700)
    with pytest.raises(FileExistsError):
        write_new(path, "two")
    assert path.read_text() == "one"
    assert [entry.name for entry in path.parent.iterdir()] == ["x.toml"]
