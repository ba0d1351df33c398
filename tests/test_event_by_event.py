"""What real servers got, compared with the rehearsal's timeline of the same hands, event by event and not by how it ended."""

from __future__ import annotations

import contextlib
import re
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from random import Random

import pytest

from ends import FarDesk, MakeFar, ended_once, far, free_port, jack, needed, patient_jack, program, there
from fenko.core.changes import Change, Effect, Moving
from fenko.core.rehearsal import rehearse
from support import wait_for
from test_midi import Monitor, monitor
from test_osc import asked

__all__ = ["far", "jack", "monitor"]

DESK = """
[midi.stage]
port = "monitor*"
[osc.engine]
to = "udp 127.0.0.1:{osc}"
[mqtt.house]
url = "mqtt://127.0.0.1:{mqtt}"
[profile.base.on.pad]
south = "midi cc 20 to 127 then midi cc 20 to 0"
east = "osc /go 1.0 then osc /go 0.0"
west = 'publish "t" "1" then publish "t" "0"'
north = "midi cc 0 to 1 then midi program 5 then midi cc 0 to 2 then midi program 6"
start = "midi cc 99 to 1 then midi cc 98 to 2 then midi cc 6 to 3 then midi cc 99 to 1 then midi cc 98 to 4 then midi cc 6 to 5"
select = {{ press = "midi cc 21 to 127", release = "midi cc 21 to 0" }}
mode = "midi note c4"
shoulder-left = 'publish "n" to 40 then publish "n" to 20 then osc /n to 0.25 then osc /n to 0.75'
shoulder-right = {{ press = "osc /held 1.0", release = "osc /held 0.0" }}
trigger-right = {{ do = "midi cc 74 follow", spring = true }}
"""
BUTTONS = ("south", "east", "west", "north", "start", "select", "mode", "shoulder-left", "shoulder-right")


class Servers:
    """What JACK, a sound engine and a broker got, as each of them, or its own client, writes it down."""

    def __init__(self, folder: Path, monitor: Monitor) -> None:
        self.osc_port, self.mqtt_port = free_port(socket.SOCK_DGRAM), free_port()
        self._monitor = monitor
        self._osc, self._mqtt = folder / "osc", folder / "mqtt"

    @property
    def midi(self) -> list[str]:
        return self._monitor.heard

    @property
    def osc(self) -> list[tuple[str, float]]:
        """`[ "/go", 1 ]`, as scsynth prints each message."""
        found = re.findall(r'\[ "(/(?:go|n|held))", ([-0-9.]+) \]', self._osc.read_text(errors="replace"))
        return [(address, float(number)) for address, number in found]

    @property
    def mqtt(self) -> list[str]:
        return [line for line in self._mqtt.read_text().splitlines() if line != "ready ?"]

    @contextlib.contextmanager
    def running(self, env: dict[str, str], folder: Path) -> Iterator[None]:
        conf = folder / "broker.conf"
        conf.write_text(f"listener {self.mqtt_port} 127.0.0.1\nuser root\nallow_anonymous true\n")
        engine = ("scsynth", "-u", str(self.osc_port), "-B", "127.0.0.1", "-i", "0", "-o", "2", "-R", "0", "-l", "4")
        with contextlib.ExitStack() as stack:
            stack.enter_context(program("mosquitto", "-c", str(conf)))
            stack.enter_context(
                program("stdbuf", "-oL", *engine, env=env, stdout=stack.enter_context(self._osc.open("wb")))
            )
            wait_for(there(lambda: asked(self.osc_port, "/status")), "the sound engine answers")
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
                line.sendto(b"/dumpOSC\0\0\0\0,i\0\0\0\0\0\1", ("127.0.0.1", self.osc_port))
            wait_for(
                there(lambda: socket.create_connection(("127.0.0.1", self.mqtt_port), 1).close() or True), "the broker"
            )
            out = stack.enter_context(self._mqtt.open("wb"))
            stack.enter_context(program("mosquitto_sub", "-p", str(self.mqtt_port), "-v", "-t", "#", stdout=out))
            knock = ("mosquitto_pub", "-p", str(self.mqtt_port), "-t", "ready", "-m", "?")
            wait_for(lambda: subprocess.run(knock).returncode == 0 and self._mqtt.read_text(), "the broker's client")
            yield


def timeline(hands: FarDesk, changes: list[Change]) -> list[Effect]:
    return [effect for effects in rehearse(hands.engine.plan, changes) for effect in effects]


def played(hands: FarDesk, changes: list[Change], address: str, value: float) -> None:
    """One change, as hands and the rehearsal get it."""
    change: Change = (time.monotonic(), address, value)
    changes.append(change)
    hands.session.inbox.put([change])


@needed("jackd", "scsynth", "mosquitto", "mosquitto_sub")
@patient_jack
@pytest.mark.parametrize("seed", range(3))
def test_every_event_of_the_timeline_reaches_its_server(
    seed: int, jack: dict[str, str], far: MakeFar, monitor: Monitor, tmp_path: Path
) -> None:
    servers, random, changes = Servers(tmp_path, monitor), Random(seed), list[Change]()
    with servers.running(jack, tmp_path):
        hands = far(DESK.format(osc=servers.osc_port, mqtt=servers.mqtt_port), jack)
        hands.until(lambda: hands.facts["midi"]["stage"]["to"] == ["monitor:in"], "connected")
        down: set[str] = set()
        for _ in range(60):
            control = random.choice(BUTTONS)
            played(hands, changes, f"pad.{control}", float(control not in down))
            down ^= {control}
            if random.random() < 0.2:
                played(hands, changes, "pad.trigger-right", round(random.random(), 2))
            if random.random() < 0.5:
                hands.look(random.choice((0.0, 0.001, 0.02)))
        for control in sorted(down):
            played(hands, changes, f"pad.{control}", 0.0)
        told = timeline(hands, changes)
        midi = [(bytes(effect[4]).hex(" "), effect) for effect in told if effect[1] == "midi"]
        osc = [((effect[4], *effect[5]), effect) for effect in told if effect[1] == "osc"]
        mqtt = [(f"{effect[3]} {effect[4]}", effect) for effect in told if effect[1] == "mqtt"]
        with contextlib.suppress(AssertionError):
            hands.until(lambda: servers.midi[-1:] == [midi[-1][0]] and len(servers.osc) >= len(osc), "all")
            hands.until(lambda: len(servers.mqtt) >= len(mqtt), "all")
        assert servers.midi == without_thinned(ended_once(midi, lambda one: one[0]), servers.midi)
        assert servers.osc == [what for what, _ in osc]
        assert servers.mqtt == [what for what, _ in mqtt]


def without_thinned(told: list[tuple[str, Effect]], got: list[str]) -> list[str]:
    """The timeline without numbers that moved on before a slow server took them: those that another one follows with nothing
    else between, and that are missing."""
    found: list[str] = []
    for number, (what, effect) in enumerate(told):
        moved_on = number + 1 < len(told) and isinstance(effect, Moving) and isinstance(told[number + 1][1], Moving)
        if not (moved_on and got[len(found) : len(found) + 1] != [what]):
            found.append(what)
    return found
