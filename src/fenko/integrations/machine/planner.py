"""How a controller moves: blocks in a queue, one speed along them that never changes faster than each axis can.

Speeds are mm (or degrees) a second, accelerations a second squared."""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping
from math import inf, sqrt

from msgspec import Struct

_ARRIVED = 1e-9
_SLOWEST = 1e-3  # what counts as standing still


class AxisLimits(Struct, frozen=True):
    """Of one axis: how far it reaches (least and most), how fast it goes, and how fast its speed may change."""

    least: float
    most: float
    fastest: float
    acceleration: float


class Block(Struct):
    """A straight move: how far along each axis, at which speed at most, and what kind it is (`jog`, `move`)."""

    way: dict[str, float]
    speed: float
    kind: str = "move"
    length: float = 0.0
    done: float = 0.0
    acceleration: float = inf

    def unit(self, axis: str) -> float:
        """Its direction along one axis."""
        return self.way.get(axis, 0.0) / self.length


class Planner:
    """The queue and what moves. `position` is where the machine is, by axis."""

    def __init__(self, axes: Mapping[str, AxisLimits], room: int) -> None:
        self.axes = dict(axes)
        self.position = dict.fromkeys(axes, 0.0)
        self.room = room
        self.blocks: deque[Block] = deque()
        self.speed = 0.0
        self.holding = False
        self._flushes = False

    @property
    def full(self) -> bool:
        """Whether nothing more fits."""
        return len(self.blocks) >= self.room

    @property
    def moving(self) -> bool:
        """Whether anything moves."""
        return self.speed > _SLOWEST

    @property
    def end(self) -> dict[str, float]:
        """Where it will be when the queue is empty."""
        found = dict(self.position)
        for block in self.blocks:
            left = 1 - block.done / block.length
            for axis, far in block.way.items():
                found[axis] += far * left
        return found

    def put(self, way: Mapping[str, float], speed: float, kind: str) -> None:
        """A move comes into the queue; its speed is what its axes allow."""
        way = {axis: far for axis, far in way.items() if abs(far) > _ARRIVED}
        if not way:
            return
        length = sqrt(sum(far * far for far in way.values()))
        shares = {axis: abs(far) / length for axis, far in way.items()}
        fastest = min(self.axes[axis].fastest / share for axis, share in shares.items())
        acceleration = min(self.axes[axis].acceleration / share for axis, share in shares.items())
        self.blocks.append(Block(way, min(speed, fastest), kind, length, 0.0, acceleration))

    def flush(self) -> None:
        """What moves comes to rest as fast as it can, and the rest of the queue is forgotten."""
        self._flushes = True

    def stop_dead(self) -> None:
        """Everything stands still at once: what motors do that lose their steps."""
        self.speed = 0.0
        self.blocks.clear()
        self._flushes = self.holding = False

    def advance(self, seconds: float) -> None:
        """So much time passes, in which the speed along the way changes once."""
        if not self.blocks:
            self.speed = 0.0
            self._flushes = False
            return
        block = self.blocks[0]
        allowed = 0.0 if self.holding or self._flushes else self._allowed()
        change = block.acceleration * seconds
        self.speed = max(min(self.speed + change, allowed), self.speed - change, 0.0)
        if self._flushes and self.speed <= _SLOWEST:
            self.stop_dead()
            return
        self._go(self.speed * seconds)

    def _allowed(self) -> float:
        """How fast it may go now, so that it can slow down for every corner and for the end of the queue."""
        far = 0.0
        allowed = self.blocks[0].speed
        before: Block | None = None
        for block in self.blocks:
            if before is not None:
                corner = self._corner(before, block)
                allowed = min(allowed, sqrt(corner * corner + 2 * before.acceleration * far))
                if far > self.speed * self.speed / before.acceleration + 1:
                    return allowed
            far += block.length - block.done
            before = block
        assert before is not None
        return min(allowed, sqrt(2 * before.acceleration * far))

    def _corner(self, one: Block, next_one: Block) -> float:
        """How fast one may go from one block into the next: all the way on a straight line, not at all back."""
        along = sum(one.unit(axis) * next_one.unit(axis) for axis in one.way)
        return (
            min(one.speed, next_one.speed) if along > 0.9999 else max(0.0, along) * min(one.speed, next_one.speed) * 0.1
        )

    def _go(self, far: float) -> None:
        while far > 0 and self.blocks:
            block = self.blocks[0]
            step = min(far, block.length - block.done)
            for axis in block.way:
                self.position[axis] += block.unit(axis) * step
            block.done += step
            far -= step
            if block.length - block.done < _ARRIVED:
                self.blocks.popleft()
        if not self.blocks:
            self.speed = 0.0

    def braking(self) -> float:
        """How far it goes until it stands still, if it begins to brake now (mm)."""
        if not self.blocks:
            return 0.0
        return self.speed * self.speed / (2 * self.blocks[0].acceleration)
