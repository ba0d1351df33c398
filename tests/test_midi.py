"""MIDI out on a real JACK server, heard by an independent monitor and by a real synthesiser. (ALSA's sequencer is tried in
the lab: `kernel/test_midi.py`.)"""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
import sys
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ends import FarDesk, MakeFar, ended_once, far, jack, jack_ports, needed, patient_jack, program, there
from fenko.core.phrase import parse_phrase
from fenko.integrations.midi.spec import described, messages, note_name, note_number
from fenko.system.wire import Message, MessageReader, pack
from screen import Screen, needs_screen
from started import Started, run_fenko
from support import wait_for

__all__ = ["far", "jack"]
needs_jack = needed("jackd")
MONITOR = """
import signal, sys, threading, jack
client = jack.Client("monitor", no_start_server=True)
port = client.midi_inports.register("in")
@client.set_process_callback
def process(frames):
    for _, data in port.incoming_midi_events():
        sys.stdout.write(bytes(data).hex(" ") + "\\n")
        sys.stdout.flush()
client.activate()
signal.signal(signal.SIGTERM, lambda *_: (client.close(), sys.exit()))  # JACK waits for clients that vanish
threading.Event().wait()
"""

DESK = """
[midi.stage]
{port}
[midi.other]
[profile.base.on.pad]
south = "midi note c4"
east = "midi note e4 velocity 80 channel 2"
north = "midi cc 64 to 127"
west = "midi program 5"
start = "midi play then midi stop then midi continue"
select = "midi send f0 7e 7f 09 01 f7"
mode = "midi note g4 to other"
trigger-left = "midi note a4 velocity follow"
trigger-right = {{ do = "midi cc 74 follow", spring = true }}
stick-left.x = {{ do = "midi bend follow", spring = true }}
stick-right.x = {{ do = "midi pressure follow", spring = true }}
"""


class Monitor:
    """Somebody who listens to a port and writes down what comes."""

    def __init__(self, env: Mapping[str, str], file: Path, process: subprocess.Popen[bytes]) -> None:
        self.process = process
        self._file = file
        self._env = dict(env)

    def connect(self, port: str) -> None:
        """Listens to a port, which has to be there."""
        wait_for(there(lambda: port in jack_ports(self._env)), f"the port {port}")
        script = f"import jack; c = jack.Client('c', no_start_server=True); c.connect({port!r}, 'monitor:in')"
        subprocess.run([sys.executable, "-c", script], env=self._env, check=True, capture_output=True)

    @property
    def heard(self) -> list[str]:
        """Messages, as hex."""
        return ended_once(self._file.read_text().split("\n")[:-1])


@pytest.fixture
def monitor(jack: dict[str, str], tmp_path: Path) -> Iterator[Monitor]:
    """A monitor of JACK's ports."""
    file = tmp_path / "heard"
    with file.open("wb") as out, program(sys.executable, "-c", MONITOR, env=jack, stdout=out) as process:
        wait_for(there(lambda: "monitor:in" in jack_ports(jack)), "the monitor")
        yield Monitor(jack, file, process)


def desk(port: str = "") -> str:
    return DESK.format(port=f'port = "{port}"' if port else "")


@needs_jack
@patient_jack
def test_everything_that_midi_can_say_arrives(jack: dict[str, str], far: MakeFar, monitor: Monitor) -> None:
    hands = far(desk(), jack)
    hands.look(0.1)
    monitor.connect("Fenko:stage")
    for number, control in zip(
        (2, 4, 5, 6, 7, 10, 11), ("south", "east", "north", "north", "west", "start", "select"), strict=True
    ):
        hands.tap(control)
        hands.until(lambda n=number: len(monitor.heard) == n)
    hands.feed(("pad.trigger-left", 0.3), ("pad.trigger-left", 0.8), ("pad.trigger-left", 0.0))
    hands.until(lambda: "80 45 00" in monitor.heard)
    for number, (address, value) in enumerate((("trigger-right", 0.5), ("stick-left.x", 1.0)), 13):
        hands.feed((f"pad.{address}", value))
        hands.until(lambda n=number: len(monitor.heard) > n)
    expected = [
        "90 3c 64", "80 3c 00", "91 40 50", "81 40 00", "b0 40 7f", "b0 40 7f", "c0 04", "fa", "fc", "fb",
        "f0 7e 7f 09 01 f7", "90 45 66", "80 45 00", "b0 4a 40", "e0 7f 7f",
    ]  # fmt: skip
    assert monitor.heard == expected
    assert hands.notes == []


