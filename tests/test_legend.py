"""What each control does now: in words against the engine, and live in a terminal."""

from __future__ import annotations

import json
import os
import signal
import statistics
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from fenko.client import RunningDesk
from fenko.core.stack import stack_of
from fenko.desk.descriptions import Catalogue
from fenko.desk.load import load_desk
from fenko.desk.meanings import meanings, rows, together
from fenko.drawing import terminal
from fenko.drawing.labels import labels
from fenko.showing.shown import Surfaces
from running import Running
from screen import Screen, needs_screen, screen
from started import run_fenko
from support import DEMO, MakeDesk, Run, wait_for
from terminal import Terminal

DESK = """
[output]
keys = "x11"
[surface.pad]
kind = "gamepad"
names = { south = "cross" }
[profile.base.on.pad]
cross = { do = "ctrl+z", label = "Undo", colour = "#ff8800", icon = "↶" }
north = { tap = { do = "m", label = "Marker" }, hold = { do = "o", label = "Onion skin" } }
east = { in-turn = ["f13", "f14"], states = ["Muted", "Live"], label = "Mic" }
hat = { left = { do = "left", label = "One frame back" }, right = "right" }
stick-left.x = "scroll 10"
"start+select" = { do = "ctrl+s", label = "Save" }
west = "layer more"
[profile.base.layer.more.on.pad]
cross = { do = "ctrl+y", label = "Redo 東" }
[profile.frames]
when = { app = "snipwell" }
[profile.frames.on.pad]
cross = { do = "a", label = "Lantern" }
east = "b"
"""


def told(desk: Path, profile: str, layers: tuple[str, ...] = (), **states: str) -> dict[str, Any]:
    loaded = load_desk(desk)
    controls = ["cross", "north", "east", "hat", "stick-left", "west", "mode"]
    found = meanings(stack_of(loaded.plan, profile, *layers), loaded.plan.surfaces["pad"], controls, states)
    return {one.control: one for one in found}


def test_what_a_control_does_is_said_as_the_person_named_it(make_desk: MakeDesk) -> None:
    desk = make_desk(DESK)
    base = told(desk, "base", **{"base pad.east.press": "Live"})
    assert (base["cross"].title, base["cross"].colour, base["cross"].icon) == ("Undo", "#ff8800", "↶")
    assert (base["north"].title, base["north"].more) == ("Marker", ("held: Onion skin",))
    assert base["east"].title == "Mic: Live" and told(desk, "base")["east"].title == "Mic"
    assert (base["hat"].title, base["hat"].more) == ("", ("← One frame back", "→ right"))
    assert base["stick-left"].title == "↔ scroll 10"
    assert base["mode"].title == base["mode"].level == ""
    more = told(desk, "base", ("more",))
    assert (more["cross"].title, more["cross"].level, more["north"].title) == ("Redo 東", "base/more", "Marker")
    assert told(desk, "frames")["cross"].title == "Lantern" and told(desk, "frames")["north"].title == "Marker"
    loaded = load_desk(desk)
    stack = stack_of(loaded.plan, "frames")
    placed = Surfaces(loaded).controls(loaded.plan.surfaces["pad"])
    assert list(together(stack, loaded.plan.surfaces["pad"], placed)) == [("select+start", "Save")]


@pytest.mark.parametrize("profile", [*load_desk(DEMO).plan.profiles])
def test_nothing_that_the_demo_binds_is_missing_from_the_picture(profile: str) -> None:
    """Every binding that is in force, with every layer, stands somewhere: in its place or beneath."""
    desk = load_desk(DEMO)
    surfaces = Surfaces(desk)
    for layer in ("", *desk.plan.profiles[profile].layers):
        stack = stack_of(desk.plan, profile, *((layer,) if layer else ()))
        for surface in desk.plan.surfaces.values():
            placed = surfaces.controls(surface)
            said = [line for one in surfaces.shown(surface, stack) for line in (one.meaning.title, *one.meaning.more)]
            said += [title for _, title in together(stack, surface, placed)]
            listed = {row.title for row in rows(stack, surface, placed)}
            for address, cell in stack.table().items():
                for _, binding in cell.gestures() if address.partition(".")[0] == surface.name else ():
                    assert any(binding.title in line for line in said), (address, binding.title)
                    assert binding.title in listed, (address, binding.title)


def test_what_rides_on_a_control_stands_on_it(make_desk: MakeDesk) -> None:
    desk = load_desk(make_desk(DESK + '[profile.frames.on.pad.stick-right-press]\ntap = "n"\ndouble = "m"\n'))
    stack = stack_of(desk.plan, "frames")
    shown = {one.meaning.control: one for one in Surfaces(desk).shown(desk.plan.surfaces["pad"], stack)}
    assert shown["stick-right"].meaning.more == ("pressed: n", "pressed twice: m")
    assert shown["stick-right"].label.bound and shown["stick-right"].label.title == "stick-right"
    assert not shown["mode"].label.bound


def test_whatever_does_not_fit_stands_beneath(make_desk: MakeDesk) -> None:
    from msgspec import structs

    description = Catalogue.usual(DEMO).all()["thistle-pad"].laid_out()
    surface = load_desk(DEMO).plan.surfaces["pad"]
    long = "Undo three steps and then some more 東京東京東京, really"
    shown = [
        structs.replace(one, title=long, small=("held: 東 ✓", "let go: x" * 30), whole=True)
        for one in labels(description, surface)
    ]
    for columns in (60, 100, 160):
        lines = terminal.draw(shown, description.body, columns, lambda text, label: text)
        if lines is None:
            continue
        text = "\n".join(lines)
        assert text.count("held: 東 ✓") == len(shown) and text.count("let go: xlet go: x") >= len(shown)
        assert text.replace("\n", " ").count("#") >= len(shown)


