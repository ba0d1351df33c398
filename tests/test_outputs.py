"""What all outputs have in common: how they are registered, also from outside; how things wait for an end that is slow or
away; that whatever began ends; what needs an agreement."""

from __future__ import annotations

import json
import os
import re
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Sequence
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ends import MakeFar, far
from fenko.core.backlog import MOST, OLD, Backlog, queued_as
from fenko.core.changes import Effect, Moving
from fenko.core.engine import Engine
from fenko.core.phrase import parse_phrase, steps_of
from fenko.core.registration import Output
from fenko.core.verbs import ACTS, HELD, OUTPUTS, TARGETS, VERBS, AlreadyTaken, register
from fenko.desk.compiled import compiled
from fenko.desk.load import load_desk
from fenko.desk.trust import Agreement, risks
from fenko.outputs.keys import in_halves, of_halves
from fenko.outputs.messages import FromDesk, FromWorkers, Note
from fenko.system.parent_process import ParentProcess
from fenko.system.wire import MessageReader
from fenko.workers.lane import Lane, Line, Telling
from fenko.workers.worker import FIRST_PAUSE, Away, Worker
from support import MakeDesk, Run, tries, wait_for

__all__ = ["far"]
DOCS = Path(__file__).parent.parent / "docs"


# --- An output from outside ---


@pytest.fixture
def workshop(tmp_path: Path) -> dict[str, str]:
    """The environment in which somebody else's output is installed: the example of the docs, as it stands there."""
    page = (DOCS / "outputs.md").read_text()
    code = re.findall(r"```python\n(.*?)```", page, re.DOTALL)[-1]
    point = re.findall(r'```toml\n(\[project.entry-points."fenko.outputs"\].*?)```', page, re.DOTALL)[0]
    assert len(code.splitlines()) < 60
    folder = tmp_path / "installed"
    info = folder / "workshop_bell-1.0.dist-info"
    info.mkdir(parents=True)
    (folder / "workshop_bell.py").write_text(code)
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: workshop-bell\nVersion: 1.0\n")
    name, _, value = point.splitlines()[1].partition(" = ")
    (info / "entry_points.txt").write_text(f"[fenko.outputs]\n{name} = {value.strip(chr(34))}\n")
    return {"PYTHONPATH": str(folder)}


BELL = '[bell]\ndevice = "{device}"\n[profile.base.on.pad]\nsouth = "ring 3"\neast = "a then ring"\n'
PAD = 'format = 1\n[surface.pad]\nkind = "gamepad"\n'
TAKE = '{"take": 1, "name": "x", "surfaces": {"pad": "gamepad"}}\n' + "".join(
    f'{{"t": {t}, "surface": "pad", "control": "south", "value": {value}}}\n' for t, value in ((0.5, 1), (0.6, 0))
)


def test_an_output_from_outside_is_known_everywhere(
    fenko: Run, make_desk: MakeDesk, workshop: dict[str, str], tmp_path: Path
) -> None:
    desk = make_desk(PAD + BELL.format(device=tmp_path / "rung"))
    take = tmp_path / "take.jsonl"
    take.write_text(TAKE)
    assert fenko("check", "--desk", desk, **workshop).returncode == 0
    rehearsed = fenko("rehearse", take, "--desk", desk, "--format", "jsonl", **workshop)
    assert json.loads(rehearsed.stdout) == {"t": 0.5, "out": "bell", "act": "ring", "times": 3}
    assert "rings 3 ×" in fenko("rehearse", take, "--desk", desk, **workshop).stdout
    assert "rings the bell" in fenko("check", "--schema", **workshop).stdout
    assert "ring 3" in fenko("explain", "pad.south", "--desk", desk, **workshop).stdout
    # And not without it.
    assert "unknown key `ring`" in fenko("check", "--desk", desk).stdout


def test_what_such_an_output_takes_from_the_desk_is_checked(
    fenko: Run, make_desk: MakeDesk, workshop: dict[str, str]
) -> None:
    desk = make_desk(PAD + '[bell]\ndevise = "x"\n[profile.base.on.pad]\nsouth = "ring x"\n')
    said = fenko("check", "--desk", desk, **workshop)
    assert said.returncode == 2
    assert "unknown setting `devise`" in said.stdout
    assert "did you mean `device`" in said.stdout
    assert "expected `then`" in said.stdout


def test_such_an_output_does_its_work(make_desk: MakeDesk, workshop: dict[str, str], tmp_path: Path) -> None:
    """By its worker, in a process that this test starts as a desk does."""
    rung = tmp_path / "rung"
    rung.write_bytes(b"")
    desk = make_desk(PAD + BELL.format(device=rung))
    script = (
        "import sys, time; from pathlib import Path\n"
        "from fenko.desk.load import load_desk\nfrom fenko.desk.compiled import compiled\n"
        "from fenko.outputs.workers_port import WorkersPort\nfrom fenko.outputs.port import Settings\n"
        "desk = compiled(load_desk(Path(sys.argv[1])))\n"
        "port = WorkersPort(desk.far, Settings(desk.tables, print, None, desk.folder))\n"
        "port.send([(0.0, 'bell', 'ring', 3)])\n"
        "(way,) = port.descriptors()\n"
        "while not Path(sys.argv[2]).stat().st_size:\n    way.writable()\n    time.sleep(0.02)\nport.close()\n"
    )
    command = [sys.executable, "-c", script, str(desk), str(rung)]
    subprocess.run(command, check=True, env=os.environ | workshop, timeout=60)
    assert rung.read_bytes() == b"\a\a\a"


