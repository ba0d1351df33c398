"""Which profile is in force, when and why: the rule against a slow reading of it, windows and programs of a real screen."""

from __future__ import annotations

import json
import shutil
import subprocess
from collections.abc import Iterator
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenko.core.changes import FOCUS, PLUG, RUNNING, UNPLUG, Change
from fenko.core.choosing import Chooser
from fenko.core.circumstances import AROUND_FIELDS, FOCUS_FIELDS, Circumstances, Condition, Focus
from fenko.core.engine import Engine
from fenko.core.patterns import compile_pattern
from fenko.core.plan import BASE, Level, Plan, Profile
from fenko.desk.load import load_desk
from fenko.desk.problems import DeskError
from fenko.devices.recorder import take_line
from running import Running
from screen import Screen, needs_screen, screen
from started import run_fenko
from support import MakeDesk, Run, wait_for

# --- The rule ---

When = dict[str, Any]


def condition(when: When) -> Condition:
    patterns = {field: tuple(map(compile_pattern, texts)) for field, texts in when.items() if field != "not"}
    return Condition(patterns, tuple(map(condition, when.get("not", []))))


def plan_of(*whens: list[When]) -> Plan:
    profiles = {BASE: Profile(BASE, (), (Level(BASE, {}),), {})}
    for number, when in enumerate(whens):
        profiles[f"p{number}"] = Profile(f"p{number}", tuple(map(condition, when)), (), {})
    return Plan({}, profiles)


def fits(pattern: str, text: str) -> bool:
    """A text, or with `*` at the end one that begins so; case does not matter."""
    pattern, text = pattern.lower(), text.lower()
    return text.startswith(pattern[:-1]) if pattern.endswith("*") else text == pattern


def met(when: When, window: Focus, now: Circumstances) -> list[str] | None:
    """The texts of which one was met, for each field; None if the `when` does not hold for this window."""
    found = []
    for field, texts in when.items():
        if field == "not":
            continue
        there = {"running": now.running, "surface": now.surfaces}.get(field) or (
            [] if field in AROUND_FIELDS else [getattr(window, field)]
        )
        if field == "app":  # by any name of the program
            there = [*there, *([window.program] if window.program else [])]
        good = [text for text in texts if any(fits(text, one) for one in there)]
        if not good:
            return None
        if field == "app":  # in full is its own name alone
            good = [text for text in good if fits(text, window.app)]
        found.append("full" if any(not text.endswith("*") for text in good) else "pattern")
    return found


def chosen(whens: list[list[When]], now: Circumstances) -> str:
    """As the documentation says it, word for word."""
    candidates = []
    for number, several in enumerate(whens):
        for when in several:
            both = [window for window in (now.focus, now.focus.owner) if window is not None]
            if any(met(one, window, now) is not None for one in when.get("not", []) for window in both):
                continue
            for own, window in ((True, now.focus), (False, now.focus.owner)):
                if window is None:
                    continue
                found = met(when, window, now)
                if found is None:
                    continue
                of_window = [field for field in when if field in FOCUS_FIELDS]
                around = [field for field in when if field in AROUND_FIELDS]
                denied = [field for one in when.get("not", []) for field in one]
                rank = (len(of_window), len(around), len(denied), own, found.count("full"), -number)
                candidates.append((rank, f"p{number}"))
                break
    return max(candidates)[1] if candidates else BASE


_texts = st.lists(st.sampled_from(["snipwell", "Snipwell", "hush*", "*", "beamcart"]), min_size=1, max_size=2)
_plain = st.dictionaries(st.sampled_from(["app", "title", "program", *AROUND_FIELDS]), _texts, min_size=1, max_size=3)
_when = _plain | st.builds(
    lambda when, denied: when | {"not": denied}, _plain, st.lists(_plain, min_size=1, max_size=2)
)
_words = st.sampled_from(["", "snipwell", "SNIPWELL", "hushdesk", "beamcart"])
_windows = st.builds(Focus, _words, _words, _words)
_names = st.frozensets(st.sampled_from(["snipwell", "hushdesk"]))


