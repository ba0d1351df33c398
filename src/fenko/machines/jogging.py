"""Jogging that cannot run away: a hand's wishes become short pieces of motion, which end by themselves.

Nothing here knows a clock or a line: it is told the time and what has been heard, and says what is to be sent. Whatever becomes of
the hand, of Fenko, of the line: at most `BEYOND` seconds of motion are ever asked for in advance, besides the way that braking takes.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping
from math import inf, sqrt

from fenko.machines.dialects import Answer, Dialect
from fenko.machines.planner import AxisLimits

PERIOD = 0.02
"""Seconds from one piece to the next."""
BEYOND = 0.05
"""Seconds of motion that are asked for in advance."""
ALIVE = 0.06
"""Seconds after which a hand that says nothing more is none."""
SILENT = 0.25
"""Seconds without an answer, though there should be one, after which the line is taken for lost."""
ASKED_EVERY = 0.05
"""Seconds from one question for the state to the next, while something moves."""
RESTS_EVERY = 1.0
"""The same while nothing does."""
_STILL = 0.01  # mm a second
_LEAST_STEP = 0.05  # mm that a step is not cut into
_LONGEST_ANSWER = 400
_MARGIN = 0.01  # mm that are kept away from the end of the travel


class Lost(Exception):
    """The line is no good any more: what waits in it must not arrive, so it is to be emptied and closed."""


class Jogging:
    """One machine and the hand on it.

    `axes` are in the order in which the machine tells its position. Positions and ways are mm (or degrees), speeds mm a second."""

    def __init__(self, dialect: Dialect, axes: Mapping[str, AxisLimits]) -> None:
        self.dialect = dialect
        self.axes = dict(axes)
        self.state = ""
        self.position: dict[str, float] | None = None
        self.alarm = ""
        self.said = ""
        """The last thing that was refused, in the controller's words."""
        self._wanted: dict[str, float] = {}
        self._going: dict[str, float] = {}
        self._steps: dict[str, float] = {}
        self._alive_until = -inf
        self._greeted = False
        self._unanswered: deque[tuple[float, dict[str, float]]] = deque()
        self._asked_at: float | None = None
        self._next_ask = -inf
        self._ahead_until = -inf
        self._sent: dict[str, float] = dict.fromkeys(axes, 0.0)
        self._rest = b""
        self._unlocks = ""  # `wanted`, then `said`
        self._synced = False  # whether it is known where the machine will be when all that was asked for is done
        self._jogs = self._stepping = False  # whether motion has been asked for, of either sort, that may not be over

    # --- What the hand wants ---

    def steer(self, now: float, velocity: Mapping[str, float]) -> None:
        """It wants this velocity from now on, as long as it says so with `alive`."""
        if self.alarm:
            return
        self._wanted = {axis: speed for axis, speed in velocity.items() if speed and axis in self.axes}
        self._alive_until = now + ALIVE
        if not self._wanted:
            self._steps.clear()

    def alive(self, now: float) -> None:
        """It is still there."""
        self._alive_until = now + ALIVE

    def step(self, now: float, axis: str, far: float) -> None:
        """It wants so much further along an axis; steps that come faster than the machine are added up."""
        if self.alarm:
            return  # and nothing of it is made up for later
        self._steps[axis] = self._steps.get(axis, 0.0) + far
        self._alive_until = now + ALIVE

    def stop(self) -> None:
        """It wants nothing any more, at once."""
        self._wanted = {}
        self._steps.clear()

    def clear_alarm(self) -> None:
        """On purpose: what kept it from moving is dealt with."""
        if self.alarm or self.state == "Alarm":
            self._unlocks = "wanted"

    # --- What is heard ---

    def hear(self, now: float, data: bytes) -> None:
        """These bytes came. What means nothing is left out."""
        *lines, self._rest = (self._rest + data).split(b"\n")
        self._rest = self._rest[-_LONGEST_ANSWER:]
        for line in lines:
            text = line[-_LONGEST_ANSWER:].decode("latin-1").strip()
            if text:
                self._answered(now, self.dialect.read(text))

    def _answered(self, now: float, answer: Answer) -> None:
        match answer.sort:
            case "ok":
                if self._unanswered:
                    self._unanswered.popleft()
                    if self._unlocks == "said":
                        self.alarm = self.state = self._unlocks = ""
            case "error":
                if self._unanswered:
                    _, way = self._unanswered.popleft()
                    for axis, far in way.items():
                        self._sent[axis] -= far
                self.said = answer.text
                self.stop()
            case "alarm":
                self.alarm = answer.text
                self._forget()
            case "greeting":
                # It has started anew, and knows nothing of what it was asked.
                self._greeted = True
                self._forget()
            case "state":
                self._greeted = True
                self._asked_at = None
                self.state = answer.state or self.state
                if answer.state == "Alarm":
                    self.alarm = self.alarm or "it waits to be unlocked or homed"
                elif answer.state and self.alarm and not self._unlocks:
                    self.alarm = ""  # somebody else has seen to it
                if len(answer.position) >= len(self.axes):
                    before, self.position = self.position, dict(zip(self.axes, answer.position, strict=False))
                    self._corrected(now, answer.state == "Idle" or (not answer.state and before == self.position))

    def _corrected(self, now: float, rests: bool) -> None:
        """Where it really is says how much it has still before it: more than was reckoned where it went round a corner."""
        assert self.position is not None
        if not self.moving and rests:
            self._sent = dict(self.position)
            self._synced = True
            self._jogs = self._stepping = False
        elif self._going:
            left = self._before_it()
            speed = sqrt(sum(one * one for one in self._going.values()))
            slowest = min(self.axes[axis].acceleration for axis in self._going)
            self._ahead_until = now + min(left / speed, 2 * sqrt(left / slowest))

    def _forget(self) -> None:
        self.stop()
        self._synced = self._jogs = self._stepping = False
        self._going = {}
        self._unanswered.clear()
        self._asked_at = None
        self._ahead_until = -inf
        self._unlocks = ""

    # --- What is sent ---

    @property
    def moving(self) -> bool:
        """Whether anything has been asked for that may not be over."""
        return bool(self._going) or any(way for _, way in self._unanswered)

    def tick(self, now: float) -> bytes:
        """What is to be sent now; call it every `PERIOD`. Raises Lost."""
        oldest = min(
            [at for at, _ in self._unanswered] + ([self._asked_at] if self._asked_at is not None else []), default=now
        )
        if now - oldest > SILENT:
            self._forget()
            self._greeted, self.state, self.position = False, "", None
            raise Lost
        if now > self._alive_until:
            # Nobody is there: what has been asked for by steps is taken back too.
            self._jogs = self._jogs or self._stepping
            self._stepping = False
            self.stop()
        found = b""
        if not self.alarm and self._greeted:
            found += self._jogged(now)
        elif self._unlocks == "wanted" and self._greeted and not self._unanswered:
            self._unlocks = "said"
            found += self._line(now, self.dialect.unlock, {})
        if self.moving:
            self._next_ask = min(self._next_ask, now + ASKED_EVERY)  # it rested until now
        if self._asked_at is None and now >= self._next_ask:
            self._next_ask = now + (
                PERIOD
                if self._greeted and not self._synced
                else ASKED_EVERY
                if self.moving or not self._greeted
                else RESTS_EVERY
            )
            if self.dialect.real_time:
                self._asked_at = now
                found += self.dialect.ask
            else:
                # A line as any other, with an `ok` of its own.
                found += self._line(now, self.dialect.ask.decode().strip(), {})
        return found

    def _line(self, now: float, text: str, way: dict[str, float]) -> bytes:
        self._unanswered.append((now, way))
        return text.encode("ascii", "replace") + b"\n"

    def _jogged(self, now: float) -> bytes:
        if not self._wanted and self._jogs:
            self._jogs, self._going = False, {}
            if self.dialect.real_time:
                self._ahead_until = -inf
                self._synced = False
                self._next_ask = now + PERIOD
                return self.dialect.cancel
        if not self._synced:
            return b""  # it has to stand still before it goes on from there
        if not self._wanted:
            return self._stepped(now) if len(self._unanswered) < self.dialect.waiting else b""
        found = b""
        while len(self._unanswered) < self.dialect.waiting and (piece := self._piece(now, self._wanted)):
            found += piece
        return found

    def _before_it(self) -> float:
        """How far it was from where it was seen last to where it has been asked to be."""
        assert self.position is not None
        return sqrt(sum((self._sent[axis] - self.position[axis]) ** 2 for axis in self.axes))

    def _stepped(self, now: float) -> bytes:
        """The next part of the steps that are left, exactly: a machine that is to stop has no more than this before it."""
        found = b""
        for axis, left in list(self._steps.items()):
            limits = self.axes[axis]
            if max(now, self._ahead_until) - now > BEYOND:
                break
            far = self._kept(axis, min(abs(left), max(_LEAST_STEP, limits.fastest * PERIOD)) * (1 if left > 0 else -1))
            far = round(far, 4)
            if abs(left) - abs(far) < 0.0001 or not far:
                del self._steps[axis]  # it is all there, or the travel ends
            else:
                self._steps[axis] = left - far
            if not far:
                continue
            self._sent[axis] += far
            self._stepping = True
            longest = sqrt(abs(far) / limits.acceleration)
            self._ahead_until = max(now, self._ahead_until) + max(abs(far) / limits.fastest, longest)
            for text in self.dialect.jog({axis: far}, limits.fastest * 60):
                found += self._line(now, text, {axis: far})
        return found

    def _piece(self, now: float, wanted: Mapping[str, float]) -> bytes:
        """The next piece of motion, if there is to be one: slower or faster than the last by what the axes can in that time."""
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
        self._going, self._jogs = going, True
        way = {axis: self._kept(axis, one * PERIOD) for axis, one in self._going.items()}
        way = {axis: round(far, 4) for axis, far in way.items() if abs(far) >= 0.0001}
        if not way:
            return b""
        for axis, far in way.items():
            self._sent[axis] += far
        self._ahead_until = max(now, self._ahead_until) + PERIOD
        length = sqrt(sum(far * far for far in way.values()))
        text = self.dialect.jog(way, max(1.0, length / PERIOD * 60))
        return b"".join(self._line(now, one, way) for one in text)

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
        return kept if kept * far > 0 else 0.0
