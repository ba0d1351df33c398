"""What must not end a running desk, hold it up, or end in silence: whatever comes from outside, a terminal that is stopped,
errors that nobody expected."""

from __future__ import annotations

import contextlib
import os
import pty
import re
import select
import signal
import socket
import subprocess
import termios
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any, get_args

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

import fenko
from boards import Board
from ends import MakeFar, far
from fenko.core.changes import Change, Effect
from fenko.core.controls import PLAIN_SORTS, SORTS, inputs_of
from fenko.core.engine import Engine
from fenko.core.inputs import Inputs, Raw
from fenko.core.phrase import parse_phrase
from fenko.core.plan import BASE, Binding, Cell, Level, Plan, Profile, Surface
from fenko.core.verbs import OUTPUTS
from fenko.live.aside import Aside, Unexpected
from fenko.live.inbox import Inbox
from fenko.live.linked import Linked
from fenko.live.loop import Loop
from fenko.outputs.begun import Begun
from fenko.outputs.messages import FromDesk, FromWorkers, NumberIs, SetByPeer
from fenko.outputs.port import Settings
from fenko.outputs.workers_port import WorkersListener, WorkersPort
from fenko.system.parent_process import ParentProcess
from fenko.system.pauses import STEADY, Pauses
from fenko.system.trouble import described
from fenko.system.wire import MessageReader
from fenko.workers.lane import Lane, Line, Telling
from fenko.workers.worker import Worker
from running import Running, press, take
from screen import Screen, needs_screen
from support import FENKO, MakeDesk, wait_for

__all__ = ["far"]

# --- What surfaces send ---

_VALUES: list[Any] = [0, 1, -1, 7, 0.5, 1000, Raw(5, 0, 10), Raw(0, 0, 0), Raw(-3, -10, 10)]


def _desk_with(sort: str) -> Plan:
    """A board whose control the desk has as this sort, bound in every way that it can be."""
    surface = Surface("bench", "board", shapes={"one": SORTS[sort]} if sort else {})
    addresses = [f"bench.one.{cell}" if cell else "bench.one" for cell in SORTS[sort].cells or ("",)] if sort else []
    cells = tuple(Cell(address, BASE, press=Binding(parse_phrase("a"))) for address in addresses)
    level = Level(BASE, {"bench.one": cells} if cells else {})
    return Plan({"bench": surface}, {BASE: Profile(BASE, (), (level,), {})})


@pytest.mark.parametrize("declared", ["", *PLAIN_SORTS])
@pytest.mark.parametrize("sent", list(PLAIN_SORTS))
def test_a_control_of_another_sort_than_the_desk_says_is_left_out_and_noted(declared: str, sent: str) -> None:
    plan = _desk_with(declared)
    engine, notes, fed = Engine(plan), list[str](), list[Change]()

    def feed(changes: Sequence[Change]) -> None:
        conditioned = Inputs(plan.surfaces).conditioned
        for change in changes:
            fed.append(change)
            engine.feed(conditioned(change))

    linked = Linked(plan.surfaces, feed, notes.append)
    linked.here("bench", "serial x", {"title": "Bench"})
    before = len(fed)
    for part in inputs_of("one", SORTS[sent]):
        for value in _VALUES:
            linked.changes("bench", [(time.monotonic(), part, value)])
    engine.release_all(time.monotonic())
    assert not engine.held
    if declared == sent:
        assert len(fed) > before
    elif any(SORTS[sent].axes) or any(SORTS[declared].axes if declared else ()):
        assert any("`one` sends" in note for note in notes)


@given(st.lists(st.tuples(st.sampled_from(["one", "one.x", "one.left", "two.y", "", ".", "one.x.y"]), st.sampled_from(_VALUES))),
       st.sampled_from(["", *PLAIN_SORTS]))  # fmt: skip
