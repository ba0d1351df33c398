"""MIDI controllers as surfaces: what each message means, which coding an endless one has, and a controller on a real JACK server.
(ALSA's sequencer is tried in the lab: `kernel/test_surfaces.py`.)"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator, Mapping
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ends import FarDesk, MakeFar, ended_once, far, jack, jack_ports, needed, patient_jack, program, there
from fenko.core.controls import SORTS, shape_of
from fenko.core.endless import CODINGS, EndlessReader, sort_and_coding, steps_in
from fenko.core.inputs import Raw
from fenko.desk.descriptions import load_description
from fenko.integrations.midi.incoming import MidiReader, MidiStream
from fenko.integrations.midi.transport import MidiWay, message_for
from support import FENKO, MakeDesk, Run, tries, wait_for

__all__ = ["far", "jack"]
needs_jack = needed("jackd")
CONTROLLER = """
import queue, sys, threading, jack
client = jack.Client("Dunnock Eight", no_start_server=True)
says, hears = client.midi_outports.register("out"), client.midi_inports.register("in")
waiting = queue.Queue()
@client.set_process_callback
def process(frames):
    says.clear_buffer()
    while not waiting.empty():
        says.write_midi_event(0, waiting.get())
    for _, data in hears.incoming_midi_events():
        sys.stdout.write(bytes(data).hex(" ") + "\\n")
        sys.stdout.flush()
client.activate()
for line in sys.stdin:
    for message in line.split("/"):
        waiting.put(bytes.fromhex(message))
