"""How a thing is held: tilt, tips, shakes, from what an acceleration sensor says."""

from __future__ import annotations

from math import cos, inf, pi, radians, sin

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenko.core.changes import UNPLUG, Change, Effect
from fenko.core.engine import Engine
from fenko.core.inputs import Raw
from fenko.core.plan import Plan
from fenko.desk.compiled import compiled
from fenko.desk.load import load_desk
from fenko.devices.node import addresses_of
from fenko.system.things import Node
from support import MakeDesk

RATE = 100
G = 0.25
"""What a sensor of ±4 g says of gravity, as a share of its range."""
DESK = """
[surface.pad]
kind = "gamepad"
links = ["usb 1209:4d50"]
[profile.base.on.pad]
tilt = "pointer 450"
tip-left = "a"
tip-up = "b"
face-down = "c"
shake = "d"
south = "tilt neutral"
"""


@pytest.fixture
def plan(make_desk: MakeDesk) -> Plan:
    return load_desk(make_desk(DESK)).plan


class Sensor:
    """Says what a sensor feels while the thing is turned: degrees to the right (`roll`) and forward (`pitch`)."""

    def __init__(self, noise: float = 0.0, lies_on: str = "y") -> None:
        self.t = 1.0
        self._noise = np.random.default_rng(1)
        self._sigma = noise
        self._lies_on = lies_on

    def hold(
        self, seconds: float, roll: float = 0.0, pitch: float = 0.0, swing: float = 0.0, rate: float = 5.0
    ) -> list[Change]:
        """What it says in that time."""
        changes: list[Change] = []
        for _ in range(int(seconds * RATE)):
            self.t = round(self.t + 1 / RATE, 6)
            up = (
                -sin(radians(roll)),
                cos(radians(roll)) * cos(radians(pitch)),
                cos(radians(roll)) * sin(radians(pitch)),
            )
            if self._lies_on == "z":  # z is up and y away from the person
                up = (up[0], -up[2], up[1])
            felt = np.array(up) * G + self._noise.normal(0, self._sigma, 3)
            felt[0] += swing * G * sin(2 * pi * rate * self.t)
            changes += [
                (self.t, f"pad.sensor.{axis}", Raw(round(float(value) * 32767), -32767, 32767))
                for axis, value in zip("xyz", felt, strict=True)
            ]
        return changes


def _played(plan: Plan, changes: list[Change]) -> tuple[list[Effect], Engine]:
    from fenko.core.inputs import Inputs

    engine, conditioned = Engine(plan), Inputs(plan.surfaces).conditioned
    effects: list[Effect] = []
    for change in changes:
        while engine.deadline <= change[0]:
            effects += engine.advance(engine.deadline)
        effects += engine.feed(conditioned(change))
    return effects, engine


def _moved(effects: list[Effect]) -> tuple[float, float]:
    steps = [effect[3:] for effect in effects if effect[1:3] == ("pointer", "move")]
    return sum(x for x, _ in steps), sum(y for _, y in steps)


def _keys(effects: list[Effect]) -> str:
    return " ".join(f"{effect[3]}{'+' if effect[2] == 'down' else '-'}" for effect in effects if effect[1] == "keys")


@pytest.mark.parametrize("lies_on", ["y", "z"])
@pytest.mark.parametrize(
    ("roll", "pitch", "way"),
    [(20, 0, (1, 0)), (-20, 0, (-1, 0)), (0, 20, (0, -1)), (0, -20, (0, 1)), (14, 14, (0.7, -0.7))],
)
def test_the_pointer_goes_where_it_is_tilted(
    plan: Plan, roll: float, pitch: float, way: tuple[float, float], lies_on: str
) -> None:
    sensor = Sensor(lies_on=lies_on)
    effects, _ = _played(plan, [*sensor.hold(0.5), *sensor.hold(3, roll, pitch)])
    far = (20 / 45 - 0.15) / 0.85 * 450 * 3
    assert _moved(effects) == pytest.approx((far * way[0], far * way[1]), rel=0.06, abs=far * 0.07)


def test_how_it_is_held_first_is_neutral_and_another_position_can_be_taken(plan: Plan) -> None:
    sensor = Sensor(noise=0.003)
    changes = sensor.hold(3, 5, 30)
    assert _moved(_played(plan, changes)[0]) == (0, 0)
    changes += sensor.hold(1, 30, 30)
    changes += [(sensor.t, "pad.south", 1), (sensor.t, "pad.south", 0)]
    before, _ = _played(plan, changes)
    assert _moved(before)[0] > 50
    effects, engine = _played(plan, [*changes, *sensor.hold(3, 30, 30)])
    assert abs(_moved(effects)[0] - _moved(before)[0]) < 5
    assert engine.deadline == inf


