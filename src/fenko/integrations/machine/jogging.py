"""Jogging that cannot run away: a hand's wishes become short pieces of motion, which end by themselves.

Whatever becomes of the hand, of Fenko, of the line: at most `BEYOND` seconds of motion are ever asked for in advance, besides the
way that braking takes."""

from __future__ import annotations

from collections.abc import Mapping
from math import copysign, inf, sqrt

from fenko.integrations.machine.controller import ASKED_EVERY, PERIOD, Controller, Sent
from fenko.integrations.machine.dialects import Answer
from fenko.integrations.machine.planner import AxisLimits

BEYOND = 0.05
"""Seconds of motion that are asked for in advance."""
ALIVE = 0.06
"""Seconds after which a hand that says nothing more is none."""
GONE = 1.0
"""Seconds after which it is not enough that it is there again: it has to come to rest first."""
LAG = BEYOND + ASKED_EVERY + 2 * PERIOD
"""Seconds that a machine may be behind a hand whose steps it follows."""
_STILL = 0.01  # mm a second
_LEAST_STEP = 0.02  # mm that a step is not cut into
_LEAST_WAY = 0.00005  # mm
_MARGIN = 0.01  # mm that are kept away from the end of the travel
_RESOLVED = 0.006  # mm; a place that is told is no closer to the truth than this


