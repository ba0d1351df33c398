"""Touch areas: a finger on one moves the pointer, or scrolls, as far as it moves; a short touch that hardly moves is a tap."""

from __future__ import annotations

from collections.abc import Callable

from fenko.core.changes import Effect
from fenko.core.stack import Stack
from fenko.core.steps import Move

TAP_WITHIN = 0.03
"""Share of its width that a finger can move and still have tapped."""
HEIGHT = 0.5
"""Of the width; what a touch area is taken for."""


class _Finger:
    """A finger that is down: where it is, as far as that is known, and how far it has moved in all."""

    __slots__ = ("moved", "x", "y")

    def __init__(self) -> None:
        self.x: float | None = None
        self.y: float | None = None
        self.moved = 0.0


class Touching:
    """All touch areas. `out` takes the effects; `no_tap` is told (time, control) of a touch that is no tap any more."""

    def __init__(self, out: list[Effect], no_tap: Callable[[float, str], None]) -> None:
        self._out = out
        self._no_tap = no_tap
        self._down: dict[str, _Finger] = {}

    def touch(self, control: str, on: bool) -> None:
        """A finger came down, or went up. Wherever it comes down, nothing jumps there."""
        if on:
            self._down[control] = _Finger()
        else:
            self._down.pop(control, None)

    def move(self, t: float, control: str, part: str, share: float, stack: Stack) -> None:
        """The finger is at that share of the way across, or down."""
        finger = self._down.get(control)
        if finger is None:
            return
        before = getattr(finger, part)
        setattr(finger, part, share)
        if before is None:
            return
        far = share - before
        far = far * HEIGHT if part == "y" else far
        was_tap = finger.moved < TAP_WITHIN
        finger.moved += abs(far)
        if was_tap and finger.moved >= TAP_WITHIN:
            self._no_tap(t, control)
        for drive in stack.drives(control):
            step = drive.step
            if isinstance(step, Move) and far:
                way = round(step.speed * far, 3)
                self._out.append((t, "pointer", step.act, *((way, 0.0) if part == "x" else (0.0, way))))

    def unplug(self, surface: str) -> None:
        """A surface is gone."""
        self._down = {control: one for control, one in self._down.items() if not control.startswith(f"{surface}.")}
