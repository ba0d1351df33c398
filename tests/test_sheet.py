"""Plans of surfaces: every name is there, in every form, at every width."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenko.core.controls import KINDS
from fenko.core.descriptions import Description, new_spot
from fenko.core.plan import Surface
from fenko.desk.descriptions import kind_description
from fenko.drawing import terminal
from fenko.drawing.labels import labels, ways_to_break
from support import DEMO, MakeDesk, Run


def shown_names(lines: list[str]) -> str:
    """All that is written on a plan, without its boxes."""
    return re.sub(r"[┌┐└┘─│╭╮╰╯┄┊\s]+", " ", " ".join(lines))


@given(st.sampled_from([kind for kind in KINDS if kind_description(kind).spots]), st.integers(10, 240))
def test_every_name_is_on_the_terminal_and_nothing_is_too_wide(kind: str, columns: int) -> None:
    description = kind_description(kind).laid_out()
    shown = labels(description, Surface("", kind))
    lines = terminal.draw(shown, description.body, columns, lambda text, sort: text)
    if lines is None:
        assert terminal.columns_wanted(shown, description.body) > columns
        return
    picture = [line for line in lines if "#" not in line or "┌" in line or "│" in line]
    assert all(len(line) <= columns + 6 for line in picture)
    written = shown_names(lines)
    for label in shown:
        assert any(all(part in written for part in way) for way in ways_to_break(label.title, 9)), label.title


@given(st.lists(st.sampled_from(sorted(KINDS["other"])), unique=True, max_size=40))
def test_controls_that_nobody_placed_get_a_place_each(controls: list[str]) -> None:
    spots = Description("x", "other", spots=tuple(map(new_spot, controls[::2]))).laid_out(controls).spots
    assert {spot.control for spot in spots} == set(controls)
    boxes = [label.box for label in labels(Description("x", "other", spots=spots), Surface(""))]
    for number, one in enumerate(boxes):
        for other in boxes[number + 1 :]:
            apart = one[2] <= other[0] or other[2] <= one[0] or one[3] <= other[1] or other[3] <= one[1]
            assert apart, (one, other)


def test_the_demo_surfaces_in_every_form(fenko: Run, tmp_path: Path) -> None:
    starts = {"svg": b"<?xml", "png": b"\x89PNG", "pdf": b"%PDF"}
    for form, start in starts.items():
        done = fenko("sheet", "--plan", "keypad", "--desk", DEMO, "--out", f"keypad.{form}")
        assert done.returncode == 0, done.stderr
        assert (tmp_path / f"keypad.{form}").read_bytes().startswith(start)
    text = " ".join(re.findall(r">([^<>]+)</text>", (tmp_path / "keypad.svg").read_text()))
    for name in ("play", "kp4", "kp0-x2", "kpenter", "num", "sends nothing", "keypad: Tallow 17"):
        assert name in text, name
    first = (tmp_path / "keypad.svg").read_bytes()
    fenko("sheet", "--plan", "keypad", "--desk", DEMO, "--out", "keypad.svg")
    assert (tmp_path / "keypad.svg").read_bytes() == first
    fenko("sheet", "--plan", "keypad", "--desk", DEMO, "--out", "dark.svg", "--dark")
    assert (tmp_path / "dark.svg").read_bytes() != first


def test_a_desk_without_descriptions_shows_what_it_binds(fenko: Run, make_desk: MakeDesk) -> None:
    desk = make_desk('[surface.odd]\nkind = "other"\nnames = { f20 = "clap" }\n[profile.base.on.odd]\nbutton-3 = "a"\n')
    shown = fenko("sheet", "--plan", "odd", "--desk", desk).stdout
    assert "clap" in shown and "f20" in shown and "button-3" in shown


@pytest.mark.parametrize(
    ("arguments", "status", "message"),
    [
        (("--plan", "gamepd"), 2, "did you mean `gamepad`?"),
        (("--plan", "gamepad", "--out", "x.gif"), 2, "should end in .svg, .png, .pdf"),
        (("--plan", "gamepad", "--labels", "gamepad"), 2, "do not go together"),
        (("--copies", "2"), 2, "go with --labels"),
        (("--desk", DEMO, "framse"), 2, "did you mean `frames`?"),
        (("--desk", DEMO, "--surface", "pat"), 2, "did you mean `pad`?"),
        (("--desk", DEMO, "--labels", "keypad"), 2, "needs --out"),
        (
            ("--desk", DEMO, "--labels", "keypad", "--layer", "trim", "--out", "x.pdf"),
            2,
            "no layer of base called `trim`",
        ),
        (("--desk", DEMO, "--labels", "keypad", "rail", "--out", "x.md"), 2, "should end in"),
        (("--icons", "no-such-word-anywhere"), 1, "no icon is found"),
        (("--format", "json", "--out", "x.pdf", "--desk", DEMO), 2, "is printed"),
        (("--plan", "gamepad", "--out", "no/folder/x.svg"), 1, "cannot be written: no such file or directory"),
        (("--plan", "other"), 1, "nothing is known"),
        (("--plan", "gamepad", "--dark"), 2, "--dark goes with --out"),
        ((), 2, "there is no such folder"),
    ],
)
def test_what_cannot_be_drawn(fenko: Run, arguments: tuple[str | Path, ...], status: int, message: str) -> None:
    done = fenko("sheet", *arguments)
    assert (done.returncode, message in done.stderr, "Traceback" in done.stderr) == (status, True, False), done.stderr


def test_an_icon_by_name_is_left_out_in_a_terminal(fenko: Run, make_desk: MakeDesk) -> None:
    desk = make_desk(
        '[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\n'
        'south = { do = "a", label = "Mute", icon = "mic-off" }\neast = { do = "b", label = "Onion", icon = "◐" }\n'
    )
    shown = fenko("sheet", "--desk", desk).stdout
    assert "Mute" in shown and "mic-off" not in shown and "◐ Onion" in " ".join(shown.split())
