"""MIDI on the kernel's own sequencer: the ports, what an independent monitor hears, and notes that end in every case."""

from __future__ import annotations

import contextlib
import os
import re
import signal
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from bench_devices import FenkoRun, key, pad, wait_for
from evdev import ecodes as e

from started import run_fenko

DESK = """
[surface.pad]
kind = "gamepad"
links = ["usb 1209:4d50"]
[midi.stage]
port = "Virtual Raw*"
[midi.own]
[midi.later]
port = "aseqdump"
[profile.base.on.pad]
south = "midi note c4"
east = "midi cc 7 to 100"
north = "midi note g4 to later"
west = "midi note e4 channel 2 to own"
start = "midi send f0 7e 7f 09 01 f7"
"""


class Dump:
    """`aseqdump`, connected with a port, and what it prints."""

    def __init__(self, port: str, file: Path) -> None:
        self._file = file
        self._out = file.open("w")
        self.process = subprocess.Popen(["stdbuf", "-oL", "aseqdump", "-p", port], stdout=self._out)

    def says(self, words: str) -> bool:
        """Whether a line has these words, whatever the room between them."""
        return any(" ".join(words.split()) in " ".join(line.split()) for line in self._file.read_text().splitlines())

    def close(self) -> None:
        self.process.kill()
        self.process.wait()
        self._out.close()


class Bench:
    """A pad, and a desk that runs."""

    def __init__(self, folder: Path, desk: str = DESK) -> None:
        (folder / "desk.toml").write_text("format = 1\n" + desk)
        self.folder = folder
        self.pad = pad()
        self.run = FenkoRun(folder, folder / "log")
        self.run.says("is running")
        self.run.says("taken over")
        wait_for(lambda: "'Fenko'" in ports(), "Fenko's ports")

    def close(self) -> None:
        if self.run.process.poll() is None:
            self.run.end()
        self.pad.close()


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Bench]:
    """A desk that runs, with a pad; the last test kills it."""
    found = Bench(tmp_path_factory.mktemp("bench"))
    yield found
    found.close()


def ports() -> str:
    return subprocess.run(["aconnect", "-l"], capture_output=True, text=True, check=True).stdout


def _of_fenko() -> str:
    """What is listed of Fenko's ports, once they are there."""
    return next((part for part in ports().split("client ") if part.split("'")[1:2] == ["Fenko"]), "")


def own_port() -> str:
    """The address of Fenko's own port."""
    client = _of_fenko()
    number = client.split(":")[0]
    line = next(line for line in client.splitlines() if "'own" in line)
    return f"{number}:{line.split()[0]}"


def test_a_port_that_is_there_is_connected_with(bench: Bench, tmp_path: Path) -> None:
    """The kernel's virtual raw MIDI: what is sent there comes out of a device file as bytes."""
    raw = next(iter(sorted(Path("/dev/snd").glob("midiC*D0"))), None)
    assert raw is not None, "the lab's kernel has no virtual raw MIDI"
    device = bench.pad
    reader = os.open(raw, os.O_RDONLY | os.O_NONBLOCK)
    heard = bytearray()

    def hears(data: bytes) -> bool:
        with contextlib.suppress(BlockingIOError):
            heard.extend(os.read(reader, 4096))
        return data in heard

    try:
        # There are several, each connected with on its own.
        number = re.search(r"client (\d+): 'Virtual Raw MIDI \d+-0'", ports())
        assert number is not None, ports()
        wait_for(lambda: re.search(rf"Connecting To:.* {number[1]}:0\b", _of_fenko()), "the connection")
        for code in (e.BTN_SOUTH, e.BTN_EAST, e.BTN_NORTH, e.BTN_START):
            key(device, code, 1)
            key(device, code, 0)
        try:
            wait_for(lambda: hears(bytes.fromhex("f07e7f0901f7")), "the exclusive message")
        except AssertionError as late:
            raise AssertionError(f"{late}: {heard.hex(' ')}; {bench.run.log.read_text()}; {ports()}") from None
        assert bytes.fromhex("903c64") in heard
        assert bytes.fromhex("b00764") in heard
    finally:
        os.close(reader)


@pytest.mark.long
def test_fenko_ready_lists_the_ports(bench: Bench) -> None:
    ready = run_fenko("ready", "--desk", str(bench.folder))
    assert "ALSA:" in ready.stdout
    assert "Virtual Raw" in ready.stdout


def test_a_port_that_comes_later_is_connected_with(bench: Bench, tmp_path: Path) -> None:
    for number in range(2):  # and again when it has gone and come back
        heard = tmp_path / f"heard{number}"
        with heard.open("w") as out:
            dump = subprocess.Popen(["stdbuf", "-oL", "aseqdump"], stdout=out)
            wait_for(lambda: "Connecting To" in ports().split("'later")[1].split("client ")[0], "the connection")
            key(bench.pad, e.BTN_NORTH, 1)
            key(bench.pad, e.BTN_NORTH, 0)
            wait_for(lambda file=heard: "Note off" in file.read_text(), "the note")
            dump.kill()
            dump.wait()


def test_the_sequencer_hears_everything_and_the_end_of_every_note(bench: Bench, tmp_path: Path) -> None:
    device = bench.pad
    dump = Dump(wait_for(own_port, "its own port"), tmp_path / "heard")
    try:
        wait_for(lambda: "aseqdump" in ports(), "the monitor")
        key(device, e.BTN_WEST, 1)
        wait_for(lambda: dump.says("Note on 1, note 64, velocity 100"), "the note")
        key(device, e.BTN_WEST, 0)
        wait_for(lambda: dump.says("Note off 1, note 64"), "its end")
        # Killed in the middle of a note.
        key(device, e.BTN_WEST, 1)
        wait_for(lambda: (tmp_path / "heard").read_text().count("Note on") == 2, "the second note")
        os.kill(bench.run.process.pid, signal.SIGKILL)
        wait_for(lambda: (tmp_path / "heard").read_text().count("Note off") == 2, "its end, though Fenko was killed")
    finally:
        dump.close()
