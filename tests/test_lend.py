"""Surfaces of another computer: two Fenkos with a real broker between them, over TLS, with rights; and the way that changes take,
with loss, delay and disorder."""

from __future__ import annotations

import contextlib
import json
import os
import random
import signal
import socket
import subprocess
import time
from collections.abc import Iterator
from math import inf
from pathlib import Path
from typing import Any

import pytest
import trustme
from hypothesis import given, settings
from hypothesis import strategies as st

from boards import CONTROLS, Board
from ends import FarDesk, MakeFar, far, free_port, needed, program, there
from fenko.core.controls import SORTS
from fenko.core.engine import Engine
from fenko.core.flow import off_rest
from fenko.core.inputs import Raw
from fenko.desk.compiled import compiled
from fenko.desk.load import load_desk
from fenko.integrations.lending.protocol import GONE, MOST_IN_PACKET, Lending, Offer, Taking, read_offer
from fenko.integrations.lending.transport import LentWay
from fenko.live.announcing import _read
from fenko.live.inbox import Inbox
from fenko.live.linked import Linked
from fenko.live.loop import Timer
from started import Started, run_fenko
from support import FENKO, MakeDesk, Run, tries, wait_for

__all__ = ["far"]
needs_broker = needed("mosquitto", "mosquitto_sub", "mosquitto_pub", "mosquitto_passwd")
RIGHTS = """
user moth
topic readwrite bench/#
pattern read +/+/offer
pattern read +/+/for/%u
pattern write +/+/by/%u
"""
HERE = """
format = 1
name = "the other table"
[surface.bench]
kind = "board"
links = ["serial {device}"]
names = {{ red = "take" }}
[surface.bench.control]
{controls}"""
THERE = """
[mqtt.house]
url = "mqtts://localhost:{port}"
user = "{user}"
password = {{ file = "{folder}/{user}.password" }}
ca = "{folder}/ca.pem"
[surface.far]
kind = "board"
links = ["mqtt bench/bench"]
network.latest = "5s"
[surface.far.control]
{controls}[value.exposure]
[profile.base.on.far]
red = "ctrl+t"
green = "lamp red on then rumble 60% then display \\"Reel 2\\""
knob = "value exposure follow"
dial.left = "left"
dial.right = "right"
"""


class House:
    """A broker with TLS, three people who have passwords, and the rights of each."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.port = free_port()
        self._stack, self._lenders = contextlib.ExitStack(), contextlib.ExitStack()
        authority = trustme.CA()
        server = authority.issue_cert("localhost", "127.0.0.1")
        authority.cert_pem.write_to_path(folder / "ca.pem")
        server.private_key_pem.write_to_path(folder / "server.key")
        server.cert_chain_pems[0].write_to_path(folder / "server.pem")
        (folder / "rights").write_text(RIGHTS)
        (folder / "passwords").write_text("")
        for user in ("moth", "ann", "eve"):
            (folder / f"{user}.password").write_text(f"{user}'s own")
            (folder / f"{user}.password").chmod(0o600)
            subprocess.run(["mosquitto_passwd", "-b", folder / "passwords", user, f"{user}'s own"], check=True)
        lines = [
            f"listener {self.port} 127.0.0.1", "user root", "allow_anonymous false", f"cafile {folder}/ca.pem",
            f"certfile {folder}/server.pem", f"keyfile {folder}/server.key", f"password_file {folder}/passwords",
            f"acl_file {folder}/rights",
        ]  # fmt: skip
        (folder / "broker.conf").write_text("\n".join(lines) + "\n")

    def start(self) -> None:
        """It answers."""
        self._stack.enter_context(program("mosquitto", "-c", str(self.folder / "broker.conf")))
        wait_for(there(self._answers), "the broker")

    def _answers(self) -> bool:
        return (
            subprocess.run(
                self.client("mosquitto_pub", "moth", "-t", "bench/nothing", "-n"), capture_output=True
            ).returncode
            == 0
        )

    def stop(self) -> None:
        """It is gone."""
        subprocess.run(["pkill", "-KILL", "-f", str(self.folder / "broker.conf")], check=False)
        self._stack.close()

    def close(self) -> None:
        """Nobody lends anything any more, either."""
        self._lenders.close()
        self.stop()

    def client(self, command: str, user: str, *more: str) -> list[str]:
        """Its own client, as one of them."""
        tls = ["--cafile", str(self.folder / "ca.pem"), "-u", user, "-P", f"{user}'s own"]
        return [command, "-h", "localhost", "-p", str(self.port), *tls, *more]

    def lend(self, desk: Path, *more: str) -> tuple[Started, Path]:
        """`fenko lend bench`, and what it says."""
        said = self.folder / f"lend-{time.monotonic_ns()}"
        command = [
            "lend", "bench", "--to", f"mqtts://localhost:{self.port}/bench", "--user", "moth", "--password-file",
            str(self.folder / "moth.password"), "--ca", str(self.folder / "ca.pem"), "--desk", str(desk), *more,
        ]  # fmt: skip
        process = Started(command, said)
        self._lenders.callback(_end, process)
        wait_for(lambda: b"Ctrl-C ends it" in said.read_bytes(), "it is lent")
        return process, said

    def there(self, user: str = "ann") -> str:
        """The desk of somebody who takes it."""
        return THERE.format(port=self.port, user=user, folder=self.folder, controls=CONTROLS)


def _end(process: Started) -> None:
    process.kill()
    process.wait()


@pytest.fixture
def house(tmp_path: Path) -> Iterator[House]:
    """A broker that runs."""
    folder = tmp_path / "house"
    folder.mkdir()
    made = House(folder)
    made.start()
    yield made
    made.close()


@pytest.fixture
def board(tmp_path: Path) -> Iterator[Board]:
    """A board on the lender's table, and the desk there."""
    made = Board(tmp_path / "board")
    made.plug_in()
    made.start()
    (tmp_path / "here").mkdir()
    (tmp_path / "here/desk.toml").write_text(HERE.format(device=made.device, controls=CONTROLS))
    yield made
    made.unplug()