@needs_jack
@patient_jack
def test_each_port_of_the_desk_is_one_of_its_own(jack: dict[str, str], far: MakeFar, monitor: Monitor) -> None:
    hands = far(desk(), jack)
    hands.look(0.1)
    monitor.connect("Fenko:other")
    hands.tap("south")
    hands.tap("mode")
    hands.until(lambda: monitor.heard == ["90 43 64", "80 43 00"])


@needs_jack
@patient_jack
def test_a_port_of_another_program_is_connected_with_when_it_comes(
    jack: dict[str, str], far: MakeFar, tmp_path: Path
) -> None:
    hands = far(desk("monit*"), jack)
    hands.until(lambda: "Fenko:stage" in jack_ports(jack))
    file = tmp_path / "later"
    for _ in range(2):  # and again when it has gone and come back
        with file.open("wb") as out, program(sys.executable, "-c", MONITOR, env=jack, stdout=out):
            hands.until(lambda: hands.facts["midi"]["stage"]["to"] == ["monitor:in"], "connected")
            hands.tap("south")
            hands.until(lambda: file.read_text() == "90 3c 64\n80 3c 00\n")
        hands.until(lambda: hands.facts["midi"]["stage"]["to"] == [], "gone")


@needs_jack
def test_what_a_late_program_has_missed_is_ended_again(jack: dict[str, str], far: MakeFar, monitor: Monitor) -> None:
    """JACK waits for nobody: while a program stands still, what is sent to it is lost."""
    hands = far(desk(), jack)
    monitor.connect("Fenko:stage")
    hands.until(lambda: hands.facts["midi"]["stage"]["to"] == ["monitor:in"])
    begun(hands, monitor, "south", 1, "90 3c 64")
    monitor.process.send_signal(signal.SIGSTOP)
    hands.let_go("south")
    hands.look(0.3)
    monitor.process.send_signal(signal.SIGCONT)
    hands.until(lambda: "80 3c 00" in monitor.heard, "the note ends")


def begun(hands: FarDesk, monitor: Monitor, control: str, value: float, heard: str) -> None:
    """What a hand begins is heard; where the server has lost it, which it may, the hand begins again."""

    def is_heard() -> bool:
        hands.feed((f"pad.{control}", value))
        for _ in range(10):
            hands.look(0.05)
            if heard in monitor.heard:
                return True
        hands.feed((f"pad.{control}", 0))
        return False

    hands.until(is_heard, heard)


@needs_jack
@pytest.mark.parametrize("how", ["let go", "end", "pause", "unplug", "killed", "worker killed"])
def test_every_note_has_its_end(jack: dict[str, str], far: MakeFar, monitor: Monitor, how: str) -> None:
    hands = far(desk(), jack)
    hands.look(0.1)
    monitor.connect("Fenko:stage")
    hands.until(lambda: hands.facts["midi"]["stage"]["to"] == ["monitor:in"])
    for control, value, heard in (
        ("north", 1, "b0 40 7f"), ("south", 1, "90 3c 64"), ("east", 1, "91 40 50"), ("stick-left.x", -1.0, "e0 00 00")
    ):  # fmt: skip
        begun(hands, monitor, control, value, heard)
    match how:
        case "let go":
            hands.let_go("south")
            hands.let_go("east")
        case "pause":
            hands.pause()
        case "unplug":
            hands.unplug()
        case "end" | "killed":
            # To the workers a desk that was killed is one that says nothing more.
            if how == "killed":
                hands.port.child.begin_finish()
                wait_for(lambda: "81 40 00" in monitor.heard, "the notes to end")
            else:
                hands.close()
        case _:
            os.kill(hands.workers, signal.SIGKILL)
            hands.said("has ended")
            hands.let_go("south")
    if how in ("end", "killed"):
        wait_for(lambda: {"80 3c 00", "81 40 00"} <= {*monitor.heard}, f"the notes to end: {monitor.heard}")
        wait_for(lambda: {"b0 40 00", "e0 00 40"} <= {*monitor.heard}, f"pedal and bend: {monitor.heard}")
    else:
        hands.until(lambda: {"80 3c 00", "81 40 00"} <= {*monitor.heard}, "the notes end")