def test_whatever_a_surface_sends_the_engine_goes_on(sent: list[tuple[str, Any]], declared: str) -> None:
    plan = _desk_with(declared)
    engine = Engine(plan)
    linked = Linked(plan.surfaces, lambda changes: [engine.feed(Inputs(plan.surfaces).conditioned(one)) for one in changes] and None, lambda text: None)  # fmt: skip
    linked.here("bench", "serial x", {"title": "Bench"})
    linked.changes("bench", [(float(n), control, value) for n, (control, value) in enumerate(sent)])
    engine.release_all(1e6)
    assert not engine.held


@needs_screen
def test_a_board_with_a_stick_that_the_desk_does_not_mention(tmp_path: Path, make_desk: MakeDesk) -> None:
    """The board's `lean` is a tilt; the desk says nothing of it, and has its knob as a button."""
    board = Board(tmp_path / "board")
    board.plug_in()
    board.start()
    screen = Screen()
    desk = make_desk(
        f'format = 1\n[surface.bench]\nkind = "board"\nlinks = ["serial {board.device}"]\n[surface.bench.control]\n'
        'knob.sort = "button"\nred.sort = "button"\n[profile.base.on.bench]\nknob = "a"\nred = "f9"\n'
    )
    try:
        running = Running(screen, tmp_path / "log", "--desk", str(desk))
        running.says("surface bench: here now")
        board.hands(knob="1023", lean="300 -200")
        running.says("`knob` sends positions, but the desk has it as a button")
        running.says("`lean` sends positions")
        board.hands(knob="1023", lean="300 -200", red="1")
        wait_for(screen.keys_down, "the red key")
        board.hands()
        wait_for(lambda: not screen.keys_down(), "it is let go")
        assert running.end() == 0
    finally:
        board.unplug()
        screen.close()


# --- What other programs send ---


def test_a_peer_that_says_a_state_that_is_none(far: MakeFar) -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as peer:
        peer.bind(("127.0.0.1", 0))
        hands = far(
            f'[value.level]\n[osc.o]\nto = "udp 127.0.0.1:{peer.getsockname()[1]}"\n'
            'hears = { "/s" = "state pad.mode", "/v" = "value level" }\n'
            '[profile.base.on.pad]\nmode = { in-turn = ["a", "b"], states = ["one", "two"] }\nsouth = "osc /hello 1"\n'
        )
        hands.tap("south")
        hands.until(lambda: select.select([peer], [], [], 0)[0])
        _, there = peer.recvfrom(1000)
        from fenko.integrations.osc.worker import message

        for number in (-5, 2, 2**31 - 1, float("nan"), float("inf"), 1):
            peer.sendto(message("/s", [number]), there)
            peer.sendto(message("/v", [number]), there)
        hands.until(lambda: hands.engine.states.get("base pad.mode.press") == "two", "the state that there is")
        assert hands.engine.values["value", "level"] == 1
        assert hands.workers and not any("has ended" in note for note in hands.notes)


_TELLINGS = st.one_of(
    st.tuples(st.sampled_from([*(one.__name__ for one in get_args(FromWorkers)), "x"]),
              st.lists(st.one_of(st.none(), st.integers(-(2**60), 2**60), st.floats(), st.text(max_size=5),
                                 st.lists(st.booleans(), max_size=3), st.dictionaries(st.text(max_size=3), st.booleans(), max_size=2)),
                       max_size=4)).map(lambda one: [one[0], *one[1]]),
    st.lists(st.integers(0, 9), max_size=2),
)  # fmt: skip


@given(st.lists(_TELLINGS, max_size=6))
def test_whatever_workers_send_is_a_message_or_an_error(tellings: list[list[Any]]) -> None:
    port = object.__new__(WorkersPort)
    port._warn, port.facts, port._begun, port._left, port.listener = lambda text: None, {}, Begun(), {}, _Plausible()
    port._send_beats = lambda seconds: None  # type: ignore[method-assign]
    for telling in tellings:
        body = msgspec.msgpack.encode(telling)
        reader = MessageReader(FromWorkers)
        reader.add(len(body).to_bytes(4, "big") + body)
        with contextlib.suppress(ValueError):
            for message in reader:
                port._on_message(message)