def held(hands: FarDesk) -> bool:
    return ("keys", "t") in hands.engine.held


@needs_broker
def test_a_lent_surface_is_one_of_the_desk(house: House, board: Board, far: MakeFar, tmp_path: Path) -> None:
    _, said = house.lend(tmp_path / "here", "--for", "ann")
    hands = far(house.there())
    hands.said("surface far: here now, Bench box (mqtt bench/bench)")
    assert b"bench: taken by ann" in said.read_bytes()
    board.hands(red="1", knob="1023")
    hands.until(lambda: held(hands) and hands.engine.values["value", "exposure"] == 100)
    board.hands(knob="1023")
    hands.until(lambda: not held(hands))
    board.turn(3)
    hands.until(lambda: [effect[3] for effect in hands.sent if effect[2] == "down"].count("right") == 3)
    board.hands(green="1")
    hands.until(lambda: board.asked == ["lamp red on", "rumble 60 120", "text Reel 2"])
    hands.close()
    wait_for(lambda: board.asked[3:] == ["rest"], "all off there")
    wait_for(lambda: b"bench: ann: given back" in said.read_bytes(), "given back")


@needs_broker
@pytest.mark.parametrize(
    "how", ["broker killed", "lender killed", "lender stopped", "unplugged", "screen locked", "worker killed"]
)
def test_losing_the_line_is_an_unplug(house: House, board: Board, far: MakeFar, tmp_path: Path, how: str) -> None:
    process, _ = house.lend(tmp_path / "here")
    hands = far(house.there())
    hands.said("here now")
    board.hands(red="1")
    hands.until(lambda: held(hands))
    began = time.monotonic()
    match how:
        case "broker killed":
            house.stop()
        case "lender killed":
            process.kill()
        case "lender stopped":
            process.send_signal(signal.SIGSTOP)
        case "unplugged":
            board.unplug()
        case "screen locked":
            hands.lock()
        case _:
            os.kill(hands.workers, signal.SIGKILL)
    hands.until(lambda: not held(hands), "let go")
    if how == "lender stopped":
        # Nobody says anything: it is gone after a second.
        assert time.monotonic() - began > GONE * 0.9
        process.send_signal(signal.SIGCONT)
    board.hands()
    if how == "broker killed":
        house.start()
    elif how == "lender killed":
        house.lend(tmp_path / "here")
    elif how == "unplugged":
        board.plug_in()
        board.start()
    hands.until(lambda: hands.linked.present("far"), "back again")
    board.hands(red="1")
    hands.until(lambda: held(hands), "held again")