RUN = """
[surface.pad]
kind = "gamepad"
[midi.stage]
[profile.base.on.pad]
south = "midi note c4"
"""


@contextlib.contextmanager
def running(folder: Path, env: Mapping[str, str], text: str, *changes: tuple[float, int]) -> Iterator[Started]:
    """`fenko run`, the whole of it, with a take in which one button changes at these times."""
    folder.mkdir(exist_ok=True)
    (folder / "desk.toml").write_text("format = 1\n" + text)
    lines = ['{"take": 1, "name": "x", "surfaces": {"pad": "gamepad"}}']
    lines += [f'{{"t": {t}, "surface": "pad", "control": "south", "value": {value}}}' for t, value in changes]
    (folder / "take.jsonl").write_text("\n".join(lines) + "\n")
    command = ["run", "--desk", str(folder), "--play", str(folder / "take.jsonl"), "--play-focus"]
    process = Started(command, folder / "said", env={**env, "XDG_RUNTIME_DIR": str(folder)})
    try:
        yield process
    finally:
        process.kill()
        process.wait()


@needs_jack
@patient_jack
@needs_screen
@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGINT, signal.SIGTERM])
def test_a_note_ends_with_a_desk_that_is_ended(
    jack: dict[str, str], monitor: Monitor, tmp_path: Path, how: signal.Signals
) -> None:
    screen = Screen()
    try:
        env = {**jack, "DISPLAY": screen.display}
        with running(tmp_path / "desk", env, RUN, (3.0, 1), (60.0, 0)) as desk:
            monitor.connect("Fenko:stage")
            wait_for(lambda: monitor.heard == ["90 3c 64"], "the note")
            told = run_fenko(
                "values", "--format", "json", env={**env, "XDG_RUNTIME_DIR": str(tmp_path / "desk")}, check=True
            )
            assert json.loads(told.stdout)["outputs"] == {"midi": {"stage": {"to": ["monitor:in"]}}}
            desk.send_signal(how)
            wait_for(lambda: "80 3c 00" in monitor.heard, f"its end: {monitor.heard}")
            desk.wait(10)
            wait_for(lambda: "Fenko" not in jack_ports(jack), "the port to vanish")
    finally:
        screen.close()


@needs_jack
@needs_screen
@patient_jack
def test_a_desk_that_is_read_again_gets_its_new_outputs(jack: dict[str, str], monitor: Monitor, tmp_path: Path) -> None:
    screen = Screen()
    folder = tmp_path / "desk"
    try:
        env = {**jack, "DISPLAY": screen.display}
        plain = RUN.replace("[midi.stage]\n", "").replace("midi note c4", "a")
        presses = [change for at in (0.5, *range(5, 60, 3)) for change in ((at, 1), (at + 0.1, 0))]
        with running(folder, env, plain, *presses) as desk:
            wait_for(lambda: "is running" in (folder / "said").read_text(), "it to run")
            assert "Fenko" not in jack_ports(jack)
            (folder / "desk.toml").write_text("format = 1\n" + RUN)
            desk.send_signal(signal.SIGUSR1)
            monitor.connect("Fenko:stage")
            wait_for(lambda: monitor.heard[-2:] == ["90 3c 64", "80 3c 00"], "the note")
            # Another name for the port: the old one goes, the new one comes.
            (folder / "desk.toml").write_text("format = 1\n" + RUN.replace("midi.stage", "midi.lights"))
            desk.send_signal(signal.SIGUSR1)
            wait_for(
                lambda: "Fenko:lights" in jack_ports(jack) and "Fenko:stage" not in jack_ports(jack), "the new port"
            )
    finally:
        screen.close()