class _Plausible(WorkersListener):
    """Gets numbers that are in range, and no others."""

    def on_message(self, message: FromWorkers) -> None:
        if isinstance(message, NumberIs | SetByPeer):
            assert abs(message.number) < 1e15


# --- Errors that nobody expected ---


def test_an_error_says_what_and_where() -> None:
    with pytest.raises(KeyError) as found:
        Inputs({})["no.where"]
    assert described(found.value).startswith("KeyError: 'no' (core/inputs.py:")


def test_pauses_grow_and_begin_anew() -> None:
    pauses = Pauses(0.25, 2)
    assert [pauses.next(at) for at in (0.0, 1.0, 2.0, 3.0, 4.0)] == [0.25, 0.5, 1.0, 2.0, 2.0]
    assert pauses.next(10 + STEADY) == 0.25


def test_a_part_of_the_loop_that_fails_is_left_alone_for_a_while() -> None:
    with Loop() as loop:
        troubles: list[str] = []
        loop.trouble = lambda what, why: troubles.append(f"{what}: {why}")
        ours, theirs = socket.socketpair()
        ticks: list[float] = []

        def fails() -> None:
            raise ValueError("no such thing")

        def tick(now: float) -> None:
            ticks.append(now)
            if len(ticks) < 40:
                timer.set_in(0.01)
            else:
                loop.stop()

        timer = loop.timer(tick)
        timer.set_in(0.0)
        loop.add(ours.fileno(), fails)
        loop.soon(fails)
        theirs.send(b"x")
        loop.run()
        ours.close()
        theirs.close()
        assert troubles[0] == "an event: no such thing"
        assert 1 <= troubles.count("a source: no such thing") <= 2
        assert len(ticks) == 40


def test_an_error_in_the_engine_lifts_everything_and_it_goes_on(monkeypatch: pytest.MonkeyPatch) -> None:
    level = Level(BASE, {f"pad.{name}": (Cell(f"pad.{name}", BASE, press=Binding(parse_phrase(key))),)
                         for name, key in (("south", "a"), ("east", "b then wait 100ms then c"))})  # fmt: skip
    plan = Plan({"pad": Surface("pad", "gamepad")}, {BASE: Profile(BASE, (), (level,), {})})
    with Loop() as loop:
        engine, sent, failures = Engine(plan), list[Effect](), list[str]()
        inbox = Inbox(engine, loop, sent.extend, lambda: None)
        inbox.failed = lambda why: failures.append(str(why))
        inbox.put([(0.0, "pad.south", 1)])
        with monkeypatch.context() as broken:
            broken.setattr(type(engine._runs), "start", _fails)
            inbox.put([(1.0, "pad.east", 1)])
        assert failures == ["broken"]
        assert [effect[1:] for effect in sent] == [("keys", "down", "a"), ("keys", "up", "a")]
        sent.clear()
        inbox.put([(2.0, "pad.south", 0), (3.0, "pad.south", 1)])
        assert [effect[1:] for effect in sent] == [("keys", "down", "a")]


def _fails(*_: Any, **__: Any) -> None:
    raise ValueError("broken")


class _Fails:
    """Somebody who is asked beside the loop, and fails."""

    def __init__(self) -> None:
        self.fd, self.theirs = os.pipe()

    def read(self) -> None:
        raise ZeroDivisionError("no")

    def close(self) -> None:
        os.close(self.fd)
        os.close(self.theirs)


def test_who_fails_beside_the_loop_says_how() -> None:
    aside = Aside[None](_Fails())
    wait_for(lambda: select.select([aside.fd], [], [], 0)[0], "it says so")
    with pytest.raises(Unexpected, match="ZeroDivisionError: no"):
        aside.read()
    aside.close()