client.deactivate()
client.close()
"""
DESK = """
[surface.dunnock]
kind = "midi"
links = ["midi Dunnock*"]
names = { note-36 = "take", cc-7 = "main" }
[surface.dunnock.control.cc-16]
sort = "dial"
[surface.dunnock.control.cc-20]
sort = "button"
[surface.dunnock.control.cc-119]
sort = "button"
[surface.dunnock.control.cc-8]
bits = 14
[value.exposure]
range = [0, 16383]
[profile.base.on.dunnock]
take = "ctrl+t"
note-37.full = "f5"
main = "value exposure follow"
cc-8 = "value exposure follow"
cc-16.left = "left"
cc-16.right = "right"
cc-20 = "f9"
cc-119 = "f12"
bend.up = "pageup"
play = "space"
program-3 = "f3"
note-38 = "lamp note-38 on"
note-39 = "lamp note-38 off"
"""


class Dunnock:
    """A controller that somebody made: what it says, and what it was told."""

    def __init__(self, process: subprocess.Popen[bytes], heard: Path) -> None:
        self._process = process
        self._heard = heard

    def says(self, *messages: str) -> None:
        """Sends these, one after the other."""
        assert self._process.stdin is not None
        self._process.stdin.write(("/".join(messages) + "\n").encode())
        self._process.stdin.flush()

    @property
    def heard(self) -> list[str]:
        """Messages that it was sent, as hex."""
        return ended_once(self._heard.read_text().split("\n")[:-1])


def dunnock(env: Mapping[str, str], folder: Path) -> Iterator[Dunnock]:
    heard = folder / "heard"
    with (
        heard.open("wb") as out,
        program(sys.executable, "-c", CONTROLLER, env=env, stdin=subprocess.PIPE, stdout=out) as process,
    ):
        wait_for(there(lambda: "Dunnock Eight:out" in jack_ports(env)), "the controller")
        yield Dunnock(process, heard)
        # It goes in order, or the server waits for it for seconds.
        assert process.stdin is not None
        process.stdin.close()
        process.wait(10)


@pytest.fixture
def controller(jack: dict[str, str], tmp_path: Path) -> Iterator[Dunnock]:
    """A controller that is plugged in."""
    yield from dunnock(jack, tmp_path)


def plugged_in(hands: FarDesk, controller: Dunnock) -> None:
    """It is there, and what it says comes through: a server that is busy shows a connection before there is one."""
    hands.until(lambda: hands.linked.present("dunnock"), "it is there")
    hands.until(lambda: controller.says("b0 77 7f", "b0 77 00") or "f12" in keys(hands), "what it says")
    hands.until(lambda: hands.engine.held == (), "nothing more")
    hands.sent.clear()


def keys(hands: FarDesk) -> list[str]:
    """Keys that went down so far."""
    return [effect[3] for effect in hands.sent if effect[1:3] == ("keys", "down")]


@needs_jack
def test_everything_on_it_is_a_control(jack: dict[str, str], far: MakeFar, controller: Dunnock) -> None:
    hands = far(DESK, jack)
    hands.said("surface dunnock: here now, Dunnock Eight:out (midi Dunnock*)")
    plugged_in(hands, controller)
    for message, key in (
        ("90 24 40", "t"), ("90 25 7f", "f5"), ("b0 10 01", "right"), ("b0 10 7f", "left"), ("b0 14 7f", "f9"),
        ("e0 7f 7f", "pageup"), ("fa", "space"), ("c0 02", "f3"),
    ):  # fmt: skip
        controller.says(message)
        hands.until(lambda wanted=key: wanted in keys(hands), key)
    assert ("keys", "t") in hands.engine.held
    controller.says("80 24 00", "90 25 00", "b0 14 00", "e0 00 40")
    hands.until(lambda: hands.engine.held == (), "everything is let go")
    controller.says("b0 07 7f")
    hands.until(lambda: hands.engine.values["value", "exposure"] == 16383)
    controller.says("b0 08 40", "b0 28 05")
    hands.until(lambda: hands.engine.values["value", "exposure"] == 0x40 << 7 | 5)


@needs_jack
@patient_jack
def test_its_lamps_are_lit_and_out_in_the_end(jack: dict[str, str], far: MakeFar, controller: Dunnock) -> None:
    hands = far(DESK, jack)
    plugged_in(hands, controller)
    lit, out = ("90 26 40", "80 26 00"), ("90 27 40", "80 27 00")
    # As with what it says: a server that is busy shows the connection of the lamps before there is one.
    hands.until(lambda: controller.says(*lit, *out) or controller.heard[-2:] == ["90 26 7f", "90 26 00"], "lit and out")
    hands.until(lambda: hands.engine.held == (), "nothing more")
    hands.look(0.3)
    before = len(controller.heard)
    controller.says(*lit)
    hands.until(lambda: controller.heard[before:] == ["90 26 7f"], "lit")
    controller.says(*out)
    hands.until(lambda: controller.heard[before:] == ["90 26 7f", "90 26 00"], "out")
    controller.says(*lit)
    hands.until(lambda: len(controller.heard) == before + 3)
    hands.close()
    wait_for(lambda: controller.heard[before + 3 :] == ["90 26 00"], "out with the desk")


@needs_jack
@pytest.mark.parametrize("how", ["unplugged", "worker killed", "panic"])
def test_nothing_stays_held(jack: dict[str, str], far: MakeFar, tmp_path: Path, how: str) -> None:
    hands = far(DESK, jack)
    hands.look(0.1)
    for again in range(2):
        made = dunnock(jack, tmp_path)
        one = next(made)
        plugged_in(hands, one)

        # Said again until it is heard: a server that is busy loses some.
        def said(message: str, held: bool, one: Dunnock = one) -> None:
            def comes() -> bool:
                one.says(message)
                hands.look(0.3)
                return (("keys", "t") in hands.engine.held) is held

            hands.until(comes, "held" if held else "let go")

        said("90 24 40", True)
        if how == "unplugged":
            made.close()
        elif how == "panic":
            said("b0 7b 00", False)
        elif not again:
            os.kill(hands.workers, signal.SIGKILL)
        else:
            said("80 24 00", False)
        hands.until(lambda: hands.engine.held == (), "let go")
        made.close()
        hands.until(lambda: not hands.linked.present("dunnock"), "it is gone")


# --- The commands ---


class Shown:
    """A command that runs, and what it says."""

    def __init__(self, env: Mapping[str, str], folder: Path, *command: str) -> None:
        self._file = folder / f"shown-{'-'.join(command[:2]).replace('/', '')}"
        nowhere = {**env, "XDG_CONFIG_HOME": str(folder / "nobody"), "FENKO_DESK": ""}
        del nowhere["FENKO_DESK"]
        with self._file.open("wb") as out:
            self.process = subprocess.Popen(
                [*FENKO, *command], stdin=subprocess.PIPE, stdout=out, stderr=out, env=nowhere
            )

    @property
    def text(self) -> str:
        """All that it said."""
        return self._file.read_text()

    def says(self, words: str) -> None:
        wait_for(lambda: words in self.text, f"`{words}`; it said {self.text!r}" if self._file.exists() else words)

    def line(self, text: str) -> None:
        """A person types this."""
        assert self.process.stdin is not None
        self.process.stdin.write(text.encode() + b"\n")
        self.process.stdin.flush()

    def end(self) -> int:
        """Ctrl-C."""
        self.process.send_signal(signal.SIGINT)
        return self.process.wait(20)


@needs_jack
def test_watch_shows_and_records_it(jack: dict[str, str], controller: Dunnock, tmp_path: Path, fenko: Run) -> None:
    take = tmp_path / "take.jsonl"
    shown = Shown(jack, tmp_path, "watch", "--take", str(take))
    shown.says("surface dunnock-eight: here now")
    controller.says("90 24 40", "80 24 00", *["b0 10 41"] * 5, "b0 10 3f", "b0 07 7f")
    shown.says("dunnock-eight cc-7")
    said = " ".join(shown.text.split())
    assert "dunnock-eight note-36 50 %" in said
    assert "dunnock-eight cc-16 +2 detents" in said
    assert shown.end() == 0, shown.text
    (tmp_path / "desk.toml").write_text(
        'format = 1\n[surface.dunnock-eight]\nkind = "midi"\nlinks = ["midi Dunnock*"]\n[surface.dunnock-eight.control.cc-16]\nsort = "dial"\n'
        '[profile.base.on.dunnock-eight]\nnote-36 = "a"\ncc-7.full = "b"\n'
    )
    lines = take.read_text().splitlines()
    # What came before it was recognised was recorded as it came; a person leaves that out.
    kept = [line for line in lines if '"cc-16","raw"' not in line]
    take.write_text("\n".join(kept) + "\n")
    done = fenko("rehearse", str(take), "--desk", str(tmp_path), "--format", "jsonl")
    assert done.returncode == 0, done.stderr
    assert [json.loads(line)["key"] for line in done.stdout.splitlines()] == ["a", "a", "b", "b"]


@needs_jack
def test_devices_lists_asks_and_describes_it(
    jack: dict[str, str], controller: Dunnock, tmp_path: Path, fenko: Run
) -> None:
    listed = fenko("devices", "--format", "json", JACK_DEFAULT_SERVER=jack["JACK_DEFAULT_SERVER"])
    found = next(one for one in json.loads(listed.stdout) if one["kind"] == "midi")
    assert (found["name"], found["link"], found["nodes"]) == ("Dunnock Eight", "midi Dunnock Eight", [])
    pressed = Shown(jack, tmp_path, "devices", "--press")
    pressed.says("Press something")
    time.sleep(0.5)
    for _ in range(20):
        if pressed.process.poll() is not None:
            break
        controller.says("b0 10 01", "b0 10 01", "b0 10 7f", "b0 10 7f", "b0 10 01", "b0 10 01")
        time.sleep(0.3)
    assert 'links = ["midi Dunnock Eight"]' in pressed.text
    assert '[surface.dunnock-eight.control.cc-16]\n    sort = "dial"' in pressed.text
    file = tmp_path / "dunnock.toml"
    guide = Shown(jack, tmp_path, "devices", "--describe", "--link", "midi Dunnock*", "--out", str(file))
    guide.says("Press something")
    while "1: press it" not in guide.text:
        controller.says("90 24 7f", "90 24 00")
        time.sleep(0.2)
    while "it sent note-36" not in guide.text:
        controller.says("90 24 7f", "90 24 00")
        time.sleep(0.6)
    guide.line("take")
    controller.says(*["b0 10 41"] * 6, "b0 10 3f")
    guide.says("it sent cc-16")
    guide.line("jog")
    controller.says("b0 07 7f", "b0 27 7f", "b0 07 40", "b0 27 01")
    guide.says("it sent cc-7")
    guide.line("main")
    guide.line("stop")
    assert guide.process.wait(20) == 0, guide.text
    described = load_description(file)
    assert {spot.name: (spot.control, spot.sort, spot.coding, spot.bits) for spot in described.spots} == {
        "take": ("note-36", None, None, None), "jog": ("cc-16", "dial", "offset", None), "main": ("cc-7", None, None, 14),
    }  # fmt: skip


@needs_jack
def test_learn_hears_it(jack: dict[str, str], controller: Dunnock, tmp_path: Path) -> None:
    desk = tmp_path / "desk"
    desk.mkdir()
    (desk / "desk.toml").write_text("format = 1\n" + DESK)
    lesson = Shown(jack, tmp_path, "learn", "--once", "--profile", "base", "--desk", str(desk))
    lesson.says("Press a control")
    while "note-40" not in lesson.text:
        controller.says("90 28 7f")
        time.sleep(0.1)
        controller.says("80 28 00")
        time.sleep(0.5)
    lesson.line("ctrl+shift+o")
    for asked in ("label", "colour", "icon"):
        lesson.says(asked)
        lesson.line("")
    assert lesson.process.wait(20) == 0, lesson.text
    assert 'note-40 = "ctrl+shift+o"' in (desk / "desk.toml").read_text()


# --- What messages mean ---


def changes(reader: MidiReader, *messages: str) -> list[tuple[str, object]]:
    return [(name, value) for message in messages for _, name, value in reader.feed(1.0, bytes.fromhex(message))]


def test_velocity_and_pressure_are_two_controls() -> None:
    reader = MidiReader({})
    assert changes(reader, "90 24 50", "a0 24 10", "a0 24 00", "d3 20") == [
        ("note-36", Raw(80, 0, 127)), ("note-36-pressure", Raw(16, 0, 127)), ("note-36-pressure", Raw(0, 0, 127)),
        ("ch4-pressure", Raw(32, 0, 127)),
    ]  # fmt: skip
    # Struck again without a release: it was let go in between.
    assert changes(reader, "90 24 60", "90 24 00", "80 24 00") == [
        ("note-36", Raw(0, 0, 127)), ("note-36", Raw(96, 0, 127)), ("note-36", Raw(0, 0, 127)),
    ]  # fmt: skip


def test_fine_numbers_come_in_two_halves_and_never_jump() -> None:
    reader = MidiReader({"cc-7": {"bits": 14}, "ch2-cc-1": {"bits": 14}})
    assert changes(reader, "b0 07 3f", "b0 27 7f", "b0 07 40", "b0 27 00", "b0 27 05") == [
        ("cc-7", Raw(8191, 0, 16383)), ("cc-7", Raw(8192, 0, 16383)), ("cc-7", Raw(8197, 0, 16383)),
    ]  # fmt: skip
    # The lower half that does not come is 0, a moment later.
    assert changes(reader, "b1 01 02") == []
    assert reader.pass_time(1.001) == []
    assert [sent[1:] for sent in reader.pass_time(reader.due)] == [("ch2-cc-1", Raw(256, 0, 16383))]
    assert changes(reader, "b0 63 01", "b0 62 02", "b0 06 10", "b0 26 01") == [
        ("cc-99", Raw(1, 0, 127)), ("cc-98", Raw(2, 0, 127)), ("nrpn-130", Raw(2049, 0, 16383)),
    ][2:]  # fmt: skip


WRITTEN = {
    "twos-complement": lambda step: step & 0x7F,
    "offset": lambda step: 64 + step,
    "sign-magnitude": lambda step: step if step > 0 else 0x40 | -step,
}


@pytest.mark.parametrize("coding", CODINGS)
@given(steps=st.lists(st.integers(-15, 15).filter(bool), min_size=1, max_size=40))
def test_the_coding_of_turns_is_recognised(coding: str, steps: list[int]) -> None:
    """Whatever a hand turns, in the end it has been turned that far. Only who turns to the left alone, in sign and magnitude, is
    taken for somebody who turns to the right in another coding, and says so (docs/midi-controllers.md)."""
    written = [WRITTEN[coding](step) for step in (*steps, 1, -1)]
    if coding == "sign-magnitude" and max(steps[:4]) < 0:
        steps = [1, *steps]
        written = [WRITTEN[coding](1), *written]
    turns = EndlessReader()
    assert sum(map(turns.turn, written)) == sum(steps)
    assert sum(map(turns.turn, written)) == sum(steps)
    said = EndlessReader(coding)
    assert [said.turn(value) for value in written[:-2]] == steps
    assert all(steps_in(coding, value) in range(-15, 16) for value in written)


def test_what_a_control_is_shows_in_what_it_sends() -> None:
    assert sort_and_coding([0, 127, 0]) == ("button", "")
    assert sort_and_coding([1, 1, 1, 127]) == ("dial", "twos-complement")
    assert sort_and_coding([65, 65, 65, 63]) == ("dial", "offset")
    assert sort_and_coding([1, 1, 65, 65]) == ("dial", "sign-magnitude")
    assert sort_and_coding([3, 5, 9, 14, 30, 31]) == ("fader", "")


@settings(max_examples=tries(400))
@given(st.lists(st.binary(max_size=6), max_size=60), st.floats(0, 0.01))
def test_whatever_comes_only_controls_change_and_all_is_let_go(parts: list[bytes], pause: float) -> None:
    stream = MidiStream()
    reader = MidiReader({"cc-16": {"sort": "dial"}, "cc-7": {"bits": 14}, "note-5": {"sort": "button"}})
    down: dict[str, object] = {}
    t = 0.0
    for part in parts:
        t += pause
        for message in stream.feed(part):
            for at, name, value in reader.feed(t, message):
                assert at <= t
                shape = SORTS["dial"] if name == "cc-16" else shape_of(name)
                if isinstance(value, Raw):
                    assert value.least <= value.value <= value.most
                elif not shape.turns:
                    assert value in (0, 1)
                if "note" in name:
                    down[name] = value
    for _, name, value in reader.release_all(t):
        if name in down:
            down[name] = value
    assert not any(value.value if isinstance(value, Raw) else value for value in down.values())


def test_a_control_is_told_by_the_message_that_it_sends() -> None:
    for control in ("note-36", "cc-7", "ch16-cc-7", "bend", "ch2-note-0"):
        (message,) = message_for(control, 1.0)
        assert MidiReader({}).feed(0.0, message)[0][1] == control
    assert [m.hex() for m in message_for("cc-7", 0.5, 14)] == ["b00740", "b02700"]
    assert message_for("play", 1.0) == []


def test_the_nearest_colour_that_a_controller_has_is_taken(make_desk: MakeDesk, fenko: Run) -> None:
    way = MidiWay(
        "midi X",
        {"controls": {}, "names": {}, "colours": {"#ff0000": 5, "#0000ff": 9}},
        lambda: None,
        lambda text: None,
    )
    assert [way._colour(one) for one in ("#ff0000", "#e01020", "#000040")] == [5, 5, 9]
    done = fenko("check", "--desk", make_desk('[surface.c]\nkind = "midi"\ncolours = { "red" = 5 }\n'))
    assert (done.returncode, "`red` is no colour" in done.stdout + done.stderr) == (2, True)


def test_what_nothing_is_bound_to_is_no_key(make_desk: MakeDesk, fenko: Run) -> None:
    """A controller's `play`, or a board's `a`, was never a key of a keyboard, so there is nothing to hand on."""
    desk = make_desk(
        '[surface.c]\nkind = "midi"\n[surface.b]\nkind = "board"\n[surface.b.control.a]\nsort = "button"\n[profile.base.on.c]\nnote-1 = "x"\n'
    )
    for control in ("c.play", "b.a"):
        assert "nothing is bound, and nothing is sent" in fenko("explain", control, "--desk", desk).stdout


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ('[surface.c.control.cc-16]\nsort = "encoder"\n', "`cc-16` cannot be `encoder`"),
        ('[surface.c.control.note-3]\nsort = "dial"\n', "what `note-3` is, its name says"),
        ('[surface.c.control.cc-1]\ncoding = "two"\n', "`two` is not known here"),
        ('[surface.c.network]\nlatest = "9s"\n', "9s"),
        ('[profile.base.on.c]\ncc-16.left = "a"\n', '`sort = "dial"` in [surface.c.control.cc-16]'),
        ('[profile.base.on.c]\nnote-128 = "a"\n', "unknown control `note-128`"),
        (
            '[surface.b]\nkind = "board"\n[profile.base.on.b]\nred = "a"\n',
            '`red.sort = "button"` in [surface.b.control]',
        ),
    ],
)
def test_what_is_wrong_is_told_with_what_helps(make_desk: MakeDesk, fenko: Run, text: str, words: str) -> None:
    done = fenko("check", "--desk", make_desk(f'[surface.c]\nkind = "midi"\nlinks = ["midi X"]\n{text}'))
    assert done.returncode == 2
    assert words in done.stdout + done.stderr
