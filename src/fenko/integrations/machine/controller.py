"""What is known of a controller at the other end of a line: what it answers, where it is, and which lines it has not answered.

Nothing here knows a clock or a line: it is told the time and what has been heard, and says what is to be sent."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Iterator, Mapping
from math import inf
from typing import NamedTuple

from fenko.integrations.machine.dialects import Answer, Dialect

SILENT, SILENT_AT_REST = 0.5, 2.0
"""Seconds without an answer, though there should be one, after which the line is taken for lost: while it moves, and otherwise."""
BEGINS = 4.0
"""Seconds that a controller has to answer for the first time; many start anew when the line is opened."""
PERIOD = 0.02
"""Seconds from one piece of motion to the next."""
ASKED_EVERY = 0.05
"""Seconds from one question for the state to the next, while something moves."""
RESTS_EVERY = 1.0
"""The same while nothing does."""
_KNOCKS_EVERY = 0.5  # seconds, as long as it has not answered yet
_AT_ONCE = 3 * PERIOD
"""Seconds that count for one look at most: on a computer that stood still meanwhile, nobody could have answered."""
_LONGEST_ANSWER = 400


class Lost(Exception):
    """The line is no good any more: what waits in it must not arrive, so it is to be emptied and closed."""


class Sent(NamedTuple):
    """A line that went out: when (by the clock of who looks), how long its answer may take, and how far it was to go."""

    at: float
    patience: float
    way: Mapping[str, float]


class Controller:
    """One controller, of which these axes matter."""

    def __init__(self, dialect: Dialect, axes: Iterable[str]) -> None:
        self.dialect = dialect
        self.axes = tuple(axes)
        self.state = ""
        self.position: dict[str, float] | None = None
        """Where it is (mm, of the machine), as far as that is known."""
        self.offset: dict[str, float] = dict.fromkeys(self.axes, 0.0)
        """How far from the machine's origin the work's is (mm)."""
        self.speed: float | None = None
        """How fast it says that it goes (mm a minute)."""
        self._offset_told = False  # whether it has said so since the line is there
        self.alarm = ""
        """Why it moves nothing until that is cleared."""
        self.said = ""
        """The last thing that was refused, in words."""
        self.greeted = False
        self.stuck = False
        """Whether it may answer nothing any more before it is reset, as some do after an alarm."""
        self.unanswered: deque[Sent] = deque()
        self._looked_at = -inf
        self.clock = 0.0
        """Seconds in which it was looked what has come. A time in which the whole computer stood still counts for one look."""
        self._opened = 0.0
        self._asked_at: float | None = None
        self._next_ask = -inf
        self._rest = b""

    def open(self, now: float) -> None:
        """The line to it is there; nothing that was known before is known any more."""
        self._opened = self.clock
        self._rest = b""
        self.greeted, self.state, self.position, self.alarm, self.speed = False, "", None, "", None
        self.stuck = self._offset_told = False
        self.forget()
        self._next_ask = now

    def forget(self) -> None:
        """No answer is waited for any more."""
        self.unanswered.clear()
        self._asked_at = None

    # --- What is heard ---

    def hear(self, data: bytes) -> Iterator[tuple[Answer, Sent | None]]:
        """These bytes came: each answer, and the line that it answers. What means nothing is left out."""
        *lines, self._rest = (self._rest + data).split(b"\n")
        self._rest = self._rest[-_LONGEST_ANSWER:]
        for line in lines:
            text = "".join(
                one if one.isprintable() else " " for one in line[-_LONGEST_ANSWER:].decode("latin-1")
            ).strip()
            answer = self.dialect.read(text) if text else Answer()
            if answer.sort:
                yield answer, self._answered(answer)

    def _answered(self, answer: Answer) -> Sent | None:
        sent: Sent | None = None
        match answer.sort:
            case "ok" | "error":
                sent = self.unanswered.popleft() if self.unanswered else None
                if answer.sort == "error":
                    self.said = answer.text
            case "alarm":
                self.alarm = answer.text
                self.stuck = self.dialect.real_time
                self.forget()
            case "greeting":
                # It has started anew, and knows nothing of what it was asked.
                if not self.dialect.real_time:  # no state will tell
                    self.alarm = "it has started anew, and does not know where it is" if self.greeted else ""
                self.greeted = True
                self.stuck = False
                self.forget()
            case "state":
                self._told(answer)
        return sent

    def _told(self, answer: Answer) -> None:
        self.greeted, self.stuck = True, False
        self._asked_at = None
        self.state = answer.state or self.state
        if answer.state == "Alarm":
            self.alarm = self.alarm or "it waits to be homed or unlocked"
        elif answer.state:
            self.alarm = ""  # that has been seen to, by whomever
        if answer.speed is not None:
            self.speed = answer.speed
        if self._tells_all(answer.offset):
            self.offset = {axis: answer.offset[axis] for axis in self.axes}
            self._offset_told = True
        if self._tells_all(answer.position) and (self._offset_told or not answer.of_work):
            self.position = {
                axis: answer.position[axis] + (self.offset[axis] if answer.of_work else 0.0) for axis in self.axes
            }

    def _tells_all(self, places: Mapping[str, float]) -> bool:
        return all(axis in places for axis in self.axes)

    # --- What is sent ---

    def line(self, now: float, text: str, way: Mapping[str, float] | None = None, patience: float = SILENT) -> bytes:
        """A line, which will be answered."""
        self.unanswered.append(Sent(self.clock, patience, way or {}))
        return text.encode("ascii", "replace") + b"\n"

    def soon(self, now: float, seconds: float) -> None:
        """It is asked again in so many seconds at the latest."""
        self._next_ask = min(self._next_ask, now + seconds)

    def asked(self, now: float, every: float) -> bytes:
        """The next question for its state, where it is due; one at a time."""
        if now < self._next_ask or (self._asked_at is not None and self.greeted):
            return b""
        self._next_ask = now + (every if self.greeted else _KNOCKS_EVERY)
        if self.dialect.real_time:
            if not self.stuck:
                self._asked_at = self.clock if self._asked_at is None else self._asked_at
            return self.dialect.ask
        if not self.greeted:
            return self.dialect.ask
        # A line as any other, with an `ok` of its own.
        return self.line(now, self.dialect.ask.decode().strip())

    def due(self, now: float) -> float:
        """Seconds until it is asked again."""
        return max(0.0, self._next_ask - now)

    @property
    def waits(self) -> bool:
        """Whether it is to answer something."""
        return bool(self.unanswered) or self._asked_at is not None or not self.greeted

    def check(self, now: float, moves: bool) -> None:
        """Raises Lost if it should have answered. Call it when all that has come has been heard, every `PERIOD` while it `waits`."""
        self.clock += min(now - self._looked_at, _AT_ONCE)
        self._looked_at = now
        if not self.greeted:
            late = self.clock - self._opened > BEGINS
        else:
            usual = SILENT if moves else SILENT_AT_REST
            waiting = max((one.patience for one in self.unanswered if one.patience > SILENT), default=usual)
            late = any(self.clock - one.at > max(one.patience, waiting) for one in self.unanswered) or (
                self._asked_at is not None and self.clock - self._asked_at > waiting
            )
        if late:
            raise Lost