class _Sensitive(Worker):
    """Fails when it is told which window is active."""

    opened = 0

    def open(self) -> None:
        self.opened += 1

    def send(self, effects: Sequence[Effect]) -> None:
        if effects[0][2] == "boom":
            raise ValueError("of this effect")


def test_a_worker_that_fails_begins_again_and_says_why() -> None:
    ours, theirs = socket.socketpair()
    worker = _Sensitive({}, Path(), Telling("audio", line := Line(ParentProcess(theirs, FromDesk))))
    lane = Lane(OUTPUTS["audio"], worker, Telling("audio", line))
    try:
        lane.put([(0.0, "audio", "mute", "output", "on")])
        wait_for(lambda: worker.opened == 1, "it is open")
        lane.fail(ValueError("of this window"))
        lane.put([(0.0, "audio", "mute", "output", "on")])
        wait_for(lambda: worker.opened == 2, "it begins again")
        told = b""
        while b"of this window" not in told:
            told += ours.recv(65536)
    finally:
        lane.end()
        lane.join(5)


# --- The terminal ---


@contextlib.contextmanager
def terminal() -> Iterator[tuple[int, int]]:
    """Both ends of a terminal."""
    ours, theirs = pty.openpty()
    try:
        yield ours, theirs
    finally:
        for fd in (ours, theirs):
            with contextlib.suppress(OSError):
                os.close(fd)


@pytest.fixture
def screen() -> Iterator[Screen]:
    found = Screen()
    yield found
    found.close()


HELD = '[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\nsouth = "f9"\neast = "profile two"\n[profile.two]\n'


@needs_screen
@pytest.mark.parametrize("stderr", ["a stopped terminal", "a pipe without a reader", "a full device"])
def test_messages_neither_hold_up_a_desk_nor_end_it(
    stderr: str, screen: Screen, tmp_path: Path, make_desk: MakeDesk
) -> None:
    desk = make_desk("format = 1\n" + HELD)
    events = [(2 + n / 500, "east", float(n % 2 == 0)) for n in range(400)]
    taken = take(tmp_path / "t.jsonl", *events, *press(3, "south", 600))
    with terminal() as (ours, theirs), contextlib.ExitStack() as stack:
        if stderr == "a stopped terminal":
            out = theirs
        elif stderr == "a full device":
            out = stack.enter_context(open("/dev/full", "wb")).fileno()
        else:
            readable, out = os.pipe()
            os.close(readable)
            stack.callback(os.close, out)
        process = subprocess.Popen(
            [*FENKO, "run", "--desk", str(desk), "--play", taken], env=screen.environment, stdout=out, stderr=out,
            preexec_fn=os.setsid,
        )  # fmt: skip
        if stderr == "a stopped terminal":
            said = b""
            while b"output:" not in said:
                said += os.read(ours, 1000)
            termios.tcflow(theirs, termios.TCOOFF)  # Ctrl-S
        wait_for(screen.keys_down, "the key of the take")
        process.send_signal(signal.SIGTERM)
        assert process.wait(15) == 0
        assert not screen.keys_down()


