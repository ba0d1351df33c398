"""A machine that is simulated: a controller that takes lines and single characters, answers as real ones do, and moves what it
would move. Time is whatever `advance` is told, so a test can drive it; `machines.serving` lets it run by the clock.

Two ways to talk, both in wide use: `grbl` takes lines of G-code with single real-time characters between (status, hold, resume,
jog cancel, reset), and jogs with `$J=`; `lines` knows lines and `ok`, and nothing else."""

from __future__ import annotations

import random
from collections import deque
from collections.abc import Mapping, Sequence
from math import dist, floor
from typing import Literal, NamedTuple

from msgspec import Struct

from fenko.integrations.machine.gcode import MM_PER_INCH, GcodeError, Line, read_line
from fenko.integrations.machine.planner import AxisLimits, Planner

TICK = 0.001
"""Seconds of one step of the simulation."""
TRACED_EVERY = 0.005
"""Seconds between two points of the trace while something moves."""
FAULTS = ("silence", "garbage", "reset", "slow", "alarm", "cut")
_AT_ONCE = ("M112", "M410")
"""Lines that a controller heeds whatever it is at."""
_LONGEST_LINE, _BUFFER = 256, 128
_HOMES_AT = 20.0  # mm a second
State = Literal["Idle", "Run", "Jog", "Hold", "Alarm", "Home"]
_ERRORS = {"unknown": 20, "letter": 1, "number": 2, "idle": 8, "locked": 9, "travel": 15, "jog": 16, "feed": 22}


class Fault(Struct, frozen=True):
    """Something that goes wrong: at which second, what, and for how long. `silence`: nothing is answered. `garbage`: bytes come
    that mean nothing. `reset`: the controller starts anew. `slow`: answers come so much later. `alarm`: a limit switch is hit.
    `cut`: the line goes away."""

    at: float
    kind: str
    seconds: float = 0.5


class Point(NamedTuple):
    """Where it was at a second, how fast it went, and in which state."""

    at: float
    position: dict[str, float]
    speed: float
    state: str