@needs_broker
def test_the_lamps_go_out_when_the_taker_is_gone(house: House, board: Board, far: MakeFar, tmp_path: Path) -> None:
    _, said = house.lend(tmp_path / "here")
    hands = far(house.there())
    hands.said("here now")
    board.hands(green="1")
    hands.until(lambda: "lamp red on" in board.told)
    os.kill(hands.workers, signal.SIGKILL)  # its broker says so in its place
    wait_for(lambda: "rest" in board.told, "out")
    wait_for(lambda: b"given back" in said.read_bytes(), "given back")


@needs_broker
def test_who_may_not_gets_nothing(house: House, board: Board, far: MakeFar, tmp_path: Path) -> None:
    """Eve has a password, but nobody lends her anything: not by Fenko, not by listening, not in Ann's name."""
    house.lend(tmp_path / "here", "--for", "ann")
    spied = tmp_path / "spied"
    with (
        spied.open("wb") as out,
        program(*house.client("mosquitto_sub", "eve", "-v", "-t", "#", "-t", "bench/bench/for/ann"), stdout=out),
    ):
        hands = far(house.there("eve"))
        hands.said("it is not lent to eve")
        subprocess.run(
            house.client("mosquitto_pub", "eve", "-t", "bench/bench/by/ann", "-m", '{"take": true, "session": "x"}'),
            check=True,
        )
        board.hands(red="1", knob="1023")
        hands.look(1.0)
        assert not hands.linked.present("far")
        assert not held(hands)
    heard = spied.read_text()
    assert "bench/bench/offer" in heard
    assert "changes" not in heard


@needs_broker
def test_one_at_a_time_and_whatever_comes_by(house: House, board: Board, far: MakeFar, tmp_path: Path) -> None:
    """Somebody has it; and what others publish, or the broker, is read and does nothing."""
    process, said = house.lend(tmp_path / "here")
    hands = far(house.there())
    hands.said("here now")
    for topic, what in (
        ("by/ann", '{"session": "other", "do": ["lamp", "red", "on"]}'), ("by/ann", "[" * 5000), ("by/ann", '{"do": 3, "ack": "x"}'),
        ("by/eve", '{"take": true, "session": "s"}'), ("by/eve", "\xff\xfe"), ("for/ann", '{"session": 1, "changes": [[0, "red", 1]]}'),
        ("for/ann", "null"), ("by/eve/x", "{}"),
    ):  # fmt: skip
        subprocess.run(house.client("mosquitto_pub", "moth", "-t", f"bench/bench/{topic}", "-m", what), check=True)
    board.hands(red="1")
    hands.until(lambda: held(hands))
    assert board.asked == []
    assert process.poll() is None
    assert b"Traceback" not in said.read_bytes()
    subprocess.run(
        house.client("mosquitto_pub", "moth", "-r", "-t", "bench/bench/offer", "-m", '{"fenko": 1}'), check=True
    )
    hands.until(lambda: not held(hands), "what is offered now is no surface")


def test_bad_addresses_are_told(tmp_path: Path) -> None:
    (tmp_path / "desk.toml").write_text('format = 1\n[surface.pad]\nkind = "gamepad"\n')
    for where, words in (
        ("http://x", "is no broker"), ("mqtts://u:p@x", "seen by everybody"), ("mqtts://x/a b", "cannot be a topic"), ("home", "no [mqtt.home]"),
        ("mqtts://x:99999", "--to"),
    ):  # fmt: skip
        run = run_fenko("lend", "pad", "--to", where, "--desk", str(tmp_path))
        assert run.returncode == 2, run.stderr
        assert words in run.stderr
    run = run_fenko("lend", "pat", "--to", "mqtt://x", "--desk", str(tmp_path))
    assert (run.returncode, "`pat`" in run.stderr) == (2, True)


# --- The way of changes, in virtual time ---

OFFER = Offer(
    "o", "A pad", "gamepad", {"south": "button", "east": "button", "knob": "fader", "dial": "dial", "stick": "stick"}
)
Move = tuple[float, str, int]
moves = st.lists(
    st.tuples(st.floats(0, 0.3), st.sampled_from(["south", "east", "knob", "dial", "stick.x"]), st.integers(-2, 2)),
    max_size=120,
)