@pytest.mark.parametrize(
    ("entry", "said"),
    [
        ("nowhere:OUTPUT", "cannot be used: ModuleNotFoundError"),
        ("workshop_bell:Bell", "is no fenko.core.registration.Output"),
    ],
)
def test_a_broken_output_from_outside_breaks_nothing_else(
    fenko: Run, make_desk: MakeDesk, workshop: dict[str, str], entry: str, said: str
) -> None:
    points = next(Path(workshop["PYTHONPATH"]).glob("*.dist-info")) / "entry_points.txt"
    points.write_text(f"[fenko.outputs]\nbroken = {entry}\n")
    desk = make_desk(PAD + '[profile.base.on.pad]\nsouth = "a"\n')
    checked = fenko("check", "--desk", desk, **workshop)
    assert checked.returncode == 0
    assert said in checked.stderr
    assert "Traceback" not in checked.stderr


def test_no_output_takes_the_word_of_another() -> None:
    for taken in (OUTPUTS["audio"], Output("x", "X", "", "", (VERBS["type"],), ())):
        with pytest.raises(AlreadyTaken):
            register(taken)


# --- What is registered hangs together ---


@pytest.mark.parametrize("name", OUTPUTS)
def test_every_output_says_all_of_itself(name: str) -> None:
    output = OUTPUTS[name]
    assert output.title
    assert output.help.endswith(".")
    module, _, worker = output.worker.partition(":")
    assert hasattr(__import__(module, fromlist=[worker]), worker)
    for verb in output.verbs:
        assert str(parse_phrase(verb.example)) == verb.example
    for held in output.held:
        for samples in (verb.arguments[0].samples for verb in output.verbs):
            assert samples
        assert held.out == name
    for act in output.acts:
        assert act.out == name


SAID = [
    "volume to 40%", "volume by +5%", "volume by -3dB", "volume mute", "volume mute on", "microphone mute off", "midi note c4",
    "midi cc 7 to 100", "midi program 3", "midi play", "midi bend to 0.5", "midi pressure to 64", "player next", "player forward 3s",
    "start snipwell", "front snipwell", "close window", 'open "x"', "osc /a 1", "osc /a to 0.5", 'publish "a" "x"', 'publish "a" to 5',
    "request scene", 'sound "clap.wav"', "sound stop", "machine axis x", "machine jog x at 60", "machine jog at -60", "machine step +1",
    "machine step y -0.5", "machine step-size next", "machine home", "machine zero x", 'machine send "G0 X1\\nG0 X2"', "machine hold",
    "machine resume", "machine stop", "machine unlock", "rumble 60%", "tone 440 for 80ms", "lamp mute on", "lamp mute #ff8800 of pad",
    'display "Reel 2"',
]  # fmt: skip
TABLES = (
    '[app.snipwell]\ncommand = ["snipwell"]\n[osc.o]\nto = "udp 127.0.0.1:9"\n[mqtt.m]\nurl = "mqtt://127.0.0.1:9"\n'
    '[request.scene]\nurl = "http://127.0.0.1:9/"\n'
    '[machine.rail]\nlink = "tcp 127.0.0.1:9"\naxis.x = { travel = [0, 100], fastest = 600 }\naxis.y = { travel = [0, 50], fastest = 300 }\n'
)
HELD_SAID = [
    "midi note c4",
    "midi note e4 channel 2",
    "midi note c4 velocity follow",
    "machine jog x at 60",
    "machine jog at -60",
    'sound "clap.wav" while held',
    "ctrl",
    "ctrl+a",
]


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A desk's folder with a sound."""
    found = tmp_path_factory.mktemp("desk")
    (found / "clap.wav").write_bytes(b"")
    return found


def engine_of(folder: Path, bindings: Sequence[tuple[str, str]]) -> Engine:
    """An engine with these bindings."""
    text = (
        PAD + TABLES + "[profile.base.on.pad]\n" + "".join(f"{control} = '{phrase}'\n" for control, phrase in bindings)
    )
    (folder / "desk.toml").write_text(text)
    return Engine(compiled(load_desk(folder)).plan)


@pytest.mark.parametrize("phrase", SAID)
def test_every_phrase_has_its_effect_in_words(folder: Path, phrase: str) -> None:
    engine = engine_of(folder, [("south", phrase)])
    effects = [*engine.feed((1.0, "pad.south", 1)), *engine.feed((1.1, "pad.south", 0)), *engine.advance(9.0)]
    assert effects
    for t, out, act, *values in effects:
        assert out in OUTPUTS
        assert len(values) <= len(ACTS[out, act].fields)
        assert ACTS[out, act].words(*values)
        assert json.dumps(values)
        assert queued_as((t, out, act, *values)).how