@given(
    st.lists(st.lists(_when, max_size=2), max_size=6),
    st.builds(
        lambda focus, owner: Focus(focus.app, focus.title, focus.program, owner=owner), _windows, st.none() | _windows
    ),
    _names,
    _names,
)
def test_the_profile_is_chosen_by_the_rule(
    whens: list[list[When]], focus: Focus, running: frozenset[str], surfaces: frozenset[str]
) -> None:
    now = Circumstances(focus, running, surfaces)
    desk = plan_of(*whens)
    assert Chooser(desk.profiles.values()).choose(now) == desk.choose(now) == chosen(whens, now)


DIALOG = Focus("Snipwell", "Export", owner=Focus("Snipwell", "Reel 2"))


@pytest.mark.parametrize(
    ("whens", "now", "expected"),
    [
        ([{"app": ["*"]}, {"app": ["snip*"]}], Circumstances(Focus("snipwell")), "p0"),
        ([{"app": ["snip*"]}, {"app": ["snipwell"]}], Circumstances(Focus("Snipwell")), "p1"),
        ([{"app": ["snipwell"]}, {"app": ["snip*"], "title": ["Reel*"]}], Circumstances(Focus("snipwell", "Reel 2")), "p1"),
        # A program that merely runs gives way to the one in front.
        ([{"running": ["hushdesk"]}, {"app": ["*"]}], Circumstances(Focus("xterm"), frozenset(["hushdesk"])), "p1"),
        ([{"app": ["snipwell"]}, {"app": ["snipwell"], "running": ["hushdesk"]}],
         Circumstances(Focus("snipwell"), frozenset(["hushdesk"])), "p1"),
        ([{"surface": ["pad"]}], Circumstances(surfaces=frozenset(["pad"])), "p0"),
        ([{"surface": ["pad"]}], Circumstances(surfaces=frozenset(["keys"])), BASE),
        ([{"not": [{"app": ["snipwell"]}]}], Circumstances(Focus("xterm")), "p0"),
        ([{"not": [{"app": ["snipwell"]}]}], Circumstances(Focus("snipwell")), BASE),
        ([{"app": ["snipwell"], "not": [{"title": ["Export*"]}]}, {"app": ["snipwell"]}], Circumstances(DIALOG), "p1"),
        # A dialog keeps what its window has, unless something is meant for the dialog itself.
        ([{"app": ["snipwell"]}, {"app": ["snipwell"], "title": ["Reel*"]}], Circumstances(DIALOG), "p1"),
        ([{"app": ["snipwell"], "title": ["Reel 2"]}, {"app": ["snipwell"], "title": ["Export*"]}], Circumstances(DIALOG), "p1"),
        ([{"app": ["snipwell"]}], Circumstances(Focus("chooser", "Open", owner=Focus("snipwell"))), "p0"),
    ],
)  # fmt: skip
def test_which_of_two_comes(whens: list[When], now: Circumstances, expected: str) -> None:
    assert plan_of(*([when] for when in whens)).choose(now) == expected


# --- In a desk ---

VISITS = """
format = 1
[surface.pad]
kind = "gamepad"
[surface.deck]
kind = "keypad"
[profile.base]
on-enter = "z"
[profile.base.on.pad]
north = "profile sound"
west = "profile auto"
mode = "pause"
[profile.frames]
when = [{ app = "snipwell" }, { running = ["recorder", "recorder2"], not = { surface = "deck" } }]
on-enter = 'type "in" then wait 100ms then a'
on-leave = "b then wait 100ms then c"
[profile.sound]
when = { app = "hushdesk" }
on-leave = "d"
"""


def played(desk: Path, *changes: Change) -> tuple[Engine, list[tuple[float, str]]]:
    """What the profiles did of themselves, as keys and texts with their times."""
    engine = Engine(load_desk(desk).plan)
    effects = []
    for change in changes:
        effects += engine.feed(change)
    while engine.under_way:
        effects += engine.advance(engine.deadline)
    return engine, [(round(effect[0], 3), effect[3]) for effect in effects if effect[2] in ("down", "type")]


