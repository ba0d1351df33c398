"""The running desk with made-up sources and outputs: whatever is lost, late or out of order, nothing stays down."""

from __future__ import annotations

import os
import time
from collections.abc import Sequence
from math import inf
from typing import Any
from unittest.mock import patch

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenko.core.changes import FOCUS, UNPLUG, Change, Effect
from fenko.core.plan import Focus
from fenko.desk.compiled import compiled
from fenko.desk.load import load_desk
from fenko.live.focus import FocusSource
from fenko.live.loop import Loop
from fenko.live.session import Session
from fenko.outputs.kernel import KernelPort
from fenko.outputs.keys import GAP
from fenko.outputs.layout import us_layout
from fenko.outputs.port import Port, PortLost
from fenko.system.kernel import EVENT, KEY
from support import DEMO

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


@settings(max_examples=60)
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


@settings(max_examples=150)
@given(_changes)
def test_a_session_leaves_nothing_down(changes: list[tuple[str, Any]]) -> None:
    port = _Port()
    said: list[str] = []
    lost = False
    with Loop() as loop:
        session = Session(DESK, loop, lambda open_now: [port], said.append, told=lambda effects: None)
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
            session = Session(DESK, loop, lambda open_now: [_Port()], lambda line: None)
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
        session = Session(DESK, loop, lambda open_now: [_Port()], lambda line: None)
        session.pretend_focus(Focus("snipwell"))
        focus = FocusSource(session.around)
        focus.start()
        focus.came(Focus())
        session.inbox.put([(time.monotonic(), "pad.south", 1)])
        assert session.engine.profile.name == "frames"
        session.close()