class Jogging:
    """The hand on a controller. `axes` are those that it can move; ways are mm (or degrees), speeds mm a second."""

    def __init__(self, controller: Controller, axes: Mapping[str, AxisLimits]) -> None:
        self.axes = dict(axes)
        self.left_out = 0
        """Steps that came while the machine still had more before it than it could do at once."""
        self.others_moved = False
        """Whether something else than a hand moved the machine, and it has not been seen to rest since."""
        self.at_end = ""
        """The axis that is at the end of its travel, and is to go on."""
        self._controller = controller
        self._wanted: dict[str, float] = {}
        self._going: dict[str, float] = {}
        self._steps: dict[str, float] = {}
        self._alive_until = -inf
        self._must_rest = False
        self._ahead_until = -inf
        self._sent: dict[str, float] = dict.fromkeys(axes, 0.0)
        self._synced = False  # whether it is known where the machine will be when all that was asked for is done
        self._settled = True  # whether it has been seen to rest since it was last asked to move
        self._jogs = False  # whether motion has been asked for that may not be over
        self._before: Mapping[str, float] | None = None  # where it was when it was asked last
        self._mode = False  # whether what has to be said before the first jog has been, and was answered
        self._begins: list[Sent] = []  # of that, what has not been answered yet

    # --- What the hand wants ---

    def steer(self, velocity: Mapping[str, float]) -> None:
        """It wants this velocity from now on, as long as it says with `alive` that it is there."""
        wanted = {axis: speed for axis, speed in velocity.items() if speed and axis in self.axes}
        if not wanted:
            self._must_rest = False
            self._wanted = {}
        elif not self._must_rest:
            self._wanted = wanted
            self._steps.clear()

    def alive(self, at: float) -> None:
        """It was there at that time."""
        self._alive_until = max(self._alive_until, at + ALIVE)

    def step(self, axis: str, far: float) -> bool:
        """It wants so much further along an axis. Not taken, where the machine has more before it than it can follow: so it
        stops where the hand does."""
        limits = self.axes[axis]
        left = self._steps.get(axis, 0.0)
        before = abs(left) + (abs(self._before_it()) if self._synced else 0.0)
        if abs(left + far) >= abs(left) and before > _braking(limits) + limits.fastest * LAG:
            self.left_out += 1
            return False
        self._steps[axis] = left + far
        return True

    def stop(self) -> None:
        """It wants nothing any more, at once, and has to come to rest before it wants anything again."""
        self._must_rest = self._must_rest or bool(self._wanted)
        self._wanted = {}
        self._steps.clear()

    def rest_first(self) -> None:
        """What it wants now, or will before it has been at rest, does not count."""
        self.stop()
        self._must_rest = True

    # --- What is heard ---

    def answered(self, now: float, answer: Answer, sent: Sent | None) -> None:
        """The controller has said this, of that line."""
        match answer.sort:
            case "ok" if sent is not None and self._begins:
                self._begins = [one for one in self._begins if one is not sent]
                self._mode = not self._begins
            case "error":
                self._begins.clear()
                if sent is not None:
                    for axis, far in sent.way.items():
                        self._sent[axis] -= far
                self.stop()
            case "alarm" | "greeting":
                self.forget()
            case "state":
                if self._controller.alarm:
                    self.stop()
                if self._controller.position is not None and all(axis in answer.position for axis in self.axes):
                    self._corrected(now, self._rests(now, answer))
        self._before = self._controller.position

    def _rests(self, now: float, answer: Answer) -> bool:
        """Whether it stands still; one that does not say so is where it was when it was asked last, and had time to begin."""
        if answer.state:
            return answer.state == "Idle"
        return self._before == self._controller.position and now > self._ahead_until + 2 * ASKED_EVERY

    def _corrected(self, now: float, rests: bool) -> None:
        """Where it really is says how much it has still before it: more than was reckoned where it went round a corner."""
        if not self.moving and rests:
            position = self._controller.position
            assert position is not None
            for axis in self.axes:
                if not self._synced or abs(self._sent[axis] - position[axis]) > _RESOLVED:
                    self._sent[axis] = position[axis]
            self._synced = self._settled = True
            self.others_moved = False
            self._jogs = False
        elif self._going:
            left = self._before_it()
            speed = sqrt(sum(one * one for one in self._going.values()))
            slowest = min(self.axes[axis].acceleration for axis in self._going)
            self._ahead_until = now + min(left / speed, 2 * sqrt(left / slowest))

    def forget(self) -> None:
        """Nothing of what was asked for is done any more, or nobody knows."""
        self.stop()
        self._synced = self._jogs = self._mode = self.others_moved = False
        self._begins.clear()
        self._settled = True
        self._going = {}
        self._ahead_until = -inf

    def moved_by_others(self) -> None:
        """Something else moves the machine now; where it is has to be heard again."""
        self.stop()
        self._synced = self._mode = self._settled = False
        self._begins.clear()
        self.others_moved = True

    # --- What is sent ---

    @property
    def moving(self) -> bool:
        """Whether anything has been asked for that may not be over."""
        return bool(self._going) or any(one.way for one in self._controller.unanswered)

    @property
    def busy(self) -> bool:
        """Whether it moves, or is about to, or has not come to rest yet."""
        return self.moving or not self._settled or bool(self._wanted) or self._steps_left

    @property
    def _steps_left(self) -> bool:
        return any(abs(far) >= _LEAST_WAY for far in self._steps.values())

    @property
    def speed(self) -> float:
        """How fast it is asked to go (mm a second)."""
        return sqrt(sum(one * one for one in self._going.values()))

    @property
    def prepares(self) -> bool:
        """Whether nothing else is to be said to the controller for the moment."""
        return bool(self._begins)

    @property
    def synced(self) -> bool:
        """Whether it is known where the machine is, or will be."""
        return self._synced

    def tick(self, now: float) -> bytes:
        """What is to be sent now; call it every `PERIOD`, as long as the machine may be jogged."""
        if now > self._alive_until + GONE and (self._wanted or self._steps_left):
            self.stop()
        wanted = self._wanted if now <= self._alive_until + BEYOND else {}
        if not wanted and self._jogs:
            self._jogs, self._going = False, {}
            if self._controller.dialect.real_time:
                self._ahead_until = -inf
                self._synced = False
                self._controller.soon(now, PERIOD)
                return self._controller.dialect.cancel
        if not self._synced:
            return b""  # it has to stand still before it goes on from there
        if now > self._alive_until:
            # The desk has not confirmed the hand in time. The motion already sent runs out before it is cancelled: a desk that is
            # only late then continues the jog without a stop.
            if now > self._ahead_until:
                self._going = {}
            return b""
        if wanted or self._steps_left:
            begins = self._begin(now)
            if not self._mode:
                return begins
        room = self._controller.dialect.waiting
        if not wanted:
            return self._stepped(now) if len(self._controller.unanswered) < room else b""
        found = b""
        while len(self._controller.unanswered) < room and (piece := self._piece(now, wanted)):
            found += piece
        return found

    def _jog(self, now: float, way: dict[str, float], speed: float) -> bytes:
        """A piece of motion, and what has to be said before the first."""
        self._settled = False
        for axis, far in way.items():
            self._sent[axis] += far
        return self._controller.line(now, self._controller.dialect.jog(way, speed), way)

    def _begin(self, now: float) -> bytes:
        """What has to be said before anything moves. A distance that were read as a place would lead far away, so it is waited until that was
        answered; and nothing else is under way meanwhile, so that no other answer can be taken for that one."""
        lines = self._controller.dialect.begins
        if not lines:
            self._mode = True
        if self._mode or self._begins or self._controller.unanswered:
            return b""
        found = b"".join(self._controller.line(now, text) for text in lines)
        self._begins = list(self._controller.unanswered)[-len(lines) :]
        return found

    def _before_it(self) -> float:
        """How far it was from where it was seen last to where it has been asked to be."""
        position = self._controller.position
        assert position is not None
        return sqrt(sum((self._sent[axis] - position[axis]) ** 2 for axis in self.axes))

    def _stepped(self, now: float) -> bytes:
        """The next piece of the steps that are left: as fast as the axes can, and ending exactly there."""
        left = {axis: far for axis, far in self._steps.items() if abs(far) >= _LEAST_WAY}
        if not left:
            self._going = {}
            return b""
        wanted = {}
        for axis, far in left.items():
            limits = self.axes[axis]
            # As fast as it can still brake from, on the way that is left.
            wanted[axis] = copysign(min(limits.fastest, sqrt(2 * limits.acceleration * abs(far))), far)
        return self._piece(now, wanted, left)

    def _piece(self, now: float, wanted: Mapping[str, float], left: Mapping[str, float] | None = None) -> bytes:
        """The next piece of motion, if there is to be one: slower or faster than the last by what the axes can in that time. No
        further than what is `left`, where that is given."""
        going = self._slewed(wanted)
        if not going:
            self._going = {}
            return b""
        speed = sqrt(sum(one * one for one in going.values()))
        acceleration = min(self.axes[axis].acceleration * speed / abs(one) for axis, one in going.items())
        if max(now, self._ahead_until) - now > speed / (2 * acceleration) + BEYOND - PERIOD:
            return b""
        if self._before_it() > speed * speed / (2 * acceleration) + speed * (BEYOND + ASKED_EVERY + PERIOD):
            return b""  # whatever was reckoned, so much of it has not been seen to be done
        self._going = going
        way = {axis: one * PERIOD for axis, one in going.items()}
        if left is None:
            self._jogs = True
        else:
            way = {axis: self._step_of(axis, far, left.get(axis, 0.0)) for axis, far in way.items()}
        way = {axis: round(self._kept(axis, far), 4) for axis, far in way.items()}
        if left is not None:
            self._count_off(way, left)
        way = {axis: far for axis, far in way.items() if abs(far) >= _LEAST_WAY}
        if not way:
            return b""
        self._ahead_until = max(now, self._ahead_until) + PERIOD
        length = sqrt(sum(far * far for far in way.values()))
        return self._jog(now, way, max(1.0, length / PERIOD * 60))

    def _step_of(self, axis: str, far: float, left: float) -> float:
        """Of a piece of a step, so much as does not go past its end."""
        return left if far * left > 0 and abs(far) >= abs(left) - _LEAST_STEP / 2 else far

    def _count_off(self, way: Mapping[str, float], left: Mapping[str, float]) -> None:
        """These pieces of steps are asked for; what the travel has no room for is left out."""
        for axis, far in way.items():
            rest = left.get(axis, 0.0) - far
            # What is too little to be said is kept for the next step.
            self._steps[axis] = 0.0 if self.at_end == axis else rest

    def _slewed(self, wanted: Mapping[str, float]) -> dict[str, float]:
        """The velocity one piece later: straight towards the wanted one, so that two axes keep the direction of the stick."""
        limits = self.axes
        too_fast = max([1.0, *(abs(speed) / limits[axis].fastest for axis, speed in wanted.items())])
        change = {axis: wanted.get(axis, 0.0) / too_fast - self._going.get(axis, 0.0) for axis in limits}
        share = min([1.0, *(limits[axis].acceleration * PERIOD / abs(one) for axis, one in change.items() if one)])
        found = {axis: self._going.get(axis, 0.0) + one * share for axis, one in change.items()}
        return {axis: speed for axis, speed in found.items() if abs(speed) > _STILL}

    def _kept(self, axis: str, far: float) -> float:
        """So much of a way as stays within the travel."""
        limits = self.axes[axis]
        end = min(limits.most - _MARGIN, max(limits.least + _MARGIN, self._sent[axis] + far))
        kept = end - self._sent[axis]
        kept = kept if kept * far > 0 else 0.0
        self.at_end = axis if abs(kept) < abs(far) - 1e-6 else "" if self.at_end == axis else self.at_end
        return kept


def _braking(limits: AxisLimits) -> float:
    """How far it goes while it brakes from its fastest speed (mm)."""
    return limits.fastest * limits.fastest / (2 * limits.acceleration)