def test_profiles_do_something_when_they_come_and_go_one_after_the_other(make_desk: MakeDesk) -> None:
    desk = make_desk(VISITS)
    _, done = played(desk, (1.0, FOCUS, Focus("snipwell")), (2.0, FOCUS, Focus("hushdesk")), (3.0, FOCUS, Focus()))
    assert done == [(1.0, "in"), (1.1, "a"), (2.0, "b"), (2.1, "c"), (3.0, "d"), (3.0, "z")]
    # What comes at once waits for what is under way, and who has gone before its turn was never here.
    _, done = played(
        desk, (1.0, FOCUS, Focus("hushdesk")), (1.0, FOCUS, Focus("snipwell")), (1.0, FOCUS, Focus("hushdesk")),
        (1.0, FOCUS, Focus("snipwell")), (1.0, FOCUS, Focus("hushdesk")),
    )  # fmt: skip
    assert [what for _, what in done] == ["d", "in", "a", "b", "c"]


def test_while_paused_nobody_comes_or_goes(make_desk: MakeDesk) -> None:
    pause = [(t, "pad.mode", on) for t in (1.0,) for on in (1, 0)]
    go_on = [(3.0, "pad.mode", 1), (3.01, "pad.mode", 0)]
    flip = [(2.0, FOCUS, Focus("hushdesk")), (2.1, FOCUS, Focus("snipwell"))]
    assert played(make_desk(VISITS), *pause, *flip)[1] == []
    assert [what for _, what in played(make_desk(VISITS), *pause, *flip, *go_on)[1]] == ["in", "a"]


@given(st.lists(st.tuples(st.sampled_from([0.0, 0.01, 0.09, 0.3]), st.sampled_from(["snipwell", "hushdesk", ""]))))
def test_every_coming_has_its_going_in_order_and_few_wait(changes: list[tuple[float, str]]) -> None:
    told: list[tuple[str, str]] = []
    desk = load_text(VISITS)
    engine = Engine(desk, lambda t, address, gesture, profile, binding: told.append((gesture, profile)))
    t = 0.0
    for gap, app in changes:
        t += gap
        engine.feed((t, FOCUS, Focus(app)))
        assert len(engine._runs._lanes.get("profiles", ())) <= 4
    while engine.under_way:
        engine.advance(engine.deadline)
    frames = [gesture for gesture, profile in told if profile == "frames"]
    assert all(one != other for one, other in pairwise(frames)) and frames[:1] in ([], ["enter"])
    assert (frames[-1:] == ["enter"]) == (engine.profile.name == "frames")
    assert not engine.held


_loaded: dict[str, Plan] = {}


def load_text(text: str) -> Plan:
    """The plan of a desk's text."""
    if text not in _loaded:
        import tempfile

        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "desk.toml").write_text(text)
            _loaded[text] = load_desk(Path(folder)).plan
    return _loaded[text]


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ('on-enter = "profile next"', "would have no end"),
        ('on-leave = "a then pause"', "would have no end"),
        ('on-enter = "ctr+a"', "did you mean `ctrl`"),
        ('on-enter = "pointer 40"', "nothing moves here"),
        ('on-enter = "a every 30ms"', "is over at once"),
        ('when = { surface = "pat" }', "did you mean `pad`"),
        ('when = { app = "x", not = {} }', "`not` without a condition"),
        ('when = { running = "~(" }', "is not a regular expression"),
        ('when = { time = "9:00" }', "time"),
    ],
)
def test_what_cannot_be_meant_is_told(make_desk: MakeDesk, text: str, message: str) -> None:
    desk = make_desk(f'format = 1\n[surface.pad]\nkind = "gamepad"\n[profile.x]\n{text}\n')
    with pytest.raises(DeskError) as error:
        load_desk(desk)
    assert message in "\n".join(problem.render() for problem in error.value.problems)


