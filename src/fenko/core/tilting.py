"""How a thing is held, from its acceleration sensor: tilt as a control with two axes, and tipping, shaking and turning it
face down as cells that are pressed.

At rest a sensor feels nothing but gravity, so a slow average of what it says (time constant `GRAVITY_OVER`) is the
direction that is up. Tilt is measured from a neutral position: how it was held first, or when a person last said so. The
kernel's axes are x to the right, y up and z towards the person, for a thing that lies flat; only x has to be so here, for
what is up comes from the neutral position. What counts is the direction of gravity, not its amount, so no sensor needs to
be calibrated in g.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from math import asin, degrees, exp, hypot, inf, sqrt

from fenko.core.agenda import Agenda, Waiting, after

GRAVITY_OVER = 0.1
"""Seconds."""
ALMOST_GRAVITY = 0.35
"""What is felt counts in full as long as it is within this share of gravity,"""
HARDLY = 0.03
"""and so much of that where it is not."""
NEUTRAL_AFTER = 0.3
"""Seconds from the first word of a sensor until how it is held then is its neutral position."""
ALL_THE_WAY = 45.0
"""Degrees of tilt that are all the way."""
TIPS, TIPS_UNTIL = 35.0, 25.0
"""Degrees at which a thing is tipped over, and below which it is no longer."""
DOWN, DOWN_UNTIL = -0.75, -0.5
"""Gravity along what is up in the neutral position, of 1, at which it lies on its face, and above which it does not."""
SWING = 1.0
"""Acceleration beside gravity, of gravity, that is a swing."""
SWINGS, SWINGS_WITHIN = 3, 0.6
"""So many swings to and fro within so many seconds are a shake."""
SHAKE_LASTS = 0.3
"""Seconds after the last swing for which it is pressed then."""

Vector = tuple[float, float, float]
Change = Callable[[float, str, float], None]
_WAYS = ("left", "right", "up", "down")


class _Held:
    """One thing with a sensor."""

    __slots__ = (
        "amount",
        "face_down",
        "felt",
        "forward",
        "gravity",
        "neutral",
        "right",
        "since",
        "swings",
        "t",
        "tipped",
        "up",
        "waiting",
    )

    def __init__(self, t: float) -> None:
        self.waiting: Waiting
        self.felt = [0.0, 0.0, 0.0]
        self.gravity = [0.0, 0.0, 0.0]
        self.t = self.since = t
        self.neutral = False
        self.amount = 0.0
        self.up = self.right = self.forward = (0.0, 0.0, 0.0)
        self.tipped: set[str] = set()
        self.face_down = False
        self.swings: list[tuple[float, int]] = []

    def take_as_neutral(self) -> None:
        """How it is held now is its neutral position."""
        up = _unit((self.gravity[0], self.gravity[1], self.gravity[2]))
        if up is None:
            return
        across = _unit((1 - up[0] * up[0], -up[0] * up[1], -up[0] * up[2]))
        if across is None:
            return  # it stands on its side, and nobody can say what is to the right
        self.up, self.right = up, across
        self.forward = (
            up[1] * across[2] - up[2] * across[1], up[2] * across[0] - up[0] * across[2], up[0] * across[1] - up[1] * across[0],
        )  # fmt: skip
        self.amount = hypot(*self.gravity)
        self.neutral = True


def _unit(vector: Vector) -> Vector | None:
    length = sqrt(_along(vector, vector))
    return None if length < 1e-6 else (vector[0] / length, vector[1] / length, vector[2] / length)


def _along(one: Vector, other: Vector) -> float:
    return one[0] * other[0] + one[1] * other[1] + one[2] * other[2]


class Tilting:
    """All things with a sensor. `change` is told (time, address, value) of what comes of that: `SURFACE.tilt.x` and `.y`, and
    cells that are pressed and let go."""

    def __init__(self, agenda: Agenda, change: Change) -> None:
        self._agenda = agenda
        self._change = change
        self._things: dict[str, _Held] = {}

    def feed(self, t: float, surface: str, part: str, value: float) -> None:
        """A sensor says something of one of its axes."""
        thing = self._things.get(surface)
        if thing is None:
            thing = self._things[surface] = _Held(t)
            thing.waiting = self._agenda.entry(partial(self._calm_down, surface=surface))
        axis = "xyz".index(part)
        # What it has felt until now has lasted until now.
        share = 1 - exp(-(t - thing.t) / GRAVITY_OVER)
        thing.t = t
        if thing.neutral and abs(hypot(*thing.felt) / thing.amount - 1) > ALMOST_GRAVITY:
            share *= HARDLY  # it is being moved about, and what it feels is not what is up
        for n in range(3):
            thing.gravity[n] += share * (thing.felt[n] - thing.gravity[n])
        thing.felt[axis] = value
        if not thing.neutral:
            if t - thing.since >= NEUTRAL_AFTER:
                thing.take_as_neutral()
            return
        self._tell(t, surface, thing)
        self._feel(t, surface, thing)

    def _tell(self, t: float, surface: str, thing: _Held) -> None:
        held = _unit((thing.gravity[0], thing.gravity[1], thing.gravity[2]))
        if held is None:
            return
        across = -degrees(asin(max(-1.0, min(1.0, _along(held, thing.right)))))
        down = degrees(asin(max(-1.0, min(1.0, _along(held, thing.forward)))))
        for axis, angle in (("x", across), ("y", down)):
            self._change(t, f"{surface}.tilt.{axis}", round(max(-1.0, min(1.0, angle / ALL_THE_WAY)), 4))
        far = dict(zip(_WAYS, (-across, across, -down, down), strict=True))
        upright = _along(held, thing.up)
        for way, angle in far.items():
            tipped = way in thing.tipped
            # On its face it is tipped in every direction and none.
            now = upright > DOWN_UNTIL and angle > (TIPS_UNTIL if tipped else TIPS)
            if now != tipped:
                (thing.tipped.add if now else thing.tipped.discard)(way)
                self._change(t, f"{surface}.tip-{way}", int(now))
        face_down = upright < (DOWN_UNTIL if thing.face_down else DOWN)
        if face_down != thing.face_down:
            thing.face_down = face_down
            self._change(t, f"{surface}.face-down", int(face_down))

    def _feel(self, t: float, surface: str, thing: _Held) -> None:
        beside = tuple(felt - gravity for felt, gravity in zip(thing.felt, thing.gravity, strict=True))
        far = max(beside, key=abs)
        if abs(far) < SWING * thing.amount:
            return
        way = (beside.index(far) + 1) * (1 if far > 0 else -1)
        thing.swings = [(then, other) for then, other in thing.swings if t - then < SWINGS_WITHIN]
        if thing.swings and thing.swings[-1][1] == way:
            return
        thing.swings.append((t, way))
        if thing.waiting.due < inf:
            self._agenda.set(thing.waiting, after(t, SHAKE_LASTS))
        elif len(thing.swings) >= SWINGS:
            self._agenda.set(thing.waiting, after(t, SHAKE_LASTS))
            self._change(t, f"{surface}.shake", 1)

    def _calm_down(self, t: float, surface: str) -> None:
        self._things[surface].swings.clear()
        self._change(t, f"{surface}.shake", 0)

    def take_as_neutral(self, t: float) -> None:
        """However everything is held now is its neutral position."""
        for surface, thing in self._things.items():
            if thing.neutral:
                thing.take_as_neutral()
                self._tell(t, surface, thing)

    def unplug(self, surface: str) -> None:
        """A surface is gone."""
        thing = self._things.pop(surface, None)
        if thing is not None:
            self._agenda.set(thing.waiting, inf)