def _value(control: str, number: int) -> Any:
    if control == "dial":
        return number or 1
    if control in ("knob", "stick.x"):
        least = 0 if control == "knob" else -2
        return Raw(max(least, number), least, 2)
    return number % 2


class Way:
    """Two ends in virtual time, with a line between them that loses, delays and changes the order of packets."""

    def __init__(self, chance: random.Random, loss: float, delay: float, latest: float, apart: float) -> None:
        self.chance, self.loss, self.delay, self.apart = chance, loss, delay, apart
        self.lending, self.taking = Lending("s"), Taking(OFFER, "s", latest)
        self.on_the_way: list[tuple[float, bool, Any]] = []
        self.arrived: list[tuple[float, str, Any, float]] = []
        self.now = 0.0

    def send(self, there: bool, what: Any) -> None:
        for _ in range(1 + (self.chance.random() < 0.05)):
            if self.chance.random() >= self.loss:
                self.on_the_way.append((self.now + self.chance.random() * self.delay, there, what))

    def hand(self, control: str, value: Any) -> None:
        self.lending.put(self.now + self.apart, [(self.now + self.apart, control, value)], frozenset({"dial"}))

    def pass_time(self, until: float) -> None:
        while True:
            due = min([self.lending.due - self.apart, *(t for t, _, _ in self.on_the_way)])
            if due > until:
                self.now = until
                return
            self.now = max(self.now, due)
            if self.lending.due - self.apart <= self.now:
                self.send(True, self.lending.packet(self.now + self.apart))
            for packet in [one for one in self.on_the_way if one[0] <= self.now]:
                self.on_the_way.remove(packet)
                if packet[1]:
                    changes = self.taking.feed(self.now, packet[2])
                    assert changes is not None
                    self.arrived += [(t, control, value, self.now) for t, control, value in changes]
                    self.send(False, self.taking.next)
                else:
                    self.lending.arrived(packet[2])


def travel(
    hands: list[tuple[float, str, int]], seed: int, loss: float, delay: float, latest: float, apart: float
) -> tuple[Way, list[Any]]:
    way = Way(random.Random(seed), loss, delay, latest, apart)
    done: list[tuple[float, str, Any]] = []
    t = 0.0
    for pause, control, number in hands:
        t += pause
        way.pass_time(t)
        value = _value(control, number)
        done.append((t, control, value))
        way.hand(control, value)
    way.pass_time(t + 60)
    return way, done


@settings(max_examples=tries(300))
@given(moves, st.integers(0, 1 << 30), st.floats(0, 0.5), st.floats(0, 0.2), st.floats(-1e6, 1e6))
def test_nothing_is_stuck_and_the_order_of_the_hand_is_kept(
    hands: list[tuple[float, str, int]], seed: int, loss: float, delay: float, apart: float
) -> None:
    way, done = travel(hands, seed, loss, delay, 0.15, apart)
    stands: dict[str, Any] = {}
    for _, control, value in done:
        if control != "dial":
            stands[control] = value
    arrives: dict[str, Any] = {}
    for _, control, value, _ in way.arrived:
        if control != "dial":
            arrives[control] = value
    for control, value in stands.items():
        if not off_rest(value):
            assert not off_rest(arrives.get(control, 0)), "nothing is stuck"
        elif control == "knob":
            assert arrives[control] == value, "what rests nowhere comes to where it is"
    # In order, a part of what was done.
    left = iter([(control, value) for _, control, value in done])
    overflowed = len(done) > MOST_IN_PACKET
    assert overflowed or all((control, value) in left for _, control, value, _ in way.arrived)
    times = [t for t, _, _, _ in way.arrived]
    assert times == sorted(times)
    assert all(t <= at + 1e-6 for t, _, _, at in way.arrived), "nothing happens before it is known"
    # What was too late began nothing.
    assert way.taking.due == inf or any(off_rest(value) and control != "knob" for control, value in stands.items())