@needs_jack
@needed("fluidsynth")
def test_a_synthesiser_plays_the_note_and_ends_it(jack: dict[str, str], far: MakeFar, tmp_path: Path) -> None:
    """What it plays is measured at its output."""
    font = next(iter(Path("/usr/share").glob("s*/**/*.sf[23]")), None)
    if font is None:
        pytest.skip("needs a sound font: run tools/needs tests")
    loud = tmp_path / "loud"
    command = [
        "fluidsynth",
        "-i",
        "-s",
        "-a",
        "jack",
        "-m",
        "jack",
        "-j",
        "-g",
        "1",
        "-o",
        "midi.autoconnect=0",
        str(font),
    ]
    with program(*command, env=jack), loud.open("wb") as out:
        midi = wait_for(
            there(lambda: next((n for n in jack_ports(jack).split() if "fluid" in n and "midi" in n), "")),
            "the synthesiser",
        )
        source = next(name for name in jack_ports(jack).split() if "fluid" in name and "left" in name)
        hands = far(desk(midi), jack)
        hands.until(lambda: hands.facts["midi"]["stage"]["to"] == [midi])
        with program(sys.executable, "-c", METER, source, env=jack, stdout=out):
            levels = lambda: [float(line) for line in loud.read_text().split()]  # noqa: E731
            hands.until(lambda: len(levels()) > 5)
            assert max(levels()[-3:]) < 1e-4
            hands.press("south")
            hands.until(lambda: max(levels()[-3:]) > 0.005, "it sounds")
            hands.let_go("south")
            hands.until(lambda: max(levels()[-3:]) < 1e-3, "it ends")


METER = """
import signal, sys, threading, jack
client = jack.Client("meter", no_start_server=True)
port = client.inports.register("in")
found = [0.0, 0]
@client.set_process_callback
def process(frames):
    samples = memoryview(port.get_buffer()).cast("f")
    found[0] = max(found[0], max(map(abs, samples)))
    found[1] += 1
    if found[1] == 5:
        sys.stdout.write(f"{found[0]:.6f}\\n")
        sys.stdout.flush()
        found[:] = [0.0, 0]
client.activate()
client.connect(sys.argv[1], port)
signal.signal(signal.SIGTERM, lambda *_: (client.close(), sys.exit()))
threading.Event().wait()
"""


@needs_jack
def test_a_server_that_goes_and_comes_back(jack: dict[str, str], far: MakeFar, tmp_path: Path) -> None:
    name = jack["JACK_DEFAULT_SERVER"] + "x"
    env = {**jack, "JACK_DEFAULT_SERVER": name}
    command = ["jackd", "--no-realtime", "-n", name, "-d", "dummy", "-r", "48000", "-p", "1024"]
    with program(*command, env=env):
        wait_for(there(lambda: "system:" in jack_ports(env)), "JACK")
        hands = far(desk(), env)
        hands.until(lambda: "Fenko:stage" in jack_ports(env))
        hands.press("south")
    hands.said("MIDI:")
    hands.let_go("south")
    with program(*command, env=env):
        hands.until(lambda: "Fenko:stage" in jack_ports(env), "the ports are there again")


def test_without_any_midi_the_desk_says_so_once(far: MakeFar, tmp_path: Path) -> None:
    hands = far(desk(), {"JACK_DEFAULT_SERVER": "nobody-here"})
    for _ in range(3):
        hands.tap("south")
        hands.look(0.2)
    hands.said("no JACK server runs")
    assert len(hands.notes) == 1


# --- The table of messages ---


@given(st.integers(0, 127))
def test_names_of_notes_read_back(number: int) -> None:
    assert note_number(note_name(number)) == number


@pytest.mark.parametrize(
    ("text", "number"),
    [("c4", 60), ("a4", 69), ("c-1", 0), ("g9", 127), ("f#2", 42), ("eb3", 51), ("cb4", 59), ("b#3", 60), ("60", 60)],
)
def test_notes(text: str, number: int) -> None:
    assert note_number(text) == number


@pytest.mark.parametrize("text", ["h4", "c10", "g#9", "cb-1", "128", "c", "", "c#-2"])
def test_what_is_no_note(text: str) -> None:
    assert note_number(text) is None


@given(st.binary(max_size=40))
def test_bytes_are_messages_or_are_refused(data: bytes) -> None:
    with contextlib.suppress(ValueError):
        parts = messages(data)
        assert b"".join(parts) == data
        assert all(part[0] >= 0x80 for part in parts)
        assert all(described(list(part)) for part in parts)


