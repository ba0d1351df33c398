"""The running desk with made-up sources and outputs: whatever is lost, late or out of order, nothing stays down."""

from __future__ import annotations

import contextlib
import os
import socket
import time
from collections.abc import Callable, Sequence
from importlib import import_module
from math import inf
from typing import Any
from unittest.mock import patch

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenko.core.changes import FOCUS, UNPLUG, Change, Effect
from fenko.core.circumstances import Focus
from fenko.desk.compiled import compiled
from fenko.desk.load import load_desk
from fenko.live.focus import FocusSource
from fenko.live.loop import Loop
from fenko.live.router import Router
from fenko.live.session import Session
from fenko.outputs.kernel import KernelPort
from fenko.outputs.keys import GAP, KeyPort, Typing
from fenko.outputs.layout import us_layout
from fenko.outputs.port import Port, PortLost
from fenko.outputs.ports import PORTS
from fenko.outputs.x11 import LEDGER_SIZE
from fenko.system.kernel import EVENT, KEY
from support import DEMO, tries

DESK = compiled(load_desk(DEMO))


class Clock:
    """Time that the test lets pass, so that nothing depends on how busy the machine is."""

    def __init__(self) -> None:
        self.now = 100.0

    def monotonic(self) -> float:
        return self.now


class Pipe:
    """A virtual device whose events are kept with the time at which they came."""

    def __init__(self, clock: Clock | None = None) -> None:
        self._monotonic = clock.monotonic if clock is not None else time.monotonic
        self._read, self.fd = os.pipe2(os.O_NONBLOCK)
        self.events: list[tuple[float, int, int]] = []

    def pump(self) -> None:
        try:
            data = os.read(self._read, 1 << 16)
        except BlockingIOError:
            return
        now = self._monotonic()
        self.events += [(now, code, value) for _, _, kind, code, value in EVENT.iter_unpack(data) if kind == KEY]

    def close(self) -> None:
        os.close(self._read)
        os.close(self.fd)


def _output(warnings: list[str], clock: Clock | None = None) -> tuple[KernelPort, Pipe, Pipe]:
    keyboard, pointer = Pipe(clock), Pipe(clock)
    return KernelPort(us_layout("here"), warnings.append, lambda: (keyboard, pointer)), keyboard, pointer


_effects = st.lists(
    st.one_of(
        st.tuples(st.just("key"), st.sampled_from(["a", "b", "ctrl", "A", "enter"])),
        st.tuples(st.just("type"), st.sampled_from(["aab", "A A", "ü", "bookkeeper"])),
    ),
    min_size=1,
    max_size=12,
)


@settings(max_examples=tries(60))
@given(_effects, st.randoms(use_true_random=False))
def test_an_output_keeps_order_and_gaps_however_its_effects_come(wanted: list[tuple[str, str]], random: Any) -> None:
    clock = Clock()
    with patch("fenko.outputs.keys.time", clock), patch("fenko.outputs.kernel.time", clock):
        _keeps_order_and_gaps(wanted, random, clock)


def _keeps_order_and_gaps(wanted: list[tuple[str, str]], random: Any, clock: Clock) -> None:
    warnings: list[str] = []
    output, keyboard, _ = _output(warnings, clock)
    due = inf

    def wake(at: float) -> None:
        nonlocal due
        due = at

    output.wake = wake
    effects: list[Effect] = []
    for act, what in wanted:
        if act == "type":
            effects.append((0.0, "keys", "type", what))
        else:
            effects += [(0.0, "keys", "down", what), (0.0, "keys", "up", what)]
    expected = sum(len([c for c in what if c != "ü"]) if act == "type" else 1 for act, what in wanted)
    try:
        while effects or output.busy:
            size = random.randint(1, 4)
            if effects and random.random() < 0.7:
                batch, effects = effects[:size], effects[size:]
                output.send(batch)
            keyboard.pump()
            clock.now += random.choice([0.0, 0.0003, 0.001, 0.0021])
            if output.busy and clock.now >= due:
                due = inf
                output.go_on(clock.now)
            keyboard.pump()
        down: set[int] = set()
        up_at: dict[int, float] = {}
        struck = 0
        for at, code, value in keyboard.events:
            if value:
                assert code not in down
                if code not in (29, 42):
                    assert at - up_at.get(code, -1.0) >= GAP - 1e-9, "the same key again at once"
                    struck += 1
                down.add(code)
            else:
                down.remove(code)
                up_at[code] = at
        assert not down
        assert struck == expected - sum(what == "ctrl" for act, what in wanted if act == "key")
    finally:
        output.close()


_changes = st.lists(
    st.one_of(
        st.tuples(
            st.sampled_from(["pad.south", "pad.east", "pad.north", "pad.west", "pad.shoulder-left"]),
            st.sampled_from([0, 1]),
        ),
        st.tuples(st.sampled_from(["pad.trigger-left", "pad.trigger-right"]), st.sampled_from([0.0, 0.7, 1.0])),
        st.tuples(st.just("dial.dial"), st.sampled_from([-2, 1, 40])),
        st.tuples(st.just(FOCUS), st.sampled_from([Focus("snipwell"), Focus("hushdesk"), Focus()])),
        st.tuples(st.just(UNPLUG), st.sampled_from(["pad", "dial"])),
        st.tuples(st.just("release"), st.just(None)),
        st.tuples(st.just("late"), st.just(None)),
        st.tuples(st.just("early"), st.just(None)),
        st.tuples(st.just("lost"), st.just(None)),
    ),
    max_size=25,
)