@settings(max_examples=tries(150))
@given(moves, st.integers(0, 1 << 30), st.floats(0, 0.1))
def test_on_a_good_line_all_arrives_at_the_times_of_the_hand(hands: list[Move], seed: int, delay: float) -> None:
    way, done = travel(hands, seed, 0.0, delay, 0.15, 12345.678)
    said = [(control, value) for _, control, value in done if not _idle(control, value, done)]
    assert len(way.arrived) <= len(done)
    if all(pause > 0.0 for pause, _, _ in hands) and len(hands) < MOST_IN_PACKET:
        for t, control, value, _ in way.arrived:
            # Out by how much slower than the fastest it was until then, and no more.
            assert any(c == control and v == value and -1e-6 <= t - began <= delay + 1e-6 for began, c, v in done)
    assert {control for _, control, _, _ in way.arrived} <= {control for control, _ in said} | {
        "knob",
        "stick.x",
        "south",
        "east",
    }


def _idle(control: str, value: Any, done: list[Any]) -> bool:
    return control != "dial" and not off_rest(value)


def test_a_press_that_is_too_late_begins_nothing_and_an_end_always_counts() -> None:
    taking = Taking(OFFER, "s", 0.15)

    def packet(at: float, first: int, *changes: list[Any]) -> dict[str, Any]:
        return {"session": "s", "at": at, "first": first, "changes": list(changes), "before": {}}

    assert taking.feed(100.0, packet(0.0, 0)) == []
    assert taking.feed(100.2, packet(0.2, 0, [0.2, "south", 1])) == [(100.2, "south", 1)]
    # Three seconds in which nothing came, and then all at once.
    late = packet(3.0, 1, [0.5, "south", 0], [0.6, "south", 1], [0.7, "dial", 5], [0.8, "south", 0], [2.9, "east", 1])
    assert taking.feed(103.2, late) == [(100.5, "south", 0)]
    assert taking.too_late == 3
    assert taking.feed(103.3, packet(3.25, 6, [3.2, "east", 0], [3.24, "east", 1])) == [(103.24, "east", 1)]


def test_nothing_is_too_late_in_the_first_second() -> None:
    """The first packet was quick; those after it took their time, until the line was used to."""
    taking = Taking(OFFER, "s", 0.15)
    packet = {"session": "s", "at": 0.0, "first": 0, "changes": [], "before": {}}
    assert taking.feed(100.0, packet) == []
    late = packet | {"at": 0.1, "changes": [[0.1, "south", 1], [0.12, "south", 0]]}
    assert taking.feed(100.9, late) == [(100.1, "south", 1), (100.1, "south", 0)] and taking.too_late == 0
    later = packet | {"at": 1.0, "first": 2, "changes": [[1.0, "south", 1]]}
    assert taking.feed(101.9, later) == [] and taking.too_late == 1


def test_what_does_not_fit_is_told_as_it_stands() -> None:
    lending, taking = Lending("s"), Taking(OFFER, "s", 0.15)
    lending.put(0.0, [(0.0, "south", 1)])
    assert taking.feed(0.0, lending.packet(0.0)) == [(0.0, "south", 1)]
    lending.put(0.1, [(0.1, "knob", Raw(number % 3, 0, 2)) for number in range(2 * MOST_IN_PACKET)])
    lending.put(0.2, [(0.2, "south", 0)])
    lending.put(0.3, [(0.3, "knob", Raw(number % 3, 0, 2)) for number in range(2 * MOST_IN_PACKET)])
    arrived = taking.feed(0.31, lending.packet(0.31))
    assert arrived is not None
    assert (0.31, "south", 0) in arrived
    assert arrived[-1][1:] == ("knob", Raw((2 * MOST_IN_PACKET - 1) % 3, 0, 2))


_DATA = st.recursive(
    st.one_of(
        st.none(), st.booleans(), st.integers(), st.floats(), st.sampled_from(["s", "south", "knob", "o", "", "x"])
    ),
    lambda inner: (
        st.lists(inner, max_size=4)
        | st.dictionaries(
            st.sampled_from(["session", "at", "first", "changes", "before", "fenko", "controls", "title", "kind"]),
            inner,
            max_size=8,
        )
    ),
    max_leaves=20,
)


