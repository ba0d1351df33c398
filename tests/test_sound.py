"""Sounds through a real audio server, measured at its output."""

from __future__ import annotations

import array
import itertools
import subprocess
import threading
import time
from pathlib import Path

import pytest

from ends import AudioServer, MakeFar, audio, far, needed, sound_file
from fenko.desk.load import load_desk
from fenko.desk.problems import DeskError

__all__ = ["audio", "far"]
live = needed("pulseaudio", "parec", "sox")

DESK = """
[profile.base.on.pad]
south = 'sound "clap.wav"'
east = 'sound "long.wav" while held'
north = 'sound "claps/*.wav"'
west = 'sound stop'
start = 'sound "long.wav" at 25%'
select = 'sound "clap.wav" alone'
mode = { press = 'sound "clap.wav"', release = 'sound "claps/b.wav"' }
shoulder-left = 'sound "empty.wav"'
"""


class Meter:
    """How loud it is at the server's output, as it goes on."""

    def __init__(self, server: AudioServer) -> None:
        command = ["parec", "--device=out.monitor", "--rate=8000", "--channels=1", "--format=s16le", "--latency-msec=5"]
        self._process = subprocess.Popen(command, env=server.env, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
        self.levels: list[int] = []
        self._heard = time.monotonic()
        threading.Thread(target=self._run, daemon=True).start()

    def _run(self) -> None:
        assert self._process.stdout is not None
        while data := self._process.stdout.read(160):
            self.levels.append(max(map(abs, array.array("h", data[: len(data) // 2 * 2])), default=0))
            self._heard = time.monotonic()

    @property
    def now(self) -> int:
        """The loudest of the last 100 ms; nothing once the server plays nothing any more, not even silence."""
        return max(self.levels[-10:], default=0) if time.monotonic() < self._heard + 3 else 0

    def close(self) -> None:
        self._process.kill()
        self._process.wait()


@pytest.fixture
def sounds(tmp_path: Path) -> Path:
    """The sounds of the desk."""
    folder = tmp_path / "desk"
    sound_file(folder / "clap.wav", 0.3)
    sound_file(folder / "long.wav", 20)
    for name in "abc":
        sound_file(folder / f"claps/{name}.wav", 0.3, 300)
    (folder / "empty.wav").write_bytes(b"RIFF nothing of the kind")
    return folder


@live
def test_sounds_are_heard_held_and_stopped(audio: AudioServer, far: MakeFar, sounds: Path) -> None:
    meter = Meter(audio)
    try:
        hands = far(DESK, audio.env)
        hands.until(lambda: len(meter.levels) > 20)
        assert meter.now < 10
        hands.tap("south")
        hands.until(lambda: meter.now > 5000, "it is heard")
        hands.until(lambda: meter.now < 10, "to its end")
        hands.press("east")
        hands.until(lambda: meter.now > 5000, "while it is held")
        hands.look(0.6)
        assert meter.now > 5000
        hands.let_go("east")
        hands.until(lambda: meter.now < 10, "and no longer")
        hands.tap("start")
        hands.until(lambda: 2000 < meter.now < 9000, "as loud as is said")
        hands.tap("west")
        hands.until(lambda: meter.now < 10, "sound stop")
        hands.tap("start")
        hands.until(lambda: meter.now > 2000)
        hands.tap("select")
        hands.until(lambda: meter.now < 10, "alone stops the others")
        hands.tap("shoulder-left")
        hands.said("empty.wav cannot be played")
    finally:
        meter.close()


@live
@pytest.mark.parametrize("kind", ["flac", "ogg", "mp3"])
def test_every_kind_of_file_is_heard(audio: AudioServer, far: MakeFar, sounds: Path, kind: str) -> None:
    file = sounds / f"other.{kind}"
    made = subprocess.run(["sox", str(sounds / "long.wav"), str(file)], capture_output=True)
    if made.returncode:
        pytest.skip(f"sox makes no {kind} here: apt-get install libsox-fmt-all")
    meter = Meter(audio)
    try:
        hands = far(f"[profile.base.on.pad]\nsouth = 'sound \"other.{kind}\"'\n", audio.env)
        hands.tap("south")
        hands.until(lambda: meter.now > 5000, "it is heard")
    finally:
        meter.close()


@live
@pytest.mark.parametrize("how", ["end", "pause", "worker killed"])
def test_no_sound_outlives_what_began_it(audio: AudioServer, far: MakeFar, sounds: Path, how: str) -> None:
    meter = Meter(audio)
    try:
        hands = far(DESK, audio.env)
        hands.tap("start")
        hands.until(lambda: meter.now > 2000)
        if how == "end":
            hands.close()
        elif how == "pause":
            hands.pause()
        else:
            subprocess.run(["kill", "-9", str(hands.workers)], check=True)
        if how == "end":
            from support import wait_for

            wait_for(lambda: meter.now < 10, "silence")
        else:
            hands.until(lambda: meter.now < 10, "silence")
    finally:
        meter.close()


@live
def test_nothing_is_open_while_nothing_sounds(audio: AudioServer, far: MakeFar, sounds: Path) -> None:
    hands = far(DESK, audio.env)
    hands.tap("south")
    hands.until(lambda: "fenko" in audio.streams())
    hands.until(lambda: "fenko" not in audio.streams(), "the stream is let go of")


def test_any_of_several_and_never_the_same_twice_running(far: MakeFar, sounds: Path) -> None:
    from fenko.core.engine import Engine
    from fenko.desk.compiled import compiled

    (sounds / "desk.toml").write_text('format = 1\n[surface.pad]\nkind = "gamepad"\n' + DESK)
    engine = Engine(compiled(load_desk(sounds)).plan)
    played = [
        effect[3]
        for number in range(60)
        for value in (1, 0)
        for effect in engine.feed((number + value / 2, "pad.north", 1 - value))
        if effect[2] == "play"
    ]
    assert {*played} == {"claps/a.wav", "claps/b.wav", "claps/c.wav"}
    assert all(one != other for one, other in itertools.pairwise(played))


@pytest.mark.parametrize(
    ("phrase", "wrong", "nearest"),
    [
        ('sound "clpa.wav"', "there is no sound `clpa.wav`", "clap.wav"),
        ('sound "../clap.wav"', "lies outside the desk's folder", None),
        ('sound "/etc/passwd"', "lies outside the desk's folder", None),
        ('sound "desk.toml"', "there is no sound", None),
        ('sound "clap.wav" at 130%', "no level", None),
        ('sound "clap.wav" while', "needs `held`", None),
        (
            'sound "claps/*.wav" then sound "c*.wav" then sound "claps/*.wav"',
            "only one step can be any of several",
            None,
        ),
        ("sound clap.wav", "needs a text in quotes", '"clap.wav"'),
    ],
)
def test_what_cannot_be_played_is_said_so(sounds: Path, phrase: str, wrong: str, nearest: str | None) -> None:
    (sounds / "desk.toml").write_text(
        f"format = 1\n[surface.pad]\nkind = 'gamepad'\n[profile.base.on.pad]\nsouth = '''{phrase}'''\n"
    )
    with pytest.raises(DeskError) as error:
        load_desk(sounds)
    (problem,) = error.value.problems
    assert wrong in problem.message
    assert nearest is None or problem.nearest == nearest
