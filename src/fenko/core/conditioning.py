"""What is made of a control's position before it moves anything: calibration, dead zones, outer limit, curve, smoothing.

Positions are shares of the way: 0 to 1 for controls that go one way (triggers, faders), -1 to 1 for all others. The
order is calibration, dead zone, outer limit, curve, smoothing, inversion. Presses of directions go by the calibrated
position alone, so a curve never changes where a direction is a press.
"""

from __future__ import annotations

from bisect import bisect_right
from math import hypot, inf, pi

from msgspec import Struct

from fenko.core.axes import PRESS_AT, RELEASE_AT

Points = tuple[tuple[float, float], ...]
Extent = tuple[float, float]
CURVES = ("linear", "soft", "steep", "s")
"""Curves that have a name; any other is given by its points."""
WHOLE: Extent = (-1.0, 1.0)
STICK_DEAD_ZONE = 0.1
TILT_DEAD_ZONE = 0.15
STRUCK_AT, STRUCK_UNTIL = 0.005, 0.0025
"""Shares of the way at which a pad is pressed and let go: however softly it is struck."""


class Conditioning(Struct, frozen=True):
    """How one control is conditioned. `centre` is where it rests and `extent` how far it goes, for each of its axes, as
    shares of what the device can say; `dead_axes` is a dead zone of each axis alone, which keeps straight lines straight;
    `smooth` is a time in seconds; `inverted` are the axes that go the other way (the empty name is that of a control
    with one axis); `shown` is the range that a person wants to read."""

    centre: tuple[float, float] = (0.0, 0.0)
    extent: tuple[Extent, Extent] = (WHOLE, WHOLE)
    dead_zone: float = 0.0
    dead_axes: float = 0.0
    outer: float = 1.0
    curve: str | Points = "linear"
    smooth: float = 0.0
    inverted: frozenset[str] = frozenset()
    press: float = PRESS_AT
    release: float = RELEASE_AT
    shown: Extent | None = None
    spin: Points = ()
    """Of what turns: from so many detents a second on, a step counts so many times as much."""

    def calibrated(self, axis: int, one_sided: bool, inverted: bool, value: float) -> float:
        """Where an axis is, given where the device says that it is."""
        least, most = self.extent[axis]
        if one_sided:
            least = max(0.0, least)
            share = min(1.0, max(0.0, (value - least) / (most - least)))
            return 1.0 - share if inverted else share
        off = value - self.centre[axis]
        way = most - self.centre[axis] if off > 0 else self.centre[axis] - least
        share = min(1.0, max(-1.0, off / way))
        return -share if inverted else share

    def times(self, detents: float, seconds: float) -> float:
        """How many times as much a step counts that turns so many detents in that time; beyond the last point no more."""
        if not self.spin:
            return 1.0
        least, most = self.spin[0], self.spin[-1]
        rate = detents / seconds if seconds > 0 else inf
        if rate <= least[0] or rate >= most[0]:
            return least[1] if rate <= least[0] else most[1]
        return between(self.spin, rate)

    def shown_at(self, position: float) -> float:
        """What a person reads where the control is there (-1 to 1, or 0 to 1): a number of their own range, or percent."""
        if self.shown is None:
            return position * 100
        low, high = self.shown
        if low < 0 < high:
            return position * (high if position > 0 else -low)
        return low + (high - low) * position

    @property
    def calibrates(self) -> bool:
        """Whether a position is not simply what the device says."""
        return self.centre != (0.0, 0.0) or self.extent != (WHOLE, WHOLE) or bool(self.inverted)


def between(points: Points, share: float) -> float:
    """The line through these points (from x = 0 to x = 1) at `share`."""
    after = min(len(points) - 1, max(1, bisect_right(points, (share, inf))))
    (x0, y0), (x1, y1) = points[after - 1 : after + 1]
    return y0 + (y1 - y0) * (share - x0) / (x1 - x0)