@settings(max_examples=tries(600))
@given(st.lists(_DATA, max_size=8), st.data())
def test_whatever_a_peer_says_only_controls_of_the_surface_change(packets: list[Any], data: st.DataObject) -> None:
    taking = Taking(OFFER, "s", 0.15)
    good = {
        "session": "s",
        "at": 1.0,
        "first": 0,
        "changes": [[0.5, "south", 1], [0.6, "knob", 1, 0, 2], [0.7, "dial", -2]],
        "before": {},
    }
    for packet in packets:
        if data.draw(st.booleans()):
            packet = good | {data.draw(st.sampled_from([*good])): packet}
        read_offer(packet)
        for t, control, value in taking.feed(2.0, packet) or []:
            assert t <= 2.0
            shape = SORTS[OFFER.sorts[control.partition(".")[0]]]
            assert isinstance(value, Raw) == bool(shape.axes) or not shape.axes or value in (0, 1)


# --- Gestures, whose times are those of the hand ---


class Table:
    """A desk whose clock is this test's, with a surface that is elsewhere."""

    def __init__(self, folder: Path) -> None:
        text = "\n".join(
            ["format = 1", "[surface.far]", 'kind = "gamepad"', 'links = ["mqtt bench/pad"]', "[profile.base.on.far]",
             'south = { tap = "a", hold = "b" }', 'east = { tap = "c", double = "d" }', 'stick-left = "pointer 900"']
        )  # fmt: skip
        (folder / "desk.toml").write_text(text)
        self.desk = compiled(load_desk(folder))
        self.timers: dict[Timer, float] = {}
        self.sent: list[str] = []
        self.inbox = Inbox(Engine(self.desk.plan), self, self._send, lambda: None)  # type: ignore[arg-type]
        self.linked = Linked(self.desk.plan.surfaces, self.inbox.put, lambda note: None)
        self.linked.latest = self.desk.latest
        self.inbox.horizon = self.linked.horizon
        self.linked.here("far", "mqtt bench/pad", {})

    def timer(self, tick: Any) -> Timer:
        return Timer(self.timers, tick)

    def _send(self, effects: Any) -> None:
        self.sent += [effect[3] for effect in effects if effect[1:3] == ("keys", "down")]

    def pass_time(self, now: float) -> None:
        while self.timers and min(self.timers.values()) <= now:
            timer, due = min(self.timers.items(), key=lambda one: one[1])
            timer.set(inf)
            timer.tick(due)


@settings(max_examples=tries(200))
@given(
    hands=st.lists(
        st.tuples(st.sampled_from(["south", "east"]), st.floats(0.01, 0.5), st.floats(0.01, 0.6)),
        min_size=1,
        max_size=6,
    ),
    chance=st.randoms(use_true_random=False),
    jitter=st.floats(0, 0.12),
)
def test_jitter_makes_no_difference_to_gestures(
    hands: list[tuple[str, float, float]],
    chance: random.Random,
    jitter: float,
    tmp_path_factory: pytest.TempPathFactory,
) -> None:
    """What hands do elsewhere arrives late, now more, now less, as long as it is no later than is accepted: the same comes of it."""
    events: list[tuple[float, str, int]] = []
    t = 100.0
    for control, press, pause in hands:
        events += [(t, control, 1), (t + press, control, 0)]
        t += press + pause
    real, clock = time.monotonic, [99.0]
    time.monotonic = lambda: clock[-1]
    try:
        table = Table(tmp_path_factory.mktemp("table"))
    finally:
        time.monotonic = real
    wanted = Engine(table.desk.plan)
    expected = [one for at, control, value in events for one in wanted.feed((at, f"far.{control}", value))]
    expected += wanted.advance(t + 5)
    # What is known, and when: packets with changes, and beats between them, each late by something, and in order.
    known = sorted({*(at for at, _, _ in events), *(100 + 0.02 * beat for beat in range(int((t - 100 + 2) / 0.02)))})
    arrives = 0.0
    table.linked.until["far"] = 0.0
    time.monotonic = lambda: clock[-1]
    try:
        for at in known:
            arrives = max(arrives, at + chance.random() * jitter)
            clock.append(arrives)
            table.pass_time(arrives)
            changes = [(when, control, value) for when, control, value in events if when == at]
            if changes:
                table.linked.changes("far", changes)
            table.linked.until["far"] = at
        clock.append(arrives + 5)
        table.pass_time(arrives + 5)
    finally:
        time.monotonic = real
    assert table.sent == [effect[3] for effect in expected if effect[1:3] == ("keys", "down")]


