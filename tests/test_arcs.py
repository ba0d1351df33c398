"""Arcs in machine programs: those that cannot be, and how far those reach that can, against points along them."""

from __future__ import annotations

from math import cos, hypot, pi, sin

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from fenko.integrations.machine.arcs import PLANES, reach
from fenko.integrations.machine.explained import Machine, Told, explained
from fenko.integrations.machine.planner import AxisLimits
from support import MakeDesk, Run

LIMITS = AxisLimits(0.0, 200.0, 50.0, 100.0)


def told(*lines: str, position: dict[str, float] | None = None) -> Told:
    """What the last line comes to, from x 100, y 100, z 30."""
    machine = Machine(
        dict.fromkeys("xyz", LIMITS), position={"x": 100, "y": 100, "z": 30} if position is None else position
    )
    return list(explained(lines, machine))[-1]


@pytest.mark.parametrize(
    ("lines", "says"),
    [
        (["G2 X110 F100"], "an arc needs its centre (`I`, `J`) or its radius (`R`)"),
        (["G2 X110 R5 I5 F100"], "not both"),
        (["G2 X110 I0 J0 F100"], "cannot be where it starts"),
        (["G2 X110 R0 F100"], "radius 0"),
        (["G3 X110 R3 F100"], "the ends of the arc are 10 mm apart, which a radius of 3 mm cannot reach"),
        (["G3 X100 Y100 R3 F100"], "cannot end where it starts"),
        (["G2 X110 Y100 I4 J0 F100"], "the centre is 4 mm from the start of the arc and 6 mm from its end"),
        (["G20", "G2 X110 Y100 I4 J0 F100"], "mm from its end"),
        (["G2 X110 K5 F100"], "`K` is no part of the plane of this arc (x y)"),
        (["G18", "G2 X110 J5 F100"], "`J` is no part of the plane of this arc (z x)"),
        (["G2 I5"], "needs `F`"),
    ],
)  # fmt: skip
def test_an_arc_that_cannot_be_is_an_error(lines: list[str], says: str) -> None:
    assert any(says in message for message, _ in told(*lines).errors), told(*lines)


@pytest.mark.parametrize(
    "lines",
    [["G2 X110 R5 F100"], ["G3 X110 Y100 I5 J0 F100"], ["G2 I5 F100"], ["G2 X110 Y110 R-10 F100"], ["G18", "G2 X110 Z30 I5 F100"],
     ["G91", "G2 X10 I5 F100"], ["G20", "G2 X4 Y4 R9 F100"], ["G92 X0 Y0", "G2 X10 R5 F100"], ["G54", "G2 X10 R5 F100"]],
)  # fmt: skip
def test_an_arc_that_can_be_is_none(lines: list[str]) -> None:
    assert told(*lines).errors == ()


def test_an_arc_that_leaves_the_travel_on_its_way_is_noted() -> None:
    # Both ends are within; the way over x 5 goes 5 mm beyond 0.
    found = told("G2 X5 Y120 R10 F100", position={"x": 5, "y": 100, "z": 0})
    assert found.errors == () and any("on its way round x -5 mm is outside its travel" in one for one in found.warnings)
    found = told("G3 X5 Y120 R10 F100", position={"x": 5, "y": 100, "z": 0})
    assert not any("travel" in one for one in found.warnings)
    assert any("y 205 mm" in one for one in told("G2 J5 F100", position={"x": 100, "y": 195, "z": 0}).warnings)


def test_where_the_machine_is_is_known_after_an_arc() -> None:
    lines = ("G2 X110 R5 F100", "G91", "G0 Z200")
    assert any("z 230 mm is outside its travel" in one for one in told(*lines).warnings)
    assert any("x 310 mm" in one for one in told("G2 X110 R5 F100", "G91", "G0 X200").warnings)
    assert any("z 200.5" in one for one in told("G3 X110 Z190.5 R5 F100", "G91", "G0 Z10").warnings)


_places = st.floats(-50, 50).map(lambda one: round(one, 2))


@given(_places, _places, st.floats(1, 40), st.floats(0, 2 * pi), st.floats(0.1, 2 * pi - 0.1), st.booleans())
def test_the_reach_of_an_arc_is_that_of_its_points(
    x: float, y: float, radius: float, begin: float, turn: float, clockwise: bool
) -> None:
    way = -turn if clockwise else turn
    points = [(x + radius * cos(begin + way * n / 2000), y + radius * sin(begin + way * n / 2000)) for n in range(2001)]
    (start, end), plane = (points[0], points[-1]), PLANES["G17"]
    words = {"I": x - start[0], "J": y - start[1]}
    found = reach(words, plane, clockwise, start, end, 1.0)
    for axis in (0, 1):
        assert found[axis][0] == pytest.approx(min(point[axis] for point in points), abs=1e-3 + radius * 2e-6)
        assert found[axis][1] == pytest.approx(max(point[axis] for point in points), abs=1e-3 + radius * 2e-6)
    # By its radius it is the same arc, negative for the longer way.
    assume(abs(turn - pi) > 0.05 and hypot(end[0] - start[0], end[1] - start[1]) > 0.5)
    by_radius = reach({"R": radius if turn < pi else -radius}, plane, clockwise, start, end, 1.0)
    for axis in (0, 1):
        assert by_radius[axis] == pytest.approx(found[axis], abs=0.05)


def test_check_and_machine_read_refuse_an_arc_that_cannot_be(fenko: Run, make_desk: MakeDesk) -> None:
    desk = make_desk(
        'format = 1\n[surface.pad]\nkind = "gamepad"\n[machine.rail]\nlink = "tcp 127.0.0.1:1"\n[machine.rail.axis.x]\ntravel = [0, 200]\nfastest = 3000\n'
        "[machine.rail.axis.y]\ntravel = [0, 200]\nfastest = 3000\n[profile.base.on.pad]\nsouth = 'machine send \"G2 X10 F100\"'\n"
    )
    done = fenko("check", "--desk", desk)
    assert done.returncode in (1, 2) and "an arc needs its centre" in done.stdout + done.stderr
