"""Raw kernel events in, changes out, without a kernel: through a pipe."""

from __future__ import annotations

import os
from collections.abc import Iterator

import pytest
from evdev import ecodes as e

from fenko.core.inputs import Inputs
from fenko.core.plan import Surface
from fenko.devices.events import EventReader, State
from fenko.devices.node import addresses_of
from fenko.system.kernel import EVENT
from fenko.system.things import Node, gather, guess_kind


def node(
    name: str = "Thistle pad", port: str = "usb-1/input0", serial: str = "", product: int = 0x4D50, **codes: set[int]
) -> Node:
    sets = {kind: frozenset(codes.get(kind, ())) for kind in ("keys", "turns", "axes")}
    return Node("/dev/input/event9", name, 3, 0x1209, product, port, serial, **sets)


PAD = node(
    keys={e.BTN_SOUTH, e.BTN_EAST, e.BTN_TR2, e.BTN_DPAD_UP, e.BTN_TRIGGER_HAPPY3},
    axes={e.ABS_X, e.ABS_RZ, e.ABS_HAT0X},
)
MOUSE = node(keys={e.BTN_LEFT, e.KEY_1}, turns={e.REL_X, e.REL_Y, e.REL_WHEEL, e.REL_WHEEL_HI_RES, e.REL_HWHEEL})


class Pipe:
    """A reader on a pipe, and how the node stands if it is asked."""

    def __init__(self, node: Node, surface: Surface, ranges: dict[int, tuple[int, int]]) -> None:
        read, self.write = os.pipe2(os.O_NONBLOCK)
        self.state = State(frozenset(), {})
        self.inputs = Inputs({surface.name: surface})
        self.reader = EventReader(read, addresses_of(node, surface), ranges, lambda: self.state)

    def send(self, *events: tuple[int, int, int]) -> list[tuple[str, float]]:
        os.write(self.write, b"".join(EVENT.pack(7, 250_000, *event) for event in events))
        changes = self.reader.changes(self.reader.read())
        assert all(t == 7.25 for t, _, _ in changes)
        return [(address, value) for _, address, value in map(self.inputs.conditioned, changes)]


@pytest.fixture
def pad() -> Iterator[Pipe]:
    yield Pipe(PAD, Surface("pad", "gamepad"), {e.ABS_X: (0, 255), e.ABS_RZ: (0, 255), e.ABS_HAT0X: (-1, 1)})


REPORT = (e.EV_SYN, e.SYN_REPORT, 0)
DROPPED = (e.EV_SYN, e.SYN_DROPPED, 0)


def test_every_code_moves_its_control(pad: Pipe) -> None:
    assert pad.send((e.EV_MSC, 4, 9), (e.EV_KEY, e.BTN_SOUTH, 1), (e.EV_KEY, e.BTN_DPAD_UP, 1), REPORT) == [
        ("pad.south", 1),
        ("pad.hat.up", 1),
    ]
    assert pad.send((e.EV_KEY, e.BTN_SOUTH, 2), (e.EV_KEY, e.BTN_TRIGGER_HAPPY3, 1), REPORT) == [("pad.button-13", 1)]
    assert pad.send((e.EV_KEY, e.BTN_TR2, 1), REPORT) == []  # the trigger's axis says it


@pytest.mark.parametrize(
    ("code", "raw", "share"),
    [(e.ABS_X, 0, -1), (e.ABS_X, 127, 0), (e.ABS_X, 128, 0), (e.ABS_X, 255, 1), (e.ABS_RZ, 0, 0), (e.ABS_RZ, 51, 0.2), (e.ABS_HAT0X, -1, -1), (e.ABS_HAT0X, 0, 0), (e.ABS_X, 999, 1)],
)  # fmt: skip
def test_axes_become_shares(pad: Pipe, code: int, raw: int, share: float) -> None:
    ((_, value),) = pad.send((e.EV_ABS, code, raw), REPORT)
    assert value == pytest.approx(share)


def test_an_overflow_tells_the_difference_and_forgets_what_is_stale(pad: Pipe) -> None:
    pad.send((e.EV_KEY, e.BTN_SOUTH, 1), REPORT)
    pad.reader.stand({e.ABS_X: 128, e.ABS_RZ: 0})
    pad.state = State(frozenset({e.BTN_EAST}), {e.ABS_X: 255, e.ABS_RZ: 0})
    told = pad.send(
        DROPPED, (e.EV_KEY, e.BTN_SOUTH, 1), REPORT, (e.EV_KEY, e.BTN_SOUTH, 0), (e.EV_KEY, e.BTN_SOUTH, 1), REPORT
    )
    assert told == [("pad.south", 0), ("pad.east", 1), ("pad.stick-left.x", 1)]
    assert pad.send((e.EV_KEY, e.BTN_EAST, 0), REPORT) == [("pad.east", 0)]