@needs_screen
def test_ctrl_z_releases_everything_first_and_fg_goes_on(screen: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    desk = make_desk("format = 1\n" + HELD)
    taken = take(tmp_path / "t.jsonl", (0.1, "south", 1), (600, "south", 0))
    running = Running(screen, tmp_path / "log", "--desk", str(desk), "--play", taken)
    wait_for(screen.keys_down, "the key")
    running.process.send_signal(signal.SIGTSTP)

    def state() -> str:
        return Path(f"/proc/{running.process.pid}/stat").read_text().rpartition(")")[2].split()[0]

    wait_for(lambda: state() == "T", "it has stopped")
    assert not screen.keys_down()
    running.process.send_signal(signal.SIGCONT)
    running.says("running again")
    assert running.end() == 0


@needs_screen
def test_a_reload_that_adds_an_output_while_the_display_is_away(tmp_path: Path, make_desk: MakeDesk) -> None:
    screen = Screen()
    screen.manage()
    board = Board(tmp_path / "board")
    board.plug_in()
    board.start()
    text = (
        f'format = 1\n[surface.bench]\nkind = "board"\nlinks = ["serial {board.device}"]\n[surface.bench.control]\n'
        'red.sort = "button"\n[profile.base.on.bench]\nred = "f9"\n'
    )
    desk = make_desk(text)
    try:
        running = Running(screen, tmp_path / "log", "--desk", str(desk))
        running.says("surface bench: here now")
        screen.stop()
        running.says("is gone; Fenko waits for it to come back")
        (desk / "desk.toml").write_text(
            text + '[osc.o]\nto = "udp 127.0.0.1:9"\n[profile.two.on.bench]\nred = "osc /a 1"\n'
        )
        running.says("has changed and is in force")
        screen.start()
        running.says("is back")
        board.hands(red="1")
        wait_for(screen.keys_down, "the key")
        board.hands()
        assert running.end() == 0
    finally:
        board.unplug()
        screen.close()


def test_the_end_of_a_process_of_somebody_elses_output_is_said(tmp_path: Path) -> None:
    """It is neither of the processes that Fenko has a word for."""
    notes: list[str] = []
    port = WorkersPort(["osc"], Settings({}, notes.append, None, str(tmp_path)), "theirs")
    try:
        os.kill(port.child.pid, signal.SIGKILL)
        wait_for(lambda: port.child.readable() or notes, "it is noted")
        assert "`theirs`" in notes[0] and "started again" in notes[0]
    finally:
        port.close()


def test_what_is_asked_before_a_wait_sees_what_was_written() -> None:
    """A take whose last line sets a worker off once never ended: whether all was done was asked before it was written."""
    with Loop() as loop:
        ours, theirs = socket.socketpair()
        waiting, order = [b"x"], list[str]()

        def write() -> bool:
            if waiting:
                order.append("written")
                ours.send(waiting.pop())
                loop.soon(lambda: order.append("came of it"))
            return False

        def ended() -> None:
            if not waiting and "came of it" in order:
                loop.stop()

        loop.add(ours.fileno(), lambda: None, write)
        loop.before_each_wait(ended)
        late = loop.timer(lambda now: pytest.fail("it slept"))
        late.set_in(10)
        loop.run()
        assert order == ["written", "came of it"]
        ours.close()
        theirs.close()


@needs_screen
def test_a_take_ends_whatever_its_last_line_sets_off(screen: Screen, tmp_path: Path, make_desk: MakeDesk) -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as peer:
        peer.bind(("127.0.0.1", 0))
        desk = make_desk(
            f'format = 1\n[osc.o]\nto = "udp 127.0.0.1:{peer.getsockname()[1]}"\n[surface.pad]\nkind = "gamepad"\n'
            '[profile.base.on.pad]\nsouth = "osc /a 1"\n'
        )
        for number in range(5):
            taken = take(tmp_path / "t.jsonl", (0.1, "south", 1))
            command = [*FENKO, "run", "--desk", str(desk), "--play", taken]
            assert subprocess.run(command, env=screen.environment, capture_output=True, timeout=20).returncode == 0, (
                number
            )
            assert peer.recv(1000)


def test_each_broad_except_gives_its_reason() -> None:
    broad = re.compile(r"except (Exception|BaseException)\b[^#]*$|suppress\((Exception|BaseException)\)[^#]*$")
    source = Path(fenko.__file__).parent
    lines = [
        f"{path.relative_to(source)}:{number}"
        for path in source.rglob("*.py")
        for number, line in enumerate(path.read_text().splitlines(), 1)
        if broad.search(line)
    ]
    assert not lines