@pytest.mark.parametrize(
    ("phrase", "back"),
    [
        ("volume by +2%", "volume -2%"),
        ("volume of mpv by -3dB", "volume of mpv +3 dB"),
        ("player forward 2s", "player back 2 s"),
        ("player next", "player previous"),
        ("midi bend by +0.5", "fenko: bend -0.500"),
        ("scroll down 3", "scroll up 3"),
        ("machine step +1", "rail: its axis -1 step"),
        ("machine step x +0.5", "rail: x -0.5"),
        ("machine step-size next", "rail: step size previous"),
    ],
)
def test_a_whole_dial_that_is_turned_back_does_the_same_the_other_way(
    fenko: Run, make_desk: MakeDesk, phrase: str, back: str
) -> None:
    desk = make_desk(f'format = 1\n[surface.dial]\nkind = "dial"\n{TABLES}[profile.base.on.dial]\ndial = "{phrase}"\n')
    take = desk / "take.jsonl"
    take.write_text(
        '{"take": 1, "name": "x", "surfaces": {"dial": "dial"}}\n{"t": 1, "surface": "dial", "control": "dial", "value": -1}\n'
    )
    told = fenko("rehearse", take, "--desk", desk)
    assert told.returncode == 0, told.stderr
    assert back in told.stdout


# --- Whatever began ends ---

CONTROLS = ("south", "east", "north", "west", "trigger-left", "trigger-right")
moves = st.lists(
    st.one_of(
        st.tuples(st.sampled_from([f"pad.{control}" for control in CONTROLS]), st.sampled_from([0, 1, 1, 0.7, 0.2])),
        st.tuples(st.sampled_from(["unplug", "plug"]), st.just("pad")),
        st.tuples(st.just("wait"), st.floats(0.001, 0.4)),
        st.tuples(st.just("release"), st.just(0)),
        st.tuples(st.just("turn"), st.sampled_from(["pad.start"])),
    ),
    max_size=40,
)


@given(
    phrases=st.lists(
        st.sampled_from(HELD_SAID + SAID + ["pause", "midi note c4 then a", "toggle b"]), min_size=6, max_size=6
    ),
    hands=moves,
)
@settings(deadline=None, max_examples=tries(250))
def test_any_mixture_ends_at_any_moment(
    phrases: list[str], hands: list[tuple[str, Any]], tmp_path_factory: Any
) -> None:
    """Told from the effects alone: what a synthesiser, a player of sounds and a program would still have."""
    folder = tmp_path_factory.mktemp("mixture")
    (folder / "clap.wav").write_bytes(b"")
    engine = engine_of(folder, list(zip(CONTROLS, phrases, strict=True)))
    t = 1.0
    effects: list[Effect] = []
    for address, value in hands:
        t += 0.01
        if address == "wait":
            t += value
            effects += engine.advance(t)
        elif address == "release":
            effects += engine.release_all(t)
        elif address != "turn":
            effects += engine.feed((t, address, value if "trigger" in address else round(value) if address != "unplug" else value)
                                   if address not in ("unplug", "plug") else (t, address, value))  # fmt: skip
    effects += engine.release_all(t + 1)
    assert _still_there(effects) == set()
    assert [one for one in engine.held if one[0] in HELD] == []


def _still_there(effects: Sequence[Effect]) -> set[Any]:
    there: list[Any] = []
    for _, out, act, *values in effects:
        if out == "midi" and act == "send":
            port, data = values
            if data[0] & 0xF0 == 0x90:
                there.append((port, data[0] & 0xF, data[1]))
            elif data[0] & 0xF0 == 0x80:
                there = [one for one in there if one != (port, data[0] & 0xF, data[1])]
        elif out == "sound" and act == "stop" and values:
            there = [one for one in there if one != values[0]]
        elif out == "keys" and act in ("down", "up"):
            there = [*there, values[0]] if act == "down" else [one for one in there if one != values[0]]
    return set(there)


# --- How things wait ---

STEP = ("audio", "step", "output", 0.05)
effects_of_all_sorts = st.sampled_from(
    [
        ("audio", "level", "output", 0.4), ("audio", "level", "output", 0.6), ("audio", "level", "input", 0.4), STEP,
        ("audio", "step", "mpv", -0.1), ("audio", "mute", "output", "on"), ("audio", "mute", "output", "off"),
        ("audio", "mute", "output", "switch"), ("audio", "mute", "input", "switch"), ("midi", "send", "a", [0x90, 60, 100]),
        ("midi", "send", "a", [0x80, 60, 0]), ("midi", "send", "a", [0x91, 60, 9]), ("midi", "send", "a", [0x81, 60, 0]),
        ("midi", "send", "a", [0xB0, 7, 1]), ("midi", "send", "a", [0xB0, 7, 2]), ("midi", "send", "b", [0xB0, 7, 3]),
        ("midi", "send", "a", [0xC0, 5]), ("player", "next", None), ("player", "seek", None, 2.0), ("osc", "send", "o", "/a", [1]),
        ("osc", "send", "o", "/a", [0.5]), ("osc", "send", "o", "/a", [0.75]), ("mqtt", "publish", "t", "5", "m"),
        ("mqtt", "publish", "t", "on", "m"), ("program", "front", "snipwell"), ("sound", "play", "f", 1.0), ("sound", "stop", "f"),
        ("request", "send", "scene"),
    ]
)  # fmt: skip