class _Port(Port):
    """A port of which the test sees everything."""

    name = "none"
    outs = frozenset(("keys", "pointer"))

    def __init__(self) -> None:
        self.down: set[Any] = set()
        self.gone = False
        self.closed = 0

    def send(self, effects: Sequence[Effect]) -> None:
        assert not self.closed, "nothing is sent to a port that is lost or closed"
        if self.gone:
            raise PortLost("pulled out")
        for _, out, act, *values in effects:
            if act == "down":
                assert (out, values[0]) not in self.down
                self.down.add((out, values[0]))
            elif act == "up":
                self.down.remove((out, values[0]))

    def close(self) -> None:
        self.closed += 1


@settings(max_examples=tries(150))
@given(_changes)
def test_a_session_leaves_nothing_down(changes: list[tuple[str, Any]]) -> None:
    port = _Port()
    said: list[str] = []
    lost = False
    with Loop() as loop:
        session = Session(DESK, loop, lambda desk, open_now: [port], said.append, told=lambda effects: None)
        for address, value in changes:
            now = time.monotonic()
            if address == "release":
                session.hold_back(True)
                assert not port.down
                session.hold_back(False)
            elif address == "early":
                # A device tells of what it did before the last timer.
                session.inbox.put([(now - 1, "pad.south", 1), (now - 2, "pad.south", 0)])
            elif address == "lost":
                lost = port.gone = True
                port.down.clear()
            elif address == "late":
                # The loop comes back long after everything was due.
                session.inbox.advance(now + 5)
            else:
                change: Change = (now, address, value)
                session.inbox.put([change])
        loop.soon(loop.stop)
        loop.run()
        session.close()
    assert not port.down
    assert port.closed == 1
    assert lost or not any("gone" in line for line in said)