class Shaping:
    """Dead zones, outer limit and curve of one control, ready to be used often."""

    def __init__(self, by: Conditioning, one_sided: bool = False) -> None:
        # What goes one way and is inverted rests at its other end, and has its dead zone there.
        self._turned = one_sided and bool(by.inverted)
        self.dead = by.dead_zone
        self.axial = by.dead_axes
        self.way = by.outer - by.dead_zone
        self.linear = by.curve == "linear"
        self._curve = by.curve
        self._points = () if isinstance(by.curve, str) else by.curve

    def along(self, share: float) -> float:
        """What a share of the way past the dead zone (0 to 1) comes to (0 to 1)."""
        if self.linear:
            return share
        if self._points:
            return between(self._points, share)
        match self._curve:
            case "soft":
                return (share + 2 * share**3) / 3
            case "steep":
                rest = 1 - share
                return 1 - (rest + 2 * rest**3) / 3
            case _:
                return share * share * (3 - 2 * share)

    def _past_axial(self, value: float) -> float:
        past = abs(value) - self.axial
        if past <= 0:
            return 0.0
        return past / (1 - self.axial) * (1 if value > 0 else -1)

    def one(self, value: float) -> float:
        """What the position of a control with one axis comes to."""
        return 1.0 - self._one(1.0 - value) if self._turned else self._one(value)

    def _one(self, value: float) -> float:
        if self.axial:
            value = self._past_axial(value)
        past = abs(value) - self.dead
        if past <= 0:
            return 0.0
        share = past / self.way
        made = self.along(share) if share < 1 else 1.0
        return made if value > 0 else -made

    def two(self, x: float, y: float) -> tuple[float, float]:
        """What the position of a control with two axes comes to: its direction stays, its distance is conditioned."""
        if self.axial:
            x, y = self._past_axial(x), self._past_axial(y)
        distance = hypot(x, y)
        past = distance - self.dead
        if past <= 0:
            return 0.0, 0.0
        share = past / self.way
        if share >= 1:
            return x / distance, y / distance
        scale = (share if self.linear else self.along(share)) / distance
        return x * scale, y * scale


_SPEED_CUTOFF = 1.0
"""Hz; how much the speed itself is smoothed."""
_CUTOFF_PER_SPEED = 4.0
"""Hz of cutoff for each whole way a second: a hand that crosses the way in a quarter of a second is not delayed by more
than some milliseconds."""


class OneEuro:
    """Smooths a position: much while it hardly moves, so that it does not tremble, and hardly while it moves fast, so that
    it does not lag. After G. Casiez, N. Roussel and D. Vogel, "1 € Filter: a simple speed-based low-pass filter for noisy
    input in interactive systems", CHI 2012. `seconds` is the time constant at rest."""

    __slots__ = ("_least", "_speed", "_t", "_value")

    def __init__(self, seconds: float) -> None:
        self._least = 1 / (2 * pi * seconds)
        self._t = -inf
        self._value = 0.0
        self._speed = 0.0

    def at(self, t: float, target: float) -> float:
        """The smoothed position at `t`, where the control has been at `target` since the last time."""
        if not target:
            # Rest is rest, at once: what a hand let go of never creeps on.
            self._t, self._value, self._speed = t, 0.0, 0.0
            return 0.0
        since = t - self._t
        self._t = t
        if since <= 0:
            return self._value
        if since > 1:  # it began to move just now
            self._value, self._speed = target, 0.0
            return target
        speed = (target - self._value) / since
        self._speed += _weight(_SPEED_CUTOFF, since) * (speed - self._speed)
        cutoff = self._least + _CUTOFF_PER_SPEED * abs(self._speed)
        self._value += _weight(cutoff, since) * (target - self._value)
        return self._value


def _weight(cutoff: float, since: float) -> float:
    passed = 2 * pi * cutoff * since
    return passed / (passed + 1)