class Other:
    """What an end would be after these effects: written from the docs. A number is what it was set to, and moved since; a
    mute is on or off; the notes that sound."""

    def __init__(self) -> None:
        self.numbers: dict[Any, float] = {}
        self.mutes: dict[str, bool] = {}
        self.sounding: set[Any] = set()

    def stands(self) -> tuple[Any, ...]:
        return (
            {name: round(number, 6) for name, number in self.numbers.items()},
            {of for of, on in self.mutes.items() if on},
            set(self.sounding),
        )

    def take(self, effect: Effect) -> None:
        _, out, act, *values = effect
        match out, act:
            case "audio", "level":
                self.numbers[out, values[0]] = values[1]
            case "audio", "step":
                self.numbers[out, values[0]] = round(self.numbers.get((out, values[0]), 0.0) + values[1], 6)
            case "audio", "mute":
                was = self.mutes.get(values[0], False)
                self.mutes[values[0]] = not was if values[1] == "switch" else values[1] == "on"
            case "midi", "send":
                port, data = values
                kind, place = data[0] & 0xF0, (port, data[0] & 0x0F, data[1])
                if kind == 0xB0:
                    self.numbers[place] = data[2]
                elif kind == 0x90:
                    self.sounding.add(place)
                elif kind == 0x80:
                    self.sounding.discard(place)
            case "osc", "send" if isinstance(values[2][-1], float):
                self.numbers[values[0], values[1]] = values[2][-1]
            case "mqtt", "publish" if values[1] != "on":
                self.numbers[values[2], values[0]] = float(values[1])
            case "player", "seek":
                self.numbers["seek"] = self.numbers.get("seek", 0.0) + values[1]


sent_or_moving = st.tuples(effects_of_all_sorts, st.booleans())


@given(st.lists(sent_or_moving, max_size=60))
def test_what_is_taken_in_time_is_sent_whole_and_in_order(sent: list[tuple[tuple[Any, ...], bool]]) -> None:
    backlog = Backlog()
    effects = [(Moving if moves else tuple)((float(n), *effect)) for n, (effect, moves) in enumerate(sent)]
    for effect in effects:
        backlog.put(effect, 0.0, behind=False)
    assert backlog.take() == effects


@given(st.lists(sent_or_moving, max_size=60))
def test_of_what_waits_only_what_moves_is_thinned(sent: list[tuple[tuple[Any, ...], bool]]) -> None:
    """What does not move is all there in its order, and at each of its places everything before it for the same out has
    come to what it was to."""
    backlog = Backlog()
    effects = [(Moving if moves else tuple)((float(n), *effect)) for n, (effect, moves) in enumerate(sent)]
    for effect in effects:
        backlog.put(effect, 0.0)
    left = backlog.take()
    assert [one for one in left if not isinstance(one, Moving)] == [
        one for one in effects if not isinstance(one, Moving)
    ]
    for out in {effect[1] for effect in effects}:
        meant, later = _stations(effects, out), _stations(left, out)
        assert later == meant


def _stations(effects: Sequence[Effect], out: str) -> list[tuple[Any, ...]]:
    """How things stand for an out at each of its effects that does not move, and at last."""
    other, found = Other(), []
    for effect in [effect for effect in effects if effect[1] == out]:
        if not isinstance(effect, Moving):
            found.append(other.stands())
        other.take(effect)
    return [*found, other.stands()]


@given(st.lists(effects_of_all_sorts, max_size=40), st.lists(effects_of_all_sorts, max_size=40))
def test_what_was_taken_and_not_done_comes_before_what_came_since(
    taken: list[tuple[Any, ...]], since: list[tuple[Any, ...]]
) -> None:
    """Steps and single things of the failed attempt are gone; whatever was set, muted or ended comes to what it was to."""
    backlog, meant, later = Backlog(), Other(), Other()
    for effect in taken:
        backlog.put((0.0, *effect), 0.0)
    failed = backlog.take()
    for effect in since:
        backlog.put((1.0, *effect), 1.0)
    backlog.put_back(failed, 1.0)
    for effect in [*failed, *((1.0, *effect) for effect in since)]:
        if effect in failed and queued_as(effect).how not in ("newest", "last", "flip", "end"):
            continue
        meant.take(effect)
    for effect in backlog.take():
        later.take(effect)
    assert later.numbers == pytest.approx(meant.numbers)
    assert {of for of, on in later.mutes.items() if on} == {of for of, on in meant.mutes.items() if on}
    assert later.sounding == meant.sounding


@given(st.lists(effects_of_all_sorts, max_size=60), st.lists(st.floats(0, 3), max_size=60))
def test_after_a_while_only_what_still_matters_is_left(sent: list[tuple[Any, ...]], ages: list[float]) -> None:
    backlog = Backlog()
    for effect, age in zip(sent, ages, strict=False):
        backlog.put((0.0, *effect), 10.0 - age)
    number = len(backlog)
    backlog.forget_old(10.0)
    left = backlog.take()
    assert len(left) + backlog.left_out == number
    if all(age > OLD for age in ages[: len(sent)]):
        assert {queued_as(effect).how for effect in left} <= {"newest", "last", "flip", "end"}


def test_however_much_waits_it_is_bounded_and_no_end_is_left_out() -> None:
    backlog = Backlog()
    for number in range(3_000):
        note = number % 128
        for effect in (
            ("midi", "send", "a", [0x90, note, 100]), ("midi", "send", "a", [0x80, note, 0]), ("player", "next", None), STEP,
            ("audio", "mute", "output", "on"), ("midi", "send", "a", [0xB0, note, number % 128]),
        ):  # fmt: skip
            backlog.put((float(number), *effect), 0.0)
    assert len(backlog) <= MOST + 128 + 128 + 1
    left = backlog.take()
    ended = {effect[4][1] for effect in left if effect[1] == "midi" and effect[4][0] == 0x80}
    assert ended == set(range(128))
    assert backlog.left_out > 0