def test_an_overflow_that_ends_in_a_later_read(pad: Pipe) -> None:
    pad.state = State(frozenset({e.BTN_EAST}), {})
    assert pad.send(DROPPED) == []
    assert pad.send((e.EV_KEY, e.BTN_SOUTH, 1)) == []
    assert pad.send(REPORT) == [("pad.east", 1)]


def test_a_wheel_that_counts_finely_is_read_once_and_loses_nothing() -> None:
    mouse = Pipe(MOUSE, Surface("mouse", "mouse", names={"side-1": "1"}), {})
    fine = [(e.EV_REL, e.REL_WHEEL_HI_RES, 30), REPORT]
    assert mouse.send(*fine * 3, (e.EV_REL, e.REL_WHEEL, 1), REPORT) == [("mouse.wheel", 0.25)] * 3
    assert mouse.send((e.EV_REL, e.REL_HWHEEL, -1), REPORT) == [("mouse.tilt-wheel", -1)]
    assert mouse.send((e.EV_KEY, e.KEY_1, 1), REPORT) == [("mouse.side-1", 1)]


def test_only_moves_are_handed_on_unread() -> None:
    mouse = Pipe(MOUSE, Surface("mouse", "mouse"), {})

    def only(*events: tuple[int, int, int]) -> bool:
        return mouse.reader.only_motion(b"".join(EVENT.pack(1, 2, *event) for event in events))

    moves = [(e.EV_REL, e.REL_X, -5), (e.EV_REL, e.REL_Y, 300), REPORT]
    assert only(*moves * 3)
    for other in ((e.EV_REL, e.REL_WHEEL, 1), (e.EV_KEY, e.BTN_LEFT, 1), DROPPED, (e.EV_MSC, 4, 1), (e.EV_ABS, 0, 1)):
        assert not only(*moves, other, REPORT), other


def test_nodes_are_gathered_to_things_and_equal_things_told_apart() -> None:
    nodes = [
        node("Burr 12", "usb-3/input0".replace("/input0", ""), product=1, keys=MOUSE.keys, turns=MOUSE.turns),
        node("Burr 12 Keyboard", "usb-3", product=1, keys={e.KEY_1}),
        node(port="usb-1", keys=PAD.keys),
        node(port="usb-2", keys=PAD.keys),
        node(port="usb-4", serial="T 7", keys=PAD.keys),
        node("Lid", product=9),
    ]
    things = {thing.link: thing for thing in gather(nodes)}
    assert list(things) == [
        "usb 1209:0001",
        "usb 1209:4d50 port usb-1",
        "usb 1209:4d50 port usb-2",
        "usb 1209:4d50 serial T_7",
    ]
    assert (things["usb 1209:0001"].name, things["usb 1209:0001"].kind, len(things["usb 1209:0001"].nodes)) == (
        "Burr 12",
        "mouse",
        2,
    )
    for link, thing in things.items():
        assert all(one.matches(link) for one in thing.nodes)
        assert sum(one.matches(link) for one in nodes) == len(thing.nodes)
    assert all(one.matches("usb 1209:4d50") for one in nodes[2:5])


@pytest.mark.parametrize(
    ("kind", "codes"),
    [
        ("gamepad", {"keys": {e.BTN_SOUTH}}),
        ("mouse", {"keys": {e.BTN_LEFT}, "turns": {e.REL_X}}),
        ("keypad", {"keys": set(range(71, 84))}),
        ("keyboard", {"keys": set(range(1, 84))}),
        ("dial", {"keys": {e.KEY_ENTER}, "turns": {e.REL_DIAL}}),
        ("ring-and-dial", {"turns": {e.REL_DIAL}, "axes": {e.ABS_WHEEL}}),
        ("macro-pad", {"keys": set(range(e.KEY_F13, e.KEY_F22))}),
    ],
)
def test_the_kind_is_guessed_from_what_a_thing_can_do(kind: str, codes: dict[str, set[int]]) -> None:
    assert guess_kind([node(**codes)]) == kind