def test_a_long_text_does_not_fill_the_plan(make_desk: MakeDesk) -> None:
    words = "one reel after the other " * 60
    desk = load_desk(make_desk(DESK + f"[profile.frames.on.pad.stick-right-press]\ntap = 'type \"{words}\"'\n"))
    pad, stack = desk.plan.surfaces["pad"], stack_of(desk.plan, "frames")
    shown = Surfaces(desk)
    long = next(one for one in shown.shown(pad, stack) if one.meaning.control == "stick-right")
    (line,) = [one for one in (long.label.title, *long.label.small) if "one reel" in one]
    assert len(line) == 100 and line.endswith("…")
    assert words in " ".join(long.meaning.more), "who asks for the data gets all of it"
    drawn = terminal.draw(
        [one.label for one in shown.shown(pad, stack)], shown.described(pad).body, 100, lambda text, _: text
    )
    assert drawn is not None and len(drawn) < 40


@pytest.fixture
def shown() -> Iterator[Screen]:
    with screen() as one:
        yield one


def started(one: Screen, folder: Path, desk: Path, *events: tuple[float, str, float]) -> Running:
    take = folder / "t.jsonl"
    lines = [{"take": 2, "name": "x", "surfaces": {"pad": "gamepad"}}, *(
        {"t": t, "surface": "pad", "control": control, "value": value} for t, control, value in [*events, (900, "mode", 0)]
    )]  # fmt: skip
    take.write_text("\n".join(map(json.dumps, lines)))
    running = Running(one, folder / "log", "--desk", str(desk), "--play", str(take))
    running.says("is running")
    return running


@needs_screen
def test_the_legend_is_live(shown: Screen, make_desk: MakeDesk, tmp_path: Path) -> None:
    desk = make_desk(DESK)
    running = started(shown, tmp_path, desk, (0.2, "east", 1), (0.3, "east", 0), (1.0, "cross", 1))
    view = Terminal("legend", columns=120, lines=60)
    view.shows("Undo")
    view.shows("Muted")
    wait_for(lambda: (view.pump(), b"\x1b[38;2;255;136;0m\x1b[7m" in view.shown)[1], "Undo lit up while it is pressed")
    with RunningDesk() as one:
        one.switch("frames")
        view.shows("Lantern")
        assert any("frames" in line and "by hand" in line for line in view.frame())
        one.pause()
        view.shows("paused")
        one.resume()
        # What is saved is what is shown; while it is wrong, what was before is.
        make_desk(DESK.replace("Lantern", "Moth"))
        view.shows("Moth")
        make_desk(DESK.replace("Lantern", "Candle").replace("east", "eats"))
        running.says("the old one stays")
        one.switch("base")
        view.shows("Undo")
        view.resize(70, 12)
        wait_for(
            lambda: 0 < len(view.frame()) <= 12 and any("more below" in line for line in view.frame()), "a small one"
        )
        view.type(b"\t")
        view.resize(120, 60)
        view.shows("Undo")
    assert running.end() == 0
    view.shows("no desk is running")
    again = started(shown, tmp_path, make_desk(DESK.replace("Undo", "Back")))
    view.shows("Back")
    view.type(b"q")
    assert view.end() == 0
    assert again.end() == 0


@needs_screen
def test_it_is_printed_once_for_others(shown: Screen, make_desk: MakeDesk, tmp_path: Path) -> None:
    running = started(shown, tmp_path, make_desk(DESK))
    data = json.loads(run_fenko("legend", "--format", "json", env=shown.environment).stdout)
    assert (data["profile"] == "base" and {"control": "cross"}.items() <= data["surfaces"]["pad"][-1].items()) or any(
        one["title"] == "Undo" and one["icon"] == "↶" for one in data["surfaces"]["pad"]
    )
    text = run_fenko("legend", "pad", env=shown.environment).stdout
    assert "↶ Undo" in text and "select+start: Save" in text and "\x1b" not in text
    wrong = run_fenko("legend", "pat", env=shown.environment)
    assert wrong.returncode == 2 and "did you mean `pad`" in wrong.stderr
    assert running.end() == 0


def test_without_a_desk_there_is_no_legend(fenko: Run) -> None:
    done = fenko("legend")
    assert (done.returncode, "no desk is running" in done.stderr) == (1, True)


@needs_screen
def test_it_changes_soon_after_the_window(shown: Screen, make_desk: MakeDesk, tmp_path: Path) -> None:
    """From what the desk knows to what a follower hears; how soon it is drawn on a quiet machine stands in the benchmark."""
    running = started(shown, tmp_path, make_desk(DESK))
    took = []
    with RunningDesk() as one, RunningDesk() as other:
        told = other.follow()
        next(told)
        for number in range(20):
            wanted = ("frames", "base")[number % 2]
            time.sleep(0.05)
            began = time.monotonic()
            one.switch(wanted)
            while next(told)["profile"] != wanted:
                pass
            took.append(time.monotonic() - began)
    assert statistics.median(took) < 0.5, took
    os.kill(running.process.pid, signal.SIGTERM)
    assert running.process.wait(20) == 0
