"""Players: real ones on a real session bus, asked with the bus's own tool."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping
from pathlib import Path

import pytest

from ends import MakeFar, bus, called, far, needed, player_property, program, sound_file, there
from support import wait_for

__all__ = ["bus", "far"]
pytestmark = needed("dbus-daemon", "mpv", "sox")
PLUGIN = next(
    (path for path in (Path("/usr/lib/mpv-mpris/mpris.so"), Path("/etc/mpv/scripts/mpris.so")) if path.exists()), None
)

DESK = """
[profile.base.on.pad]
south = "player play-pause"
east = "player pause"
north = "player next"
west = "player previous"
start = "player forward 10s"
select = "player back 4s"
mode = "player play of mpv"
shoulder-left = "player stop of nobody*"
"""


@contextlib.contextmanager
def playing(env: Mapping[str, str], *files: Path) -> Iterator[str]:
    """A player with these files, by its name on the bus."""
    assert PLUGIN is not None, "needs mpv-mpris: run tools/needs tests"
    before = {name for name in names(env) if "MediaPlayer2" in name}
    command = ["mpv", "--no-config", f"--script={PLUGIN}", "--ao=null", "--no-video", "--idle", "--loop-file=inf"]
    with program(*command, *map(str, files), env=env):
        name = wait_for(
            there(lambda: next((n for n in names(env) if "MediaPlayer2" in n and n not in before), "")), "the player"
        )
        wait_for(there(lambda: player_property(env, name, "PlaybackStatus").endswith("Playing")), "it to play")
        yield name


def names(env: Mapping[str, str]) -> list[str]:
    """All names on the bus."""
    import subprocess

    command = [
        "dbus-send",
        "--print-reply=literal",
        "--dest=org.freedesktop.DBus",
        "/",
        "org.freedesktop.DBus.ListNames",
    ]
    return subprocess.run(command, env=dict(env), check=True, capture_output=True, text=True).stdout.split()


def status(env: Mapping[str, str], name: str) -> str:
    return player_property(env, name, "PlaybackStatus").split()[-1]


def position(env: Mapping[str, str], name: str) -> float:
    return int(player_property(env, name, "Position").split()[-1]) / 1e6


def test_a_player_does_what_it_is_told(bus: dict[str, str], far: MakeFar, tmp_path: Path) -> None:
    files = [sound_file(tmp_path / f"{name}.wav", 120) for name in ("one", "two")]
    with playing(bus, *files) as name:
        hands = far(DESK, bus)
        hands.tap("south")
        hands.until(lambda: status(bus, name) == "Paused")
        at = position(bus, name)
        hands.tap("start")
        hands.until(lambda: abs(position(bus, name) - at - 10) < 0.5, "10 s on")
        hands.tap("select")
        hands.until(lambda: abs(position(bus, name) - at - 6) < 0.8, "4 s back")
        hands.tap("mode")
        hands.until(lambda: status(bus, name) == "Playing")
        hands.tap("east")
        hands.until(lambda: status(bus, name) == "Paused")
        hands.tap("north")
        hands.until(lambda: "two" in player_property(bus, name, "Metadata"))
        hands.until(lambda: hands.facts["player"]["mpv"]["title"] == "two.wav", "its title is told")
        hands.tap("west")
        hands.until(lambda: "one" in player_property(bus, name, "Metadata"))
        assert hands.notes == []


def test_position_and_title_are_known(bus: dict[str, str], far: MakeFar, tmp_path: Path) -> None:
    with playing(bus, sound_file(tmp_path / "tone.wav", 120)) as name:
        hands = far(DESK, bus)
        fact = hands.until(lambda: hands.facts["player"]["mpv"])
        assert fact["playing"]
        hands.look(0.3)
        here = hands.facts["player"]["mpv"]["position"]
        assert abs(here - position(bus, name)) < 0.5, "also while nothing is said of it"
        called(bus, name, "org.mpris.MediaPlayer2.Player.Pause")
        hands.until(lambda: not hands.facts["player"]["mpv"]["playing"], "what others do is heard")
    hands.until(lambda: not hands.facts["player"], "and that it has gone")


def test_the_one_that_plays_else_the_last(bus: dict[str, str], far: MakeFar, tmp_path: Path) -> None:
    file = sound_file(tmp_path / "tone.wav", 120)
    with playing(bus, file) as first, playing(bus, file) as second:
        hands = far(DESK, bus)
        hands.until(lambda: len(hands.facts["player"]) == 2)
        called(bus, first, "org.mpris.MediaPlayer2.Player.Pause")
        hands.tap("south")
        hands.until(lambda: status(bus, second) == "Paused", "the one that plays")
        assert status(bus, first) == "Paused"
        hands.tap("south")
        hands.until(lambda: status(bus, second) == "Playing", "the one that played last")
        assert status(bus, first) == "Paused"
        hands.tap("mode")
        hands.until(lambda: status(bus, first) == "Playing", "by a pattern, all that fit")


def test_nobody_to_play_is_said(bus: dict[str, str], far: MakeFar) -> None:
    hands = far(DESK, bus)
    hands.tap("south")
    hands.said("no player is there")
    hands.tap("shoulder-left")
    hands.said("no player `nobody*` is there")


def test_no_bus_is_said_once(far: MakeFar, tmp_path: Path) -> None:
    hands = far(DESK, {"DBUS_SESSION_BUS_ADDRESS": f"unix:path={tmp_path}/none"})
    hands.tap("south")
    hands.said("no session bus")
    hands.tap("south")
    hands.look(1.0)
    assert len(hands.notes) == 1


STUBBORN = """
import os, sys
from jeepney import new_error, new_method_return
from jeepney.bus_messages import message_bus
from jeepney.io.blocking import open_dbus_connection
line = open_dbus_connection(bus="SESSION")
line.send_and_get_reply(message_bus.RequestName("org.mpris.MediaPlayer2.stubborn"))
print("there", flush=True)
while True:
    message = line.receive()
    if sys.argv[1] == "refuses":
        line.send(new_error(message, "org.example.No"))
    elif sys.argv[1] == "lies":
        line.send(new_method_return(message, "s", ("x" * 100000,)))
"""


@pytest.mark.parametrize("how", ["refuses", "lies", "hangs"])
def test_a_player_that_does_not_play_by_the_rules(bus: dict[str, str], far: MakeFar, tmp_path: Path, how: str) -> None:
    import sys

    with (
        program(sys.executable, "-c", STUBBORN, how, env=bus),
        playing(bus, sound_file(tmp_path / "tone.wav", 120)) as name,
    ):
        wait_for(lambda: any("stubborn" in one for one in names(bus)), "the stubborn player")
        hands = far(DESK, bus)
        hands.tap("mode")
        hands.tap("east")
        hands.until(lambda: status(bus, name) == "Paused", "the other one does what it is told")