class SimulatedMachine:
    """One controller with its machine."""

    def __init__(
        self,
        axes: Mapping[str, AxisLimits],
        dialect: str = "grbl",
        homing: bool = True,
        faults: Sequence[Fault] = (),
        room: int = 15,
        seed: int = 0,
    ) -> None:
        self.dialect = dialect
        self.homing = homing
        self.planner = Planner(axes, room)
        self.now = 0.0
        self.state: State = "Idle"
        self.homed = not homing
        self.trace: list[Point] = []
        self.heard: list[tuple[float, str]] = []
        """Every line that has come, with its second."""
        self.cut = False
        self._faults = deque(sorted(faults, key=lambda fault: fault.at))
        self._silent_until = self._slow_until = -1.0
        self._late = 0.0
        self._luck = random.Random(seed)
        self._input = bytearray()
        self._lines: deque[str] = deque()
        self._answers: deque[tuple[float, bytes]] = deque()
        self._relative = False
        self._inch = False
        self._motion = "G0"
        self._feed = 0.0
        self._offset = dict.fromkeys(axes, 0.0)
        self._traced = -1.0
        self._homing_left: list[str] = []
        self._dwell_until = -1.0
        self._stuck = False
        self._begin()

    # --- The line to whoever drives it ---

    def _begin(self) -> None:
        self._say("\r\nGrbl 1.1h ['$' for help]" if self.dialect == "grbl" else "start")
        if self.homing and not self.homed:
            self.state = "Alarm"
            if self.dialect == "grbl":
                self._say("[MSG:'$H'|'$X' to unlock]")

    def _say(self, text: str) -> None:
        if self.now < self._silent_until:
            return
        self._answers.append((self.now + (self._late if self.now < self._slow_until else 0.0), text.encode() + b"\r\n"))

    def take(self, data: bytes) -> None:
        """These bytes come."""
        for byte in data:
            if self.dialect == "grbl" and self._real_time(byte):
                continue
            if byte in (10, 13):
                line, self._input = self._input.decode("latin-1").strip(), bytearray()
                if line or byte == 10:
                    self.heard.append((self.now, line))
                    if self.dialect == "lines" and line.upper() in _AT_ONCE:
                        self._obey(line)
                    else:
                        self._lines.append(line)
            elif len(self._input) < _LONGEST_LINE:
                self._input.append(byte)
        self._read_lines()

    def answers(self) -> bytes:
        """The bytes that go back now."""
        found = b""
        while self._answers and self._answers[0][0] <= self.now:
            found += self._answers.popleft()[1]
        return found

    @property
    def next_answer(self) -> float | None:
        """When there will be more to say, if that is known."""
        return self._answers[0][0] if self._answers else None

    def _real_time(self, byte: int) -> bool:
        match byte:
            case 0x18:
                self.reset()
            case _ if self._stuck:
                return True
            case 0x3F:  # ?
                self._say(self.report())
            case 0x21:  # !
                if self.state in ("Run", "Jog"):
                    if self.state == "Jog":
                        self.planner.flush()
                    else:
                        self.planner.holding, self.state = True, "Hold"
            case 0x7E:  # ~
                if self.state == "Hold":
                    self.planner.holding, self.state = False, "Run"
            case 0x85:
                if self.state == "Jog":
                    self.planner.flush()
                    # Lines that are here already are answered as any other, and moved no further.
                    for _ in range(len(self._lines)):
                        line = self._lines.popleft()
                        if line.startswith("$J="):
                            self._say("ok")
                        else:
                            self._lines.append(line)
            case _:
                return False
        return True

    @property
    def way(self) -> float:
        """How far it went so far, there and back (mm)."""
        pairs = zip(self.trace, self.trace[1:], strict=False)
        return sum(dist([*one.position.values()], [*other.position.values()]) for one, other in pairs)

    def report(self) -> str:
        """What it says of itself when it is asked."""
        # Such controllers tell x, y and z whatever the machine has, and no axis before one that it has is left out.
        last = max(2, *("xyzabc".index(axis) for axis in self.planner.axes))
        told = "xyzabc"[: last + 1]
        at = ",".join(f"{self.planner.position.get(axis, 0.0):.3f}" for axis in told)
        offset = ",".join(f"{self._offset.get(axis, 0.0):.3f}" for axis in told)
        room = self.planner.room - len(self.planner.blocks)
        speed = self.planner.speed * 60
        state = f"Hold:{int(self.planner.moving)}" if self.state == "Hold" else self.state
        return f"<{state}|MPos:{at}|Bf:{room},{_BUFFER}|FS:{speed:.0f},0|WCO:{offset}>"

    def reset(self) -> None:
        """It starts anew: what moves stops dead, and where it is, is not known any more if anything moved."""
        lost = self.planner.moving or self.state == "Home"
        locked = self.state == "Alarm"
        self.planner.stop_dead()
        self._stuck = False
        self._lines.clear()
        self._input = bytearray()
        self._homing_left = []
        self._relative = self._inch = False
        self._motion, self._feed = "G0", 0.0
        if self.dialect == "lines":
            self._offset = dict(self.planner.position)  # it takes wherever it is for the origin
        self._dwell_until = -1.0
        if lost and self.homing:
            self.homed = False
        self.state = "Alarm" if locked and self.dialect == "grbl" else "Idle"
        if lost and self.dialect == "grbl":
            self._say("ALARM:3")
        self._begin()
        if lost:
            self.state = "Alarm"

    def alarm(self, number: int) -> None:
        """Something is wrong: it stops dead, and moves nothing until that is cleared."""
        self.planner.stop_dead()
        self._stuck = self.dialect == "grbl"  # which says nothing more before it is reset
        self._lines.clear()
        self.state = "Alarm"
        self._say(f"ALARM:{number}" if self.dialect == "grbl" else "Error:Printer halted. kill() called!")

    # --- Lines ---

    def _read_lines(self) -> None:
        while self._lines:
            if self._stuck:
                self._lines.clear()
                return
            if self.now < self._dwell_until or self.state == "Home":
                return
            if self.planner.full and self._moves(self._lines[0]):
                return
            waits = self.dialect == "lines" and self._lines[0].upper().startswith(("M400", "G4"))
            if waits and self.planner.blocks:
                return
            self._obey(self._lines.popleft())

    def _moves(self, line: str) -> bool:
        upper = line.upper()
        return upper.startswith("$J=") or any(letter in upper for letter in self._letters())

    def _letters(self) -> str:
        return "".join(axis.upper() for axis in self.planner.axes)

    def _obey(self, line: str) -> None:
        try:
            answer = self._grbl(line) if self.dialect == "grbl" else self._plain(line)
        except GcodeError:
            answer = self._refuse("unknown")
        if answer:
            self._say(answer)

    def _refuse(self, why: str) -> str:
        return f"error:{_ERRORS[why]}" if self.dialect == "grbl" else f"echo:Unknown command: {why}"

    def _grbl(self, line: str) -> str:
        upper = line.upper().replace(" ", "")
        if not upper:
            return "ok"
        if upper == "$X":
            if self.state == "Alarm":
                self.state = "Idle"
                self._say("[MSG:Caution: Unlocked]")
            return "ok"
        if upper.startswith("$H"):
            if self.state not in ("Idle", "Alarm"):
                return self._refuse("idle")
            axes = [axis for axis in self.planner.axes if len(upper) == 2 or axis.upper() in upper[2:]]
            self._home(axes)
            return ""
        if upper.startswith("$J="):
            return self._jog(line[3:])
        if upper in ("$$", "$#", "$G", "$I", "?"):
            return "ok"
        if upper.startswith("$"):
            return self._refuse("letter")
        if self.state == "Alarm":
            return self._refuse("locked")
        if self.state == "Jog":
            return self._refuse("idle")
        return self._program(read_line(line))

    def _jog(self, words: str) -> str:
        if self.state == "Alarm":
            return self._refuse("locked")
        if self.state not in ("Idle", "Jog"):
            return self._refuse("idle")
        line = read_line(words)
        if any(command not in ("G20", "G21", "G53", "G90", "G91") for command in line.commands) or not line.axes:
            return self._refuse("jog")
        if "F" not in line.words:
            return self._refuse("feed")
        scale = MM_PER_INCH if "G20" in line.commands or ("G21" not in line.commands and self._inch) else 1.0
        relative = "G91" in line.commands or ("G90" not in line.commands and self._relative)
        target = self._target(line, relative, scale, machine="G53" in line.commands)
        if not self._within(target):
            return self._refuse("travel")
        self._put(target, line.words["F"] * scale / 60, "jog")
        if self.planner.blocks:
            self.state = "Jog"
        return "ok"

    def _target(self, line: Line, relative: bool, scale: float, machine: bool = False) -> dict[str, float]:
        end = self.planner.end
        for axis, number in line.axes.items():
            if axis not in end:
                raise GcodeError("no such axis", 1)
            offset = 0.0 if machine else self._offset[axis]
            end[axis] = end[axis] + number * scale if relative else number * scale + offset
        return end

    def _within(self, target: Mapping[str, float]) -> bool:
        axes = self.planner.axes
        return all(axes[axis].least - 1e-6 <= place <= axes[axis].most + 1e-6 for axis, place in target.items())

    def _put(self, target: Mapping[str, float], speed: float, kind: str) -> None:
        end = self.planner.end
        self.planner.put({axis: place - end[axis] for axis, place in target.items() if place != end[axis]}, speed, kind)

    def _program(self, line: Line) -> str:
        for command in line.commands:
            match command:
                case "G20" | "G21":
                    self._inch = command == "G20"
                case "G90" | "G91":
                    self._relative = command == "G91"
                case "G0" | "G1":
                    self._motion = command
                case "G4":
                    self._dwell_until = self.now + line.words["P"]
                case _:
                    pass
        scale = MM_PER_INCH if self._inch else 1.0
        if "F" in line.words:
            self._feed = line.words["F"] * scale / 60
        if "G10" in line.commands or "G92" in line.commands:
            for axis, number in line.axes.items():
                self._offset[axis] = self.planner.end[axis] - number * scale
            return "ok"
        if "G28" in line.commands and self.dialect == "lines":
            self._home([axis for axis in self.planner.axes if not line.axes or axis in line.axes])
            return ""
        if not line.axes:
            return "ok"
        if self._motion == "G1" and not self._feed:
            return self._refuse("feed")
        target = self._target(line, self._relative, scale, "G53" in line.commands)
        if not self._within(target):
            if self.dialect == "grbl":
                self._say("ok")
                self.alarm(2)
                return ""
            axes = self.planner.axes
            target = {axis: min(axes[axis].most, max(axes[axis].least, place)) for axis, place in target.items()}
        fastest = max(limits.fastest for limits in self.planner.axes.values())
        self._put(target, fastest if self._motion == "G0" else self._feed, "move")
        if self.planner.blocks and self.state == "Idle":
            self.state = "Run"
        return "ok"

    def _plain(self, line: str) -> str:
        """The other dialect: lines, each answered with ok."""
        upper = line.split(";")[0].strip().upper()
        if upper == "M112":
            self.alarm(0)
            return ""
        if upper == "M999":
            self.state = "Idle"
            return "ok"
        if self.state == "Alarm" and not upper.startswith(("G28", "M114")):
            return "Error:halted" if self.homed else "ok"
        if upper == "M410":
            self.planner.flush()
            self._lines.clear()
            return "ok"
        if upper == "M114":
            places = {axis: value - self._offset.get(axis, 0.0) for axis, value in self.planner.position.items()}
            at = " ".join(f"{axis.upper()}:{value:.2f}" for axis, value in places.items())
            self._say(f"{at} E:0.00 Count {at}")
            return "ok"
        if upper.startswith("M400") or not upper:
            return "ok"
        return self._program(read_line(upper))

    def _home(self, axes: list[str]) -> None:
        self.planner.stop_dead()
        self._homing_left = list(axes)
        self.state = "Home"

    # --- Time ---

    def advance(self, until: float) -> None:
        """Time passes, until that second."""
        while self.now + TICK <= until + 1e-9:
            self.now = round(self.now + TICK, 6)
            self._go_wrong()
            if self.state == "Home":
                self._homes()
            else:
                self.planner.advance(TICK)
                if self.state in ("Run", "Jog") and not self.planner.blocks:
                    self.state = "Idle"
            self._read_lines()
            speed = self._homing_speed() if self.state == "Home" else self.planner.speed
            if speed or self._traced < 0 or self.trace[-1].speed:
                self._note(speed)

    def _note(self, speed: float) -> None:
        step = floor(self.now / TRACED_EVERY)
        if step != self._traced or not speed:
            self._traced = step
            self.trace.append(Point(self.now, dict(self.planner.position), speed, self.state))

    def _homing_speed(self) -> float:
        axis = self._homing_left[0] if self._homing_left else None
        return min(_HOMES_AT, self.planner.axes[axis].fastest) if axis is not None else 0.0

    def _homes(self) -> None:
        axis = self._homing_left[0] if self._homing_left else None
        if axis is None:
            self.homed = True
            if self.dialect == "lines":
                self._offset = dict.fromkeys(self._offset, 0.0)
            self.state = "Idle"
            self._say("ok")
            return
        limits = self.planner.axes[axis]
        at = self.planner.position[axis] - self._homing_speed() * TICK
        self.planner.position[axis] = max(limits.least, at)
        if self.planner.position[axis] <= limits.least:
            self._homing_left.pop(0)

    def _go_wrong(self) -> None:
        while self._faults and self._faults[0].at <= self.now:
            fault = self._faults.popleft()
            match fault.kind:
                case "silence":
                    self._silent_until = self.now + fault.seconds
                case "slow":
                    self._slow_until, self._late = self.now + fault.seconds * 4, fault.seconds
                case "garbage":
                    noise = bytes(self._luck.randrange(256) for _ in range(self._luck.randrange(1, 60)))
                    self._answers.append((self.now, noise))
                case "reset":
                    self.reset()
                case "alarm":
                    self.alarm(1)
                case "cut":
                    self.cut = True
