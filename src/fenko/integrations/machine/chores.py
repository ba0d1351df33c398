"""What a machine does on its own when it is told to: it homes, takes a place for the origin, carries out lines; and how that is
held, resumed and stopped. One such chore at a time."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable
from math import inf

from fenko.integrations.machine.controller import PERIOD, Controller
from fenko.integrations.machine.dialects import Answer

MOST_SECONDS = 300.0
"""Seconds that a chore may leave a line unanswered."""
LEFT = 0.5
"""Seconds without a sign of life from the desk, by the controller's clock, after which a chore is to be stopped."""
_HELD_WITHIN = 1.5  # seconds that a machine has to come to rest, before it is stopped dead
_MODES = ("G21", "G90")
"""What lines that a person sends begin with, whatever was said before: mm, and places from the origin."""


class Chores:
    """The chore under way on a controller, if there is one: `doing` is its kind, `home`, `unlock`, `zero` or `send`."""

    def __init__(self, controller: Controller) -> None:
        self.doing = ""
        self.held = False
        self.homed: bool | None = None
        """Whether it has been homed, as far as that is known."""
        self._controller = controller
        self._lines: deque[str] = deque()
        self._fresh = False  # whether the controller has to start anew before the first line
        self._axes = ""
        self._answered = True
        self._stopping = False
        self._held_at = inf
        self._alive_at = -inf
        self._sign_at = 0.0  # when the last sign of life arrived, by the controller's clock
        self._orders = b""

    # --- What is wanted ---

    def home(self, now: float, axes: str) -> None:
        """Axes, or all, find where they are. It clears an alarm."""
        self._begin(now, "home", self._controller.dialect.home(axes), fresh=bool(self._controller.alarm))
        self._axes = axes

    def unlock(self, now: float) -> None:
        """An alarm is cleared on purpose: what kept the machine from moving is dealt with."""
        self._begin(now, "unlock", (self._controller.dialect.unlock,), fresh=True)

    def zero(self, now: float, axes: str) -> None:
        """The place where it is becomes the origin of these axes."""
        controller = self._controller
        lines = controller.dialect.zero(axes)
        if lines:
            self._begin(now, "zero", lines)
        elif controller.position is not None:
            controller.offset |= {axis: controller.position[axis] for axis in axes}

    def send(self, now: float, lines: Iterable[str]) -> None:
        """Lines are carried out, one after the other."""
        found: list[str] = []
        for line in (*_MODES, *lines):
            found.append(line)
            if self._controller.dialect.settled and line not in _MODES:
                found.append(self._controller.dialect.settled)
        self._begin(now, "send", found)

    def _begin(self, now: float, kind: str, lines: Iterable[str], fresh: bool = False) -> None:
        self.doing = kind
        self._lines = deque(lines)
        self._axes = ""
        self._answered = True
        self.held = False
        self._alive_at = now
        self._sign_at = self._controller.clock
        self._fresh = fresh and bool(self._controller.dialect.reset)

    def hold(self) -> None:
        """What is under way waits."""
        if self.doing == "send" or self._controller.state == "Run":
            self.held = True
            self._orders += self._controller.dialect.hold

    def resume(self) -> None:
        """And goes on."""
        self.held = False
        self._orders += self._controller.dialect.resume

    def stop(self) -> None:
        """What is under way ends, as soon as the machine can without losing its place; nothing of it comes any more."""
        if self.doing or self._controller.state in ("Run", "Hold", "Home"):
            self._stopping = True
        self._lines.clear()

    def lose(self) -> None:
        """Nobody knows what becomes of what is under way."""
        self._end()
        self._orders = b""

    def alive(self, at: float) -> None:
        """Whoever asked for it was there at that time."""
        if at > self._alive_at:
            self._alive_at = at
            self._sign_at = self._controller.clock

    @property
    def deserted(self) -> bool:
        """Whether a chore is under way and the desk has given no sign of life for `LEFT` seconds."""
        return bool(self.doing) and not self._stopping and self._controller.clock - self._sign_at > LEFT

    # --- What is heard ---

    def answered(self, answer: Answer) -> None:
        """The controller has said this."""
        match answer.sort:
            case "greeting" if not self._fresh:
                # It has started anew. Homed or not, its state will tell.
                self._end()
                # What was on its way then, it may have read as a place and not as a distance: where no byte stops it, a line does.
                self._stopping = bool(self._controller.dialect.stop)
            case "greeting":
                self._fresh = False
            case "alarm" if not self._fresh:
                self.homed = False
                self._end()
            case "error" if self.doing:
                self._end()
            case "ok" if self.doing:
                self._answered = not self._controller.unanswered
                if (self._answered and not self._lines and self.doing != "send") or (
                    self._answered and not self._lines and self._controller.dialect.settled
                ):
                    self._done()
            case "state":
                rests = self._answered and not self._lines and not self._fresh
                if self.doing == "send" and rests and answer.state == "Idle":
                    self._done()

    def _done(self) -> None:
        if self.doing == "home" and not self._axes:
            self.homed = True
        if self.doing in ("home", "unlock"):
            self._controller.alarm = ""
            self._controller.state = "" if not self._controller.dialect.real_time else self._controller.state
        if self.doing == "unlock":
            self.homed = bool(self.homed)
        self._end()

    def _end(self) -> None:
        self.doing = ""
        self._lines.clear()
        self.held = self._fresh = self._stopping = False
        self._held_at = inf
        self._answered = True

    # --- What is sent ---

    @property
    def busy(self) -> bool:
        """Whether a chore is under way, or being stopped."""
        return bool(self.doing) or self._stopping

    def tick(self, now: float) -> bytes:
        """What is to be sent now."""
        if self._stopping:
            return self._stop(now)
        found, self._orders = self._orders, b""
        if self._fresh and self._controller.greeted:
            self._controller.open(now)  # until it greets again
            return found + self._controller.dialect.reset
        if not self._lines or self._fresh or self.held or not self._controller.greeted:
            return found
        if self._controller.unanswered:
            return found
        self._answered = False
        self._controller.soon(now, PERIOD)
        return found + self._controller.line(now, self._lines.popleft(), patience=MOST_SECONDS)

    def _stop(self, now: float) -> bytes:
        controller = self._controller
        dialect = controller.dialect
        self._orders = b""
        if not dialect.real_time:
            controller.forget()  # whatever it still answers answers nothing
            self._end()
            return dialect.stop.encode() + b"\n"
        if controller.state == "Home" or self.doing in ("home", "unlock"):
            self.homed = False
            self._end()
            controller.forget()
            return dialect.reset
        if self._held_at == inf:
            self._held_at = now
            controller.soon(now, PERIOD)
            return dialect.hold
        rests = controller.state == "Hold" and not controller.speed
        if rests or now > self._held_at + _HELD_WITHIN:
            self._end()
            controller.forget()
            return dialect.reset
        if controller.state == "Idle" and now > self._held_at + 5 * PERIOD:
            self._end()
        return b""
