"""What every control is doing, in words: the picture that `fenko watch` shows, without any terminal."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable
from math import inf

from msgspec import Struct

from fenko.core.changes import OUTSIDE, PLUG, UNPLUG, Change
from fenko.core.conditioning import Conditioning
from fenko.core.controls import BUTTON, MOTION, Shape
from fenko.core.descriptions import BURST
from fenko.core.plan import Surface

FRESH = 0.4
"""Seconds in which a control that moved stands out."""
_SPEED_OVER = 0.5  # s; the speed of a dial is counted over the last half second


class Row(Struct, frozen=True):
    """One control as it is now. `share` is how far it is pushed (0 to 1), None where that says nothing; `inputs` are
    the addresses that have told something."""

    surface: str
    control: str
    words: str
    share: float | None
    active: bool
    moved_at: float | None
    inputs: tuple[str, ...]


class _Control:
    """What is known of one control, whose positions a person reads as `by` says."""

    def __init__(self, shape: Shape, by: Conditioning) -> None:
        self.shape = shape
        self.by = by
        self.values: dict[str, float] = {}
        self.total = 0.0
        self.turns: deque[tuple[float, float]] = deque()
        self.moved_at: float | None = None
        self.pressed_at = -inf
        self.presses = 0

    def see(self, t: float, part: str, value: float) -> None:
        if self.shape is BUTTON and value:
            self.presses = self.presses + 1 if t - self.pressed_at < BURST else 1
            self.pressed_at = t
        self.moved_at = t
        if self.shape.turns or self.shape is MOTION:
            self.values[part] = self.values.get(part, 0.0) + value
            self.turns.append((t, value))
        else:
            self.values[part] = value

    def speed(self, now: float) -> float:
        """Detents a second, of late."""
        while self.turns and self.turns[0][0] < now - _SPEED_OVER:
            self.turns.popleft()
        return sum(abs(value) for _, value in self.turns) / _SPEED_OVER

    def row(self, surface: str, name: str, now: float) -> Row:
        words, share, active = self._describe(now)
        inputs = tuple(f"{surface}.{name}.{part}" if part else f"{surface}.{name}" for part in self.values)
        return Row(surface, name, words, share, active, self.moved_at, inputs)

    def _describe(self, now: float) -> tuple[str, float | None, bool]:
        if self.shape.turns:
            total, speed = self.values.get("", 0.0), self.speed(now)
            return f"{total:+g} detents" + (f", {speed:.0f}/s" if speed else ""), None, speed > 0
        if self.shape is MOTION:
            across, down = self.values.get("x", 0.0), self.values.get("y", 0.0)
            return f"{across:+g} across, {down:+g} down", None, self.speed(now) > 0
        if self.shape is BUTTON:
            down = bool(self.values.get(""))
            several = f", {self.presses} presses at once" if self.presses > 1 else ""
            return ("pressed" if down else "up") + several, float(down), down
        directions = [
            (direction, share) for part, value in self._axes() if (found := _direction(self.shape, part, value))
            for direction, share in [found]
        ]  # fmt: skip
        directions += [(part, 1.0) for part in self.shape.directions if self.values.get(part)]
        if not directions:
            return "centre" if self.shape.directions else "0 %", 0.0, False
        words = ", ".join(f"{direction} {self._shown(direction, share)}".strip() for direction, share in directions)
        return words, max(share for _, share in directions), True

    def _shown(self, direction: str, share: float) -> str:
        """How far it is pushed that way, in the person's own range, or percent."""
        if self.by.shown is None:
            return f"{share:.0%}".replace("%", " %")
        less = any(direction == ends[0] for ends in self.shape.axes.values())
        return f"{self.by.shown_at(-share if less else share):.6g}"

    def _axes(self) -> Iterable[tuple[str, float]]:
        return [(part, self.values[part]) for part in self.shape.axes if part in self.values]


def _direction(shape: Shape, axis: str, value: float) -> tuple[str, float] | None:
    """Which way an axis is pushed, in words, and how far; None at rest."""
    if round(value, 2) == 0:
        return None
    return (shape.direction(axis, value), abs(value))


class Board:
    """Keeps all controls of all surfaces, in a steady order."""

    def __init__(self) -> None:
        self._surfaces: dict[str, Surface] = {}
        self._controls: dict[str, dict[str, _Control]] = {}
        self._gone: set[str] = set()

    def add(self, surface: Surface, controls: Iterable[str]) -> None:
        """A surface with these controls (by the kernel's names) is there. What is known already stays, but for what acts otherwise
        than was thought."""
        self._surfaces[surface.name] = surface
        known = self._controls.setdefault(surface.name, {})
        for control in controls:
            own = surface.own_name(control)
            shape = surface.shape(own) or BUTTON
            if own not in known or known[own].shape is not shape:
                known[own] = _Control(shape, surface.conditioning_of(own))
        self._gone.discard(surface.name)

    def knows(self, address: str) -> bool:
        """Whether the control at an address is one of those."""
        surface, _, rest = address.partition(".")
        return rest.partition(".")[0] in self._controls.get(surface, {})

    def see(self, change: Change) -> None:
        """Takes note of a change."""
        t, address, value = change
        if address == UNPLUG:
            self._gone.add(value)
            for control in self._controls.get(value, {}).values():
                if not control.shape.turns and control.shape is not MOTION:
                    control.values.clear()
        elif address == PLUG:
            self._gone.discard(value)
        elif address not in OUTSIDE:
            surface, _, rest = address.partition(".")
            name, _, part = rest.partition(".")
            known = self._controls.get(surface, {}).get(name)
            if known is not None:
                known.see(t, part, value)

    def row(self, address: str, now: float) -> Row | None:
        """The row of the control at an address."""
        surface, _, rest = address.partition(".")
        name = rest.partition(".")[0]
        control = self._controls.get(surface, {}).get(name)
        return control.row(surface, name, now) if control else None

    def rows(self, now: float) -> list[Row]:
        """Every control, surface by surface."""
        return [
            control.row(surface, name, now)
            for surface, controls in self._controls.items()
            for name, control in controls.items()
        ]

    def gone(self, surface: str) -> bool:
        """Whether the surface has been unplugged."""
        return surface in self._gone