# --- The process of the workers ---

SOUND_DESK = (
    '[midi.m]\n[osc.o]\nto = "udp 127.0.0.1:9"\n[profile.base.on.pad]\nsouth = "osc /a 1"\neast = "volume by +5%"\n'
)


def test_workers_that_are_killed_again_and_again(far: MakeFar) -> None:
    hands = far(SOUND_DESK, {"PULSE_SERVER": "unix:/nowhere"})
    seen = set()
    for _ in range(3):
        seen.add(hands.workers)
        os.kill(hands.workers, signal.SIGKILL)
        hands.until(lambda: hands.workers not in seen and hands.port.child.running, "started again")
    assert sum("has ended" in note for note in hands.notes) == 3


def test_workers_that_cannot_be_started_are_tried_again(far: MakeFar, monkeypatch: pytest.MonkeyPatch) -> None:
    hands = far(SOUND_DESK)
    first = hands.workers
    spawn = os.posix_spawn
    tries = []

    def failing(*words: Any, **options: Any) -> int:
        tries.append(words)
        if len(tries) < 3:
            raise OSError(11, "Resource temporarily unavailable")
        return spawn(*words, **options)

    monkeypatch.setattr(os, "posix_spawn", failing)
    before = len(os.listdir("/proc/self/fd"))
    os.kill(first, signal.SIGKILL)
    hands.said("cannot be started: Resource temporarily unavailable")
    hands.until(lambda: hands.workers != first and hands.port.child.running)
    assert len(tries) == 3
    assert len(os.listdir("/proc/self/fd")) <= before + 1


def test_stopped_workers_hold_up_nothing_and_nothing_piles_up(far: MakeFar) -> None:
    hands = far(SOUND_DESK)
    hands.look(0.3)
    os.kill(hands.workers, signal.SIGSTOP)
    began = time.monotonic()
    for _ in range(3000):
        hands.tap("south")
    assert time.monotonic() - began < 20
    assert len(hands.port._backlog) <= MOST
    assert hands.port.child.unsent < 1 << 20
    os.kill(hands.workers, signal.SIGCONT)
    hands.until(lambda: not hands.port.busy, "it takes the rest")


def test_workers_that_talk_nonsense_are_ended(far: MakeFar, monkeypatch: pytest.MonkeyPatch) -> None:
    hands = far(SOUND_DESK)
    first = hands.workers
    monkeypatch.setattr(hands.port.child._reader, "add", lambda data: None)
    monkeypatch.setattr(MessageReader, "complete", property(lambda reader: True))
    monkeypatch.setattr(MessageReader, "next", lambda reader: (_ for _ in ()).throw(ValueError("nonsense")))
    hands.tap("east")
    hands.said("it sends what cannot be read: nonsense")
    monkeypatch.undo()
    hands.until(lambda: hands.workers != first, "another process")


def test_leaving_leaves_no_process(far: MakeFar) -> None:
    hands = far(SOUND_DESK)
    hands.look(0.2)
    workers = hands.workers
    hands.close()
    with pytest.raises(ProcessLookupError):
        os.kill(workers, 0)


def test_workers_end_with_a_desk_that_is_killed(tmp_path: Path) -> None:
    (tmp_path / "desk.toml").write_text(PAD + SOUND_DESK)
    script = (
        "import sys, time; from pathlib import Path\nfrom fenko.desk.load import load_desk\n"
        "from fenko.desk.compiled import compiled\nfrom fenko.outputs.workers_port import WorkersPort\n"
        "from fenko.outputs.port import Settings\ndesk = compiled(load_desk(Path(sys.argv[1])))\n"
        "port = WorkersPort(desk.far, Settings(desk.tables, print, None, desk.folder))\nprint(port.child.pid, flush=True)\ntime.sleep(60)\n"
    )
    desk = subprocess.Popen([sys.executable, "-c", script, str(tmp_path)], stdout=subprocess.PIPE, text=True)
    assert desk.stdout is not None
    workers = int(desk.stdout.readline())
    desk.kill()
    desk.wait()

    def gone() -> bool:
        try:
            return Path(f"/proc/{workers}/stat").read_text().rpartition(")")[2].split()[0] == "Z"
        except OSError:
            return True

    wait_for(gone, "the workers to end")


class Nobody(Worker):
    """An end that is never there."""

    eager = True

    def __init__(self, why: Exception) -> None:
        self.tried: list[float] = []
        self._why = why

    def open(self) -> None:
        self.tried.append(time.monotonic())
        raise self._why

    def send(self, effects: Sequence[Effect]) -> None:
        raise AssertionError("there is nobody to send to")