@pytest.mark.parametrize(
    ("text", "wrong"),
    [
        ("midi send 90 3c", "90 needs 2 bytes behind it"),
        ("midi send 3c 90", "3c is where a message has to begin"),
        ("midi send f0 01", "f0 has no f7"),
        ("midi send 90 3c ff", "behind 90 come bytes of 00 to 7f"),
        (f"midi cc {'9' * 5000} to 1", "no controller"),
        ("midi note h4", "no note"),
        ("midi note c4 velocity 0", "no velocity"),
        ("midi cc 128 to 1", "no controller"),
        ("midi note c4 channel 17", "no channel"),
        ("midi nothing", "MIDI has no"),
        ("midi program 0", "no program"),
    ],
)
def test_what_is_no_midi_is_said_so(text: str, wrong: str) -> None:
    with pytest.raises(ValueError, match=wrong):
        parse_phrase(text)


class Words(Message, frozen=True):
    """A message with anything in it."""

    words: list[Any]


@given(
    st.lists(st.lists(st.one_of(st.integers(-(2**63), 2**64 - 1), st.text(), st.floats(allow_nan=False)))),
    st.integers(1, 50),
)
def test_messages_come_whole_however_they_are_cut(all_words: list[list[Any]], size: int) -> None:
    messages = [Words(words) for words in all_words]
    data = b"".join(map(pack, messages))
    reader = MessageReader(Words)
    found = []
    for at in range(0, len(data), size):
        reader.add(data[at : at + size])
        found += list(reader)
    assert found == messages


@pytest.mark.parametrize("data", [b"\xff\xff\xff\xff" + bytes(10), b"\0\0\0\1\xc1", b"\0\0\0\1\x90"])
def test_what_is_no_message_is_an_error(data: bytes) -> None:
    reader = MessageReader(Words)
    reader.add(data)
    with pytest.raises(ValueError):
        list(reader)


@needs_jack
@pytest.mark.parametrize("port", ["", "monitor*"])
def test_a_note_ends_however_often_its_workers_die(
    port: str, jack: dict[str, str], far: MakeFar, monitor: Monitor
) -> None:
    hands = far(desk(port), jack)
    hands.look(0.1)
    if not port:
        monitor.connect("Fenko:stage")
    hands.until(lambda: hands.facts["midi"]["stage"]["to"] == ["monitor:in"], "connected")
    begun(hands, monitor, "south", 1, "90 3c 64")
    for _ in range(3):
        # Each time before it can have done what it was told.
        os.kill(hands.workers, signal.SIGKILL)
        before = hands.workers
        hands.until(lambda b=before: hands.workers != b, "they are started again")
    hands.until(lambda: "80 3c 00" in monitor.heard, "the end of the note")


@needs_jack
def test_a_note_ends_that_was_let_go_while_its_workers_hung(
    jack: dict[str, str], far: MakeFar, monitor: Monitor
) -> None:
    hands = far(desk("monitor*"), jack)
    hands.until(lambda: hands.facts["midi"]["stage"]["to"] == ["monitor:in"], "connected")
    begun(hands, monitor, "south", 1, "90 3c 64")
    os.kill(hands.workers, signal.SIGSTOP)
    hands.let_go("south")
    hands.look(0.1)
    os.kill(hands.workers, signal.SIGKILL)
    hands.until(lambda: "80 3c 00" in monitor.heard, "the end of the note")


@needs_jack
def test_ports_are_connected_once(jack: dict[str, str], far: MakeFar, monitor: Monitor) -> None:
    """A connection that is asked for again makes the server tell everybody of a new graph: once it went on for ever."""
    hands = far(desk("monitor*"), jack)
    hands.until(lambda: hands.facts["midi"]["stage"]["to"] == ["monitor:in"], "connected")

    def switches() -> int:
        told = Path(f"/proc/{hands.workers}/task").iterdir()
        return sum(int(line.split()[1]) for task in told for line in (task / "status").read_text().splitlines()
                   if line.startswith("voluntary_ctxt"))  # fmt: skip

    hands.look(0.5)
    before = switches()
    hands.look(2.0)
    # JACK's own thread wakes with each period (about 47 times a second).
    assert switches() - before < 2.0 * 48000 / 1024 * 1.6 + 40