def test_tips_are_pressed_and_let_go_at_their_own_angles(plan: Plan) -> None:
    sensor = Sensor()
    angles = [0, 30, 33, 37, 30, 27, 23, 36, 0]
    effects, _ = _played(plan, [change for angle in angles for change in sensor.hold(0.8, -angle)])
    assert _keys(effects) == "a+ a- a+ a-"
    sensor = Sensor()
    effects, _ = _played(plan, [*sensor.hold(0.5), *sensor.hold(1, 0, 50), *sensor.hold(1)])
    assert _keys(effects) == "b+ b-"


def test_lying_on_its_face_is_one_thing_and_tipping_another(plan: Plan) -> None:
    sensor = Sensor()
    effects, _ = _played(plan, [*sensor.hold(0.5), *sensor.hold(1, 180, 0), *sensor.hold(1)])
    assert "c+" in _keys(effects)
    assert _keys(effects).endswith("c-") or "c- " in _keys(effects)


def test_a_shake_is_a_shake_and_a_walk_is_none(plan: Plan) -> None:
    sensor = Sensor()
    effects, _ = _played(plan, [*sensor.hold(0.5), *sensor.hold(0.5, swing=3.0), *sensor.hold(1)])
    assert _keys(effects) == "d+ d-"
    sensor = Sensor()
    effects, _ = _played(plan, [*sensor.hold(0.5), *sensor.hold(3, swing=0.5, rate=2), *sensor.hold(1)])
    assert _keys(effects) == ""


def test_unplugged_while_it_is_tilted_it_stands_still(plan: Plan) -> None:
    sensor = Sensor()
    _, engine = _played(plan, [*sensor.hold(0.5), *sensor.hold(1, 30)])
    assert engine.deadline < inf
    engine.feed((sensor.t, UNPLUG, "pad"))
    assert engine.deadline == inf


@given(
    st.lists(st.tuples(st.sampled_from("xyz"), st.floats(-1, 1), st.sampled_from([0.0, 0.001, 0.01, 1.0])), max_size=60)
)
def test_whatever_a_sensor_says_it_stays_in_range(said: list[tuple[str, float, float]]) -> None:
    from fenko.core.agenda import Agenda
    from fenko.core.tilting import Tilting

    told: list[tuple[str, float]] = []
    tilting = Tilting(Agenda(), lambda t, address, value: told.append((address, value)))
    t = 0.0
    for axis, value, gap in [("y", 1.0, 0.0), ("y", 1.0, 0.4), *said]:
        t += gap
        tilting.feed(t, "pad", axis, value)
    assert all(-1 <= value <= 1 for address, value in told if ".tilt." in address)
    down: set[str] = set()
    for address, value in told:
        if ".tilt." not in address:
            assert (value == 1) != (address in down)
            (down.add if value else down.discard)(address)


def _node(feels: bool) -> Node:
    axes = frozenset({0, 1, 2, 3, 4, 5})
    return Node("/dev/input/event9", "Pad Motion", 3, 0x1209, 0x4D50, "", "", frozenset(), frozenset(), axes, feels)


def test_a_sensors_axes_are_no_sticks(make_desk: MakeDesk) -> None:
    surface = load_desk(make_desk(DESK)).plan.surfaces["pad"]
    assert set(addresses_of(_node(True), surface).values()) == {"pad.sensor.x", "pad.sensor.y", "pad.sensor.z"}
    assert "pad.stick-left.x" in addresses_of(_node(False), surface).values()
    assert _node(True).controls == ["sensor"]


@pytest.mark.parametrize(
    ("text", "felt"),
    [
        ('tilt = "pointer 700"', {"pad"}),
        ('shake = "a"', {"pad"}),
        ('"face-down+south" = "a"', {"pad"}),
        ('south = "a"', set()),
    ],
)
def test_a_sensor_is_heard_only_where_it_matters(make_desk: MakeDesk, text: str, felt: set[str]) -> None:
    desk = load_desk(make_desk(f'[surface.pad]\nkind = "gamepad"\n[profile.base.on.pad]\n{text}\n'))
    assert compiled(desk).felt == felt


def test_a_layer_can_be_on_while_it_lies_on_its_face(make_desk: MakeDesk) -> None:
    text = '[surface.pad]\nkind = "gamepad"\n[profile.base.layer.rest]\nwhile = "pad.face-down"\non.pad.south = "a"\n'
    desk = load_desk(make_desk(text))
    assert compiled(desk).felt == {"pad"}
    sensor = Sensor()
    _, engine = _played(desk.plan, [*sensor.hold(0.5), *sensor.hold(1, 180)])
    assert engine.layers == ("rest",)