def test_what_runs_and_what_is_plugged_in(make_desk: MakeDesk) -> None:
    engine = Engine(load_desk(make_desk(VISITS)).plan)

    def after(*change: Any) -> str:
        engine.feed((1.0, *change))
        return engine.profile.name

    assert after(RUNNING, ("recorder",)) == BASE
    assert after(UNPLUG, "deck") == "frames"
    assert after(PLUG, "deck") == BASE
    assert after(UNPLUG, "deck") == "frames"
    assert after(FOCUS, Focus("hushdesk")) == "sound"
    assert after(RUNNING, ()) == "sound"
    assert after(FOCUS, Focus("other")) == BASE


def test_by_hand_until_another_program_comes_or_until_auto(make_desk: MakeDesk) -> None:
    hand = [(1.0, "pad.north", 1), (1.1, "pad.north", 0)]
    retitled, other = (2.0, FOCUS, Focus("snipwell", "Reel 3")), (3.0, FOCUS, Focus("beamcart"))
    start = (0.5, FOCUS, Focus("snipwell", "Reel 2"))
    for text, expected in ((VISITS, "sound"), (VISITS + '[focus]\nby-hand = "until-focus"\n', BASE)):
        engine, _ = played(make_desk(text), start, *hand, retitled)
        assert engine.profile.name == "sound"
        engine, _ = played(make_desk(text), start, *hand, retitled, (2.5, FOCUS, Focus()), other)
        assert engine.profile.name == expected
        engine, _ = played(make_desk(text), start, *hand, (2.0, "pad.west", 1), (2.1, "pad.west", 0))
        assert engine.profile.name == "frames"


def test_windows_that_do_not_count(make_desk: MakeDesk) -> None:
    desk = make_desk(VISITS + '[focus]\nignore = [{ app = "panel" }, { title = "~^Fenko" }]\n')
    for window in (Focus("Panel"), Focus("legend", "Fenko, legend")):
        engine, _ = played(desk, (1.0, FOCUS, Focus("snipwell")), (2.0, FOCUS, window))
        assert engine.profile.name == "frames" and engine.focus == Focus("snipwell")


# --- Said ---


def test_it_is_explained_who_comes_and_why_the_others_do_not(fenko: Run, make_desk: MakeDesk) -> None:
    desk = str(make_desk(VISITS + '[profile.late]\nwhen = { app = "snip*" }\n'))
    done = fenko(
        "explain", "--profile", "--desk", desk, "--app", "snipwell", "--running", "recorder", "--format", "json"
    )
    assert done.returncode == 0, done.stderr
    found = {one["profile"]: one for one in json.loads(done.stdout)["profiles"]}
    assert [*found] == ["frames", "base", "late", "sound"]
    assert (found["frames"]["standing"], found["frames"]["why"]) == ("comes", 'app "snipwell"')
    assert found["frames"]["where"].startswith("desk.toml:")
    assert (found["late"]["standing"], found["late"]["why"]) == ("loses", "names less in full")
    assert (found["sound"]["standing"], found["sound"]["why"]) == (
        "does not fit",
        'app is "snipwell" and not "hushdesk"',
    )
    shown = fenko("explain", "--profile", "--desk", desk).stdout
    assert 'it is surface "deck"' in shown and "nothing is in front" in shown
    assert fenko("explain", "--profile", "--desk", desk, "pad.south").returncode == 2
    assert fenko("explain", "pad.north", "--desk", desk, "--running", "x").returncode == 2


def test_hands_start_programs_and_open_dialogs(fenko: Run, make_desk: MakeDesk) -> None:
    desk = make_desk(
        VISITS
        + """
[[expect]]
that = "a dialog keeps the profile"
do = ['front chooser "Open" of snipwell "Reel 2"', "wait 300ms"]
profile = "frames"
[[expect]]
that = "a program that merely runs"
do = ["unplug deck", "start recorder", "wait 300ms"]
profile = "frames"
[[expect]]
that = "and ends"
do = ["unplug deck", "start recorder", "wait 300ms", "quit recorder", "wait 300ms"]
profile = "base"
"""
    )
    done = fenko("check", "--desk", desk)
    assert done.returncode in (0, 1) and "error" not in done.stdout + done.stderr, done.stdout + done.stderr