@pytest.mark.parametrize(
    ("why", "said"),
    [(Away("nobody is there"), "nobody is there"), (OSError("no library"), "unexpected error: OSError: no library")],
)
def test_who_is_away_is_tried_again_with_growing_pauses_and_said_once(why: Exception, said: str) -> None:
    ours, theirs = socket.socketpair()
    worker = Nobody(why)
    lane = Lane(OUTPUTS["audio"], worker, Telling("audio", Line(ParentProcess(theirs, FromDesk))))
    try:
        wait_for(lambda: len(worker.tried) >= 5, "five attempts")
        apart = [later - one for one, later in pairwise(worker.tried)]
        assert all(later > one * 1.5 for one, later in pairwise(apart)), apart
        assert apart[0] >= FIRST_PAUSE
        reader = MessageReader(FromWorkers)
        reader.add(ours.recv(65536))
        (note,) = reader
        assert isinstance(note, Note) and note.text.startswith(f"Audio server: {said}")
    finally:
        lane.end()
        lane.join(5)


# --- Trust ---


RISKY = TABLES + (
    '[profile.base.on.pad]\nsouth = "start snipwell"\neast = \'open "https://lantern.example/"\'\nnorth = "request scene"\n'
    'west = "front snipwell then a"\nselect = "close window"\nstart = "volume mute"\nstick-left = "machine jog xy rate 100"\n'
    'hat.up = "machine jog x at 60"\nhat.down = "machine step +1"\nhat.left = "machine stop"\nmode = \'machine send "G0 X5"\'\n'
)


def test_only_what_can_do_harm_needs_an_agreement(make_desk: MakeDesk) -> None:
    found = [risk.what for risk in risks(load_desk(make_desk(PAD + RISKY)))]
    assert [what.split(":")[0] for what in found[:3]] == ["starts snipwell", "opens https", "sends scene"]
    assert found[3:] == [
        "moves the machine rail (tcp 127.0.0.1:9)",
        "has the machine rail (tcp 127.0.0.1:9) carry out: G0 X5",
    ]


def test_an_agreement_is_to_the_very_words(fenko: Run, make_desk: MakeDesk, tmp_path: Path) -> None:
    env = {"XDG_STATE_HOME": str(tmp_path / "state")}
    desk = make_desk(PAD + RISKY)

    def standing() -> list[bool]:
        return [one["agreed"] for one in json.loads(fenko("trust", "--desk", desk, "--format", "json", **env).stdout)]

    assert standing() == [False] * 5
    asked = fenko("trust", "--desk", desk, **env)
    assert asked.returncode == 1
    assert "starts snipwell: snipwell" in asked.stdout
    assert standing() == [False] * 5, "without a yes nothing is agreed to"
    assert fenko("trust", "--yes", "--desk", desk, **env).returncode == 0
    assert standing() == [True] * 5
    text = (desk / "desk.toml").read_text()
    (desk / "desk.toml").write_text(text.replace('command = ["snipwell"]', 'command = ["snipwell", "--wipe"]'))
    assert standing() == [False, True, True, True, True], "other words ask again"
    (desk / "desk.toml").write_text(text.replace("http://127.0.0.1:9/", "http://127.0.0.1:9/x"))
    assert standing() == [True, True, False, True, True], "also of what the table says"
    (desk / "desk.toml").write_text(text)
    elsewhere = tmp_path / "copy"
    subprocess.run(["cp", "-r", str(desk), str(elsewhere)], check=True)
    assert json.loads(fenko("trust", "--desk", elsewhere, "--format", "json", **env).stdout)[0]["agreed"] is False
    assert fenko("trust", "--withdraw", "--desk", desk, **env).returncode == 0
    assert standing() == [False] * 5
    kept = next((tmp_path / "state").rglob("*.json"))
    assert kept.stat().st_mode & 0o777 == 0o600