def test_what_a_trigger_or_a_dial_does_goes_to_the_window_in_front_now(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv("DISPLAY", raising=False)
    for address, value in (("pad.trigger-left", 0.7), ("dial.dial", 2), ("pad.south", 1)):
        with Loop() as loop:
            session = Session(DESK, loop, lambda desk, open_now: [_Port()], lambda line: None)
            session.pretend_focus(Focus("snipwell"))
            focus = FocusSource(session.around)
            focus.start()
            focus.came(Focus("hushdesk"))
            session.inbox.put([(time.monotonic(), address, value)])
            assert session.engine.profile.name == "sound", address
            session.close()


def test_a_moment_of_nothing_in_front_is_no_desktop(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv("DISPLAY", raising=False)
    with Loop() as loop:
        session = Session(DESK, loop, lambda desk, open_now: [_Port()], lambda line: None)
        session.pretend_focus(Focus("snipwell"))
        focus = FocusSource(session.around)
        focus.start()
        focus.came(Focus())
        session.inbox.put([(time.monotonic(), "pad.south", 1)])
        assert session.engine.profile.name == "frames"
        session.close()


def test_every_effect_goes_to_the_port_that_takes_its_out_and_a_lost_one_takes_no_other_with_it() -> None:
    class Recording(_Port):
        def __init__(self, *outs: str) -> None:
            super().__init__()
            self.outs = frozenset(outs)
            self.sent: list[Effect] = []

        def send(self, effects: Sequence[Effect]) -> None:
            if self.gone:
                raise PortLost("pulled out")
            self.sent += effects

    lost: list[Port] = []
    with Loop() as loop:
        router = Router(loop, lambda port, why: lost.append(port))
        keys, sound = Recording("keys", "pointer"), Recording("sound")
        router.use(keys)
        router.use(sound)
        effects: list[Effect] = [
            (0.0, "keys", "down", "a"), (0.0, "sound", "play", "x"), (0.0, "fenko", "pause", True), (0.0, "keys", "up", "a"),
        ]  # fmt: skip
        router.send(effects)
        assert keys.sent == [effects[0], effects[3]] and sound.sent == [effects[1]]
        sound.gone = True
        router.send(effects)
        assert keys.sent == [effects[0], effects[3]] * 2
        assert lost == [], "nobody is called back while something is sent"
        loop.soon(loop.stop)
        loop.run()
        assert lost == [sound] and sound.closed == 1
        router.send(effects)
        assert len(keys.sent) == 8, "with one port left it gets everything, and knows what is its own"


def test_what_cannot_be_written_yet_is_written_when_the_other_end_takes_more() -> None:
    ours, theirs = socket.socketpair()
    ours.setblocking(False)
    waiting = bytearray(b"x" * 2_000_000)
    read = 0

    def writable() -> bool:
        with contextlib.suppress(BlockingIOError):
            while waiting:
                del waiting[: ours.send(waiting[:65536])]
        return bool(waiting)

    with Loop() as loop:

        def drain() -> None:
            nonlocal read
            read += len(theirs.recv(1 << 20))
            if read == 2_000_000:
                loop.stop()

        loop.add(ours.fileno(), lambda: None, writable)
        loop.add(theirs.fileno(), drain)
        loop.run()
        assert not waiting
        loop.remove(ours.fileno())
        loop.remove(theirs.fileno())
    ours.close()
    theirs.close()


class StuckEnd(KeyPort):
    """An end that takes something only as long as it is let."""

    name = "this end"

    def __init__(self, warn: Callable[[str], None]) -> None:
        super().__init__(warn)
        self.came: list[tuple[str, int]] = []
        self.takes = True

    def let(self, takes: bool) -> None:
        self._stuck = not takes
        if takes:
            self.go_on(0.0)

    def _codes(self, key: str) -> tuple[int, ...]:
        return (ord(key),)

    def _press(self, code: int) -> None:
        assert not self._stuck
        self.came.append(("down", code))

    def _release(self, code: int) -> None:
        assert not self._stuck
        self.came.append(("up", code))

    def _type(self, text: str) -> Typing:
        yield from [(ord(character),) for character in text]

    def _move(self, dx: int, dy: int) -> None:
        assert not self._stuck
        self.came.append(("move", dx))

    def _scroll(self, dx: float, dy: float) -> None: ...

    def _button(self, button: str, on: bool) -> None: ...

    def _flush(self) -> None: ...

    def close(self) -> None: ...


def _added_up(came: list[tuple[str, int]]) -> list[tuple[str, int]]:
    """With moves in a row as one."""
    added: list[tuple[str, int]] = []
    for act, number in came:
        if act == "move" and added and added[-1][0] == "move":
            added[-1] = ("move", added[-1][1] + number)
        else:
            added.append((act, number))
    return added


_ACTS = {"a": [("keys", "down", "a")], "A": [("keys", "up", "a")], "b": [("keys", "down", "b"), ("keys", "up", "b")],
    "t": [("keys", "type", "xyx")], "m": [("pointer", "move", 3.0, 0.0)]}  # fmt: skip


@given(st.text("aAbtm|", max_size=60))
def test_what_an_end_does_not_take_comes_later_and_in_order(hands: str) -> None:
    """A bar in place of what a hand does has the end take something again, or nothing more."""
    free, stuck = StuckEnd(pytest.fail), StuckEnd(pytest.fail)
    takes, down = True, False
    for hand in hands:
        if hand == "|":
            takes = not takes
            stuck.let(takes)
        elif hand not in "aA" or down == (hand == "A"):
            down = down != (hand in "aA")
            effects = [(0.0, *act) for act in _ACTS[hand]]
            free.send(effects)
            stuck.send(effects)
    stuck.let(True)
    assert _added_up(stuck.came) == _added_up(free.came)


def test_an_end_that_takes_nothing_for_long_gets_no_more_presses_but_every_release() -> None:
    said: list[str] = []
    end = StuckEnd(said.append)
    end.send([(0.0, "keys", "down", "a")])
    end.let(False)
    for _ in range(5000):
        end.send([(0.0, "keys", "down", "b"), (0.0, "keys", "up", "b")])
    end.send([(0.0, "keys", "up", "a"), (0.0, "keys", "down", "c")])
    end.let(True)
    end.send([(0.0, "keys", "up", "c"), (0.0, "keys", "down", "d"), (0.0, "keys", "up", "d")])
    assert len(end.came) < 1200  # nor does it remember every press
    assert (
        end.came[-3:] == [("up", ord("a")), ("down", ord("d")), ("up", ord("d"))]
        and 400 <= end.came.count(("down", ord("b"))) < 5000
    )
    assert end.came.count(("down", ord("b"))) == end.came.count(("up", ord("b")))
    assert len(said) == 1 and "what is pressed is lost until it does" in said[0]


def test_a_device_that_refuses_is_a_port_that_is_lost_and_no_traceback() -> None:
    said: list[str] = []
    warnings: list[str] = []
    output, keyboard, _ = _output(warnings)
    with Loop() as loop:
        session = Session(DESK, loop, lambda desk, open_now: [output], said.append)
        session.pretend_focus(Focus("snipwell"))
        os.close(keyboard.fd)
        keyboard.fd = os.dup(keyboard._read)  # so that closing it later is not an error of this test
        session.inbox.put([(time.monotonic(), "pad.south", 1)])
        loop.soon(loop.stop)
        loop.run()
        assert any("is gone" in line for line in said), said
        session.inbox.put([(time.monotonic(), "pad.south", 0)])
        session.close()


def test_every_port_that_is_listed_is_there() -> None:
    assert PORTS["x11"].memory == LEDGER_SIZE
    for name, row in PORTS.items():
        for place in filter(None, (row.opens, row.ends)):
            module, _, function = place.partition(":")
            assert callable(getattr(import_module(module), function)), name
        assert bool(row.memory) == bool(row.ends), "what is noted for the guard has to be ended by it"