def test_a_take_tells_of_programs_and_dialogs(fenko: Run, make_desk: MakeDesk, tmp_path: Path) -> None:
    lines = [
        {"take": 2, "name": "x"}, {"t": 0.5, "unplug": "deck"}, {"t": 1, "running": ["recorder2"]}, {"t": 2, "running": []},
        {"t": 3, "focus": {"app": "chooser", "owner": {"app": "snipwell"}}},
    ]  # fmt: skip
    file = tmp_path / "t.jsonl"
    file.write_text("\n".join(map(json.dumps, lines)))
    done = fenko("rehearse", str(file), "--desk", make_desk(VISITS), "--format", "jsonl")
    assert done.returncode == 0, done.stderr
    profiles = [one["name"] for one in map(json.loads, done.stdout.splitlines()) if one.get("act") == "profile"]
    assert profiles == ["frames", "base", "frames"]
    assert "profile frames enter" in fenko("rehearse", str(file), "--desk", make_desk(VISITS)).stdout
    file.write_text("\n".join(map(json.dumps, [lines[0], {"t": 1, "running": "recorder"}])))
    assert "`running` is a list" in fenko("rehearse", str(file), "--desk", make_desk(VISITS)).stderr


def test_of_a_window_only_what_says_little_is_recorded() -> None:
    focus = Focus("chooser", "Open", "chooser", "/home/mara/chooser", "--secret", owner=Focus("snipwell", path="/x"))
    assert take_line((1.0, FOCUS, focus)) == {
        "t": 1.0, "focus": {"app": "chooser", "title": "Open", "program": "chooser", "owner": {"app": "snipwell"}},
    }  # fmt: skip
    assert take_line((1.0, RUNNING, ("b", "a"))) == {"t": 1.0, "running": ["a", "b"]}


# --- On a screen ---


@pytest.fixture
def shown() -> Iterator[Screen]:
    with screen() as one:
        yield one


SCREENED = """
format = 1
[output]
keys = "x11"
[focus]
ignore = { app = "panel" }
[profile.frames]
when = { app = "snipwell" }
[profile.export]
when = { app = "snipwell", title = "Export*" }
[profile.record]
when = { running = "recorder" }
[profile.long]
when = { running = "~tape.*machine" }
"""


@needs_screen
@pytest.mark.skipif(subprocess.run(["/usr/bin/python3", "-c", "import PyQt5"], capture_output=True).returncode != 0,
                    reason="needs python3-pyqt5")  # fmt: skip
def test_a_dialog_keeps_the_profile_and_a_panel_does_not_count(
    shown: Screen, make_desk: MakeDesk, tmp_path: Path
) -> None:
    desk = make_desk(SCREENED)
    asks = tmp_path / "asks"
    running = Running(shown, tmp_path / "log", "--desk", str(desk))
    running.says("is running")
    shown.spawn("/usr/bin/python3", str(Path(__file__).parent / "qt_dialog.py"), str(asks))
    running.says("profile: frames")
    panel = shown.terminal("Panel", "panel", tmp_path / "panel")
    shown.raise_window(panel)
    asks.touch()
    found = wait_for(lambda: shown.ask("xdotool", "search", "--name", "^Export reel$").stdout.split(), "the dialog")
    shown.raise_window(found[-1])
    # Its own title brings what is meant for the dialog; without that it keeps what its window has.
    running.says("profile: export")
    so_far = len(running.log.read_text())
    make_desk(SCREENED.replace("Export*", "Import*"))
    running.says("profile frames", so_far)
    state = json.loads(run_fenko("status", "--format", "json", env=shown.environment).stdout)
    assert state["in front"]["owner"]["title"] == "Reel 2" and state["in front"]["title"] == "Export reel"
    assert "base" not in running.log.read_text()[so_far:]
    assert running.end() == 0