@pytest.mark.parametrize("content", ["", "{", "[]", '{"desk": 1, "agreed": 5}', '{"agreed": [1, null]}'])
def test_an_agreement_that_cannot_be_read_is_none(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, content: str
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    agreement = Agreement("/desk")
    agreement.agree(["starts x"])
    assert Agreement("/desk").holds("starts x")
    next(tmp_path.rglob("*.json")).write_text(content)
    assert not Agreement("/desk").holds("starts x")


def test_an_agreement_that_others_can_write_is_none(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    Agreement("/desk").agree(["starts x"])
    next(tmp_path.rglob("*.json")).chmod(0o622)
    assert not Agreement("/desk").holds("starts x")


def test_nothing_is_done_without_it_and_it_counts_at_once(far: MakeFar, tmp_path: Path) -> None:
    out = tmp_path / "ran"
    hands = far(
        f'[app.x]\ncommand = ["touch", "{out}"]\n[profile.base.on.pad]\nsouth = "start x"\neast = "front x"\n',
        {"DISPLAY": ""},
        agreed=False,
    )
    hands.tap("south")
    hands.tap("east")
    hands.said("not done, for nobody has agreed to it: starts x: touch")
    hands.look(0.5)
    assert not out.exists()
    assert len(hands.notes) == 1
    Agreement(str(tmp_path / "desk")).agree([f"starts x: touch {out}"])
    hands.tap("south")
    hands.until(out.exists)


def test_targets_are_what_their_steps_name() -> None:
    for target in TARGETS.values():
        assert target.out == "value" or target.out in OUTPUTS
    for phrase in SAID:
        for step in steps_of(parse_phrase(phrase)):
            item = getattr(step, "target", None)
            assert item is None or item[0] in TARGETS


def test_settings_of_outputs_are_explained_and_so_is_what_needs_an_agreement(fenko: Run, make_desk: MakeDesk) -> None:
    for output in OUTPUTS.values():
        for table in output.tables:
            told = fenko("explain", "--setting", f"{table}.NAME.note" if table != "audio" else "audio.most")
            assert told.returncode == 0, told.stderr
    desk = make_desk(PAD + RISKY)
    told = fenko("explain", "pad.south", "--desk", desk)
    assert "starts snipwell: snipwell: not done before you have agreed" in told.stdout
    assert "agreed" not in fenko("explain", "pad.start", "--desk", desk).stdout


RAIL = (
    '[machine.rail]\nlink = "tcp h:1"\naxis.x = { travel = [0, 100], fastest = 600 }\naxis.z.travel = [0, 50]\naxis.z.fastest = 300\n'
    "[profile.base.on.pad]\n"
)


@pytest.mark.parametrize(
    ("text", "wrong", "place"),
    [
        ('[osc.o]\nto = "here"\n[profile.base.on.pad]\nsouth = "osc /a"\n', "`here` cannot stand here", "desk.toml:5:6"),
        ('[osc.o]\nto = "udp h:1"\nhears = { "/a" = "value x" }\n[profile.base.on.pad]\nsouth = "osc /a"\n', "`x` is no value of the desk", "desk.toml:8:14"),
        ('[osc.o]\nto = "udp h:1"\nrange = { "/a" = [1, 0] }\n[profile.base.on.pad]\nsouth = "osc /a follow"\n', "the range of `/a`", "desk.toml:8:14"),
        ('[profile.base.on.pad]\nsouth = "osc /a"\n', "it has no [osc.NAME]", "desk.toml:5:10"),
        ('[profile.base.on.pad]\nsouth = "start snipwell"\n', "unknown program `snipwell`", "desk.toml:5:16"),
        ('[app.snipwell]\n[profile.base.on.pad]\nsouth = "start snipwell"\n', "does not say how `snipwell` is started", "desk.toml:6:16"),
        ('[request.a]\nurl = "ftp://x"\n[profile.base.on.pad]\nsouth = "request a"\n', "`ftp://x` cannot stand here", "desk.toml:5:7"),
        ('[request.a]\nurl = "http://x"\nbody = "a"\njson = 1\n[profile.base.on.pad]\nsouth = "request a"\n', "has both `json` and `body`", "desk.toml:9:18"),
        ('[audio]\nmost = 500\n[profile.base.on.pad]\nsouth = "volume mute"\n', "most", "desk.toml:5:8"),
        ('[profile.base.on.pad]\nsouth = "volume by 5%"\n', "a step says which way it goes", "desk.toml:5:20"),
        ('[profile.base.on.pad]\nsouth = "volume by +5lux"\n', "counts in %", "desk.toml:5:22"),
        ('[profile.base.on.pad]\nsouth = "volume rate 5dB"\n', "moves by percent a second", "desk.toml:5:17"),
        ('[profile.base.on.pad]\nsouth = "volume follow"\n', "no way to go", "desk.toml:5"),
        ('[profile.base.on.pad]\nsouth = "player dance"\n', "a player cannot `dance`", "desk.toml:5:17"),
        ('[mqtt.m]\nurl = "mqtt://x"\n[profile.base.on.pad]\nsouth = \'publish "a/#" "x"\'\n', "no + and no #", "desk.toml:7"),
        ('[midi.a]\n[profile.base.on.pad]\nsouth = "midi note c4 to b"\n', "unknown midi `b`", "desk.toml:6"),
        (RAIL + 'south = "machine jog q at 5"\n', "`q` is no axis", "desk.toml:10:22"),
        (RAIL + 'south = "machine jog a at 5"\n', "`rail` has no axis `a`", "desk.toml:10:18"),
        (RAIL + 'south = "machine jog xz at 5"\n', "at one speed goes one axis", "desk.toml:10:25"),
        (RAIL + 'south = "machine jog x rate 5"\n', "has no way to go", "desk.toml:10"),
        (RAIL + 'stick-left = "machine jog x rate 5"\n', "a value goes along one", "desk.toml:10"),
        (RAIL + 'trigger-right = "machine jog xz rate 5"\n', "two axes at once need", "desk.toml:10"),
        (RAIL + 'south = "machine step 1"\n', "a step says which way it goes", "desk.toml:10:23"),
        (RAIL + 'south = "machine step-size 0.3"\n', "0.3 is none of its step sizes", "desk.toml:10:28"),
        (RAIL + 'south = "machine jump"\n', "a machine cannot `jump`", "desk.toml:10:18"),
        (RAIL + 'south = "machine stop of mill"\n', "unknown machine `mill`", "desk.toml:10:26"),
        (RAIL + 'south = \'machine send "G0 X1\\nG9 X2"\'\n', "`G9` is not known (line 2, column 1", "desk.toml:10"),
        (RAIL.replace("[0, 100]", "[100, 0]") + 'south = "machine stop"\n', "the travel of x is none", "desk.toml:10"),
        (RAIL.replace("fastest = 600", "fastest = 0") + 'south = "machine stop"\n', "`0` is too little", "desk.toml:6:41"),
        (RAIL.replace("z.travel", "q.travel").replace("z.fastest", "q.fastest") + 'south = "machine stop"\n', "an axis is x, y, z", "desk.toml:10"),
        (RAIL.replace("tcp h:1", "air") + 'south = "machine stop"\n', "`air` cannot stand here", "desk.toml:5"),
        (RAIL.replace("[machine.rail]", '[machine.mill]\nlink = "tcp h:2"\naxis.x = { travel = [0, 1], fastest = 1 }\n[machine.rail]')
         + 'south = "machine stop"\n', "several machines", "desk.toml:13"),
        ('[profile.base.on.pad]\nsouth = "machine stop"\n', "it has no [machine.NAME]", "desk.toml:5:10"),
        (RAIL.replace("[profile.base.on.pad]", '[profile.one]\nwhen = { app = "x" }\non-enter = "machine home"') + "", "a profile that comes or goes moves no machine", "desk.toml:11"),
        ('[midi.a]\nthrough = "air"\n[profile.base.on.pad]\nsouth = "midi note c4"\n', "`air` cannot stand here", "desk.toml:5:11"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_said_with_its_place(
    fenko: Run, make_desk: MakeDesk, text: str, wrong: str, place: str
) -> None:
    said = fenko("check", "--desk", make_desk(PAD + text))
    assert said.returncode == 2, said.stdout
    assert wrong in said.stdout
    assert place in said.stdout
    assert "Traceback" not in said.stdout + said.stderr


@pytest.mark.parametrize(
    ("text", "hint"),
    [
        ('[profile.base.on.pad]\ntrigger-right = "midi cc 7 follow"\n', "jumps back"),
        ('[profile.base.on.pad]\nsouth = "volume to 130%"\n', "never to 130"),
        ('[profile.base.on.pad]\nsouth = "midi cc 7 to 300"\n', "never to 300"),
        ('[profile.base.on.pad]\nsouth = "midi send 90 3c 64"\n', "nothing ends it"),
        ('[profile.base.on.pad]\nsouth = "midi cc 7 by +0.3"\n', "never changes anything"),
        (
            RAIL + 'start = "machine stop"\nsouth = "machine jog z at 400"\n',
            "z goes 300 mm a minute at most, and never 400",
        ),
        (RAIL + 'start = "machine stop"\nsouth = "machine jog at 700"\n', "x and z goes 600 mm a minute at most"),
        (RAIL + 'start = "machine stop"\nsouth = "machine step z +80"\n', "z goes 50 mm from end to end"),
        (
            RAIL + 'start = "machine stop"\nsouth = \'machine send "G0 X300"\'\n',
            "line 1, `G0 X300`: x 300 mm is outside its travel",
        ),
        (RAIL + 'south = "machine step +1"\n', "in `base` nothing says `machine stop`, and `south` moves `rail`"),
        (
            RAIL
            + 'start = "machine stop"\n[profile.one]\nwhen = { app = "x" }\n[profile.one.on.pad]\nstart = "a"\nsouth = "machine home"\n',
            "in `one` nothing says `machine stop`",
        ),
        (
            RAIL.replace("axis.z.travel", "step-sizes = [1, 70]\naxis.z.travel") + 'start = "machine stop"\n',
            "a step of 70 is longer than the travel of z",
        ),
        (
            RAIL.replace("axis.z.travel", "safe-height = 90\naxis.z.travel") + 'start = "machine stop"\n',
            "the safe height lies outside the travel of z",
        ),
    ],
)
def test_what_will_not_do_what_was_meant_is_judged(fenko: Run, make_desk: MakeDesk, text: str, hint: str) -> None:
    said = fenko("check", "--desk", make_desk(PAD + text))
    assert said.returncode == 1
    assert hint in said.stdout


def test_a_fader_never_lets_a_machine_rest(fenko: Run, make_desk: MakeDesk) -> None:
    desk = make_desk(
        PAD + '[surface.desk]\ndescription = "grains"\n' + RAIL + 'start = "machine stop"\n[profile.base.on.desk]\n'
        'grain = "machine jog x rate 100"\n'
    )
    (desk / "devices").mkdir()
    (desk / "devices/grains.toml").write_text(
        'description = 1\nkind = "other"\nlinks = ["usb 1209:4d61"]\n[controls]\naxis-40 = { name = "grain", sort = "fader" }\n'
    )
    said = fenko("check", "--desk", desk)
    assert said.returncode == 1 and "`grain` stays where it is put, so the machine goes on" in said.stdout


def test_expectations_say_what_goes_to_outputs(fenko: Run, make_desk: MakeDesk) -> None:
    text = (
        PAD + '[profile.base.on.pad]\nsouth = "volume by +5%"\nnorth = "midi note c4"\n'
        '[[expect]]\ndo = ["tap pad.south", "tap pad.south", "tap pad.north"]\ndoes = {}\n'
    )
    good = text.replace("{}", '["volume +10%", "fenko: note c4 on 100", "fenko: note c4 off"]')
    assert fenko("check", "--desk", make_desk(good)).returncode == 0
    bad = fenko("check", "--desk", make_desk(text.replace("{}", "[]")))
    assert bad.returncode == 1
    assert "got:      'volume +10%', 'fenko: note c4 on 100'" in bad.stdout


@given(st.text())
def test_characters_in_halves_are_those_of_before_together(text: str) -> None:
    halves = in_halves(text)
    assert all(character <= "\uffff" for character in halves)
    assert of_halves(halves) == text