# --- On the local network ---


def multicast() -> bool:
    """Whether what is told a group on this machine's network is heard there."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
        line.settimeout(2)
        try:
            line.bind(("", 0))
            line.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, socket.inet_aton("224.0.0.251") + bytes(4))
            line.sendto(b"here", ("224.0.0.251", line.getsockname()[1]))
            return line.recv(16) == b"here"
        except OSError:
            return False


@pytest.mark.skipif(not multicast(), reason="needs a network interface that takes multicast (mDNS)")
def test_a_lent_surface_is_found_where_that_is_wanted(fenko: Run, make_desk: MakeDesk, tmp_path: Path) -> None:
    desk = make_desk('[surface.pad]\nkind = "gamepad"\nlinks = ["usb 1209:4d50"]\n')
    said = tmp_path / "said"
    with said.open("wb") as out:
        command = [
            *FENKO,
            "lend",
            "pad",
            "--to",
            f"mqtt://127.0.0.1:{free_port()}/bench",
            "--announce",
            "--desk",
            str(desk),
        ]
        process = subprocess.Popen(command, stderr=out)
    try:
        wait_for(lambda: "The local network is told" in said.read_text(), f"told: {said.read_text()}")
        found = wait_for(lambda: json.loads(fenko("devices", "--network", "--format", "json").stdout), "found")
        assert {(one["name"], one["link"], one["kind"]) for one in found} == {("pad", "mqtt bench/pad", "gamepad")}
        process.send_signal(signal.SIGINT)
        assert process.wait(20) == 0
    finally:
        _end(process)


def test_without_the_library_it_is_said_what_helps(fenko: Run, tmp_path: Path) -> None:
    (tmp_path / "zeroconf.py").write_text("raise ImportError\n")
    done = fenko("devices", "--network", PYTHONPATH=str(tmp_path))
    assert (done.returncode, "pip install fenko[network]" in done.stderr) == (1, True)


@given(
    st.dictionaries(
        st.sampled_from([b"topic", b"broker", b"title", b"kind"]), st.one_of(st.none(), st.binary(max_size=300))
    )
)
def test_whatever_the_network_says_is_a_plain_text_or_nothing(said: dict[bytes, bytes | None]) -> None:
    found = _read(said)
    assert found is None or (
        found.broker.startswith("mqtt") and found.topic.isprintable() and found.title.isprintable()
    )


class NoBroker:
    """A line to a broker on which nothing goes wrong, and nothing arrives."""

    gone = False

    def publish(self, topic: str, payload: bytes, sure: bool = False, keep: bool = False) -> None:
        """It goes nowhere."""


def test_a_flood_is_read_in_pieces_and_what_came_of_it_is_told_in_between() -> None:
    """Who publishes without end would otherwise keep everything else from being heard."""
    entry = {
        "mqtt brokers": {"house": {"url": "mqtt://h", "user": "ann"}},
        "latest": 0.5,
        "folder": Path(),
        "kind": "gamepad",
    }
    way = LentWay("mqtt bench/pad", entry, lambda: None, lambda text: None)
    way._line = NoBroker()  # type: ignore[assignment]
    way._hear("bench/pad/offer", json.dumps(OFFER.as_data()).encode())
    assert way.hear(time.monotonic()) == []
    session = way._taking.session if way._taking is not None else ""

    def says(first: int, *changes: list[Any]) -> None:
        packet = {"session": session, "at": time.monotonic(), "first": first, "changes": list(changes), "before": {}}
        way._hear("bench/pad/for/ann", json.dumps(packet).encode())

    says(0)
    way.hear(time.monotonic())
    assert way.what is not None
    way.hear(time.monotonic())
    says(0, [time.monotonic(), "south", 1])
    for _ in range(3000):
        way._hear("bench/pad/for/ann", b'{"x": [1, 2, 3]}')
    assert [sent[1:] for sent in way.hear(time.monotonic())] == [("south", 1)]
    assert way.due <= time.monotonic(), "and it goes on at once"
    rounds = 0
    while way._came:
        way.hear(time.monotonic())
        rounds += 1
    assert rounds >= 10