@needs_screen
def test_a_program_that_merely_runs_brings_its_profile(shown: Screen, make_desk: MakeDesk, tmp_path: Path) -> None:
    running = Running(shown, tmp_path / "log", "--desk", str(make_desk(SCREENED)))
    running.says("is running")
    sleep = shutil.which("sleep")
    assert sleep is not None
    for name, profile in (("recorder", "record"), ("tape_machine", "long")):
        shutil.copy(sleep, tmp_path / name)
        so_far = len(running.log.read_text())
        program = shown.spawn(str(tmp_path / name), "1000")
        running.says(f"profile: {profile}", so_far)
        program.kill()  # and nobody has asked yet what became of it
        running.says("profile: base", so_far)
        program.wait()
    script = tmp_path / "recorder"
    script.write_text("#!/bin/sh\nwhile :; do sleep 1000; done\n")
    script.chmod(0o755)
    so_far = len(running.log.read_text())
    program = shown.spawn(str(script))
    running.says("profile: record", so_far)
    program.kill()
    running.says("profile: base", so_far)
    assert running.end() == 0


@needs_screen
def test_who_looks_for_programs_is_started_again(shown: Screen, make_desk: MakeDesk, tmp_path: Path) -> None:
    running = Running(shown, tmp_path / "log", "--desk", str(make_desk(SCREENED)))
    running.says("is running")

    def lookers() -> list[str]:
        found = subprocess.run(["pgrep", "-P", str(running.process.pid), "-f", "services.running"], capture_output=True)
        return found.stdout.decode().split()

    (first,) = wait_for(lookers, "who looks")
    subprocess.run(["kill", "-9", first], check=True)
    wait_for(lambda: [one for one in lookers() if one != first], "another one")
    make_desk("format = 1\n")
    wait_for(lambda: not lookers(), "nobody, for nothing is asked")
    assert running.end() == 0


def test_a_profile_comes_with_the_state_of_a_machine(fenko: Run, make_desk: MakeDesk, tmp_path: Path) -> None:
    """In takes, in what a desk promises, and against a window."""
    desk = make_desk(
        '[surface.pad]\nkind = "gamepad"\n[machine.rail]\nlink = "tcp h:1"\naxis.x = { travel = [0, 9], fastest = 60 }\n'
        '[profile.base.on.pad]\nstart = "machine stop"\n[profile.frames]\nwhen = { app = "snipwell" }\non.pad.south = "a"\n'
        '[profile.stuck]\nwhen = { machine = ["rail alarm", "rail away"] }\non.pad.south = "machine unlock"\n'
        '[profile.both]\nwhen = { app = "snipwell", machine = "rail *ing" }\non.pad.south = "b"\n'
        '[[expect]]\ndo = ["machine rail alarm"]\nprofile = "stuck"\n'
        '[[expect]]\ndo = ["machine rail alarm", "machine rail idle"]\nprofile = "base"\n'
        '[[expect]]\ndo = ["front snipwell", "machine rail jogging", "tap pad.south"]\nsends = "b"\n'
    )
    assert fenko("check", "--desk", desk).returncode == 0, fenko("check", "--desk", desk).stdout
    take = tmp_path / "t.jsonl"
    take.write_text(
        '{"take": 2, "name": "x", "surfaces": {"pad": "gamepad"}}\n{"t": 1, "machine": ["rail away"]}\n{"t": 2, "machine": ["rail idle"]}\n'
    )
    told = fenko("rehearse", take, "--desk", desk, "--format", "jsonl")
    assert [json.loads(line)["name"] for line in told.stdout.splitlines()] == ["stuck", "base"]
    take.write_text('{"take": 2, "name": "x", "surfaces": {"pad": "gamepad"}}\n{"t": 1, "machine": "rail away"}\n')
    wrong = fenko("rehearse", take, "--desk", desk)
    assert (wrong.returncode, "`machine` is a list of machines with their states" in wrong.stderr) == (2, True)
