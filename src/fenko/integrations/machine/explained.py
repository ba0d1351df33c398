"""What lines of a machine program will do, in words, and what is wrong with them for a machine: before anything is sent."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from msgspec import Struct

from fenko.integrations.machine.arcs import PLANES, check_words, reach
from fenko.integrations.machine.gcode import MM_PER_INCH, GcodeError, Line, read_line
from fenko.integrations.machine.planner import AxisLimits

_WORDS = {
    "G17": "the plane is x y", "G18": "the plane is x z", "G19": "the plane is y z", "G20": "numbers are inches", "G21": "numbers are mm",
    "G54": "the first work offset", "G55": "the second work offset", "G56": "the third work offset", "G57": "the fourth work offset",
    "G58": "the fifth work offset", "G59": "the sixth work offset", "G80": "no cycle", "G90": "places count from the origin",
    "G91": "ways count from where it is", "G92.1": "offsets are taken back", "G93": "feeds are one over the time", "G94": "feeds are a minute",
    "M0": "waits for the person", "M1": "waits for the person, if that is wanted", "M2": "the program ends", "M3": "the spindle turns",
    "M30": "the program ends", "M4": "the spindle turns backwards", "M5": "the spindle stops", "M7": "mist comes", "M8": "coolant comes",
    "M9": "coolant stops",
}  # fmt: skip
_MOVES = {
    "G0": "goes fast", "G1": "goes", "G2": "goes round, clockwise,", "G3": "goes round, anticlockwise,",
    "G38.2": "feels its way", "G38.3": "feels its way",
}  # fmt: skip


_ROUND = ("G2", "G3")
_EXACT = 1e-6  # mm


class Machine(Struct, frozen=True):
    """What is known of the machine: its axes, how high is safe (`safe-height`, in machine coordinates of z; None: not said), whether
    it has been homed, and where it is (machine coordinates; empty: not known)."""

    axes: Mapping[str, AxisLimits]
    safe_height: float | None = None
    homed: bool = True
    position: Mapping[str, float] = {}


class Told(Struct, frozen=True):
    """One line: what it does, what is wrong (`error`: it is not sent), and what is worth a second look, each with its column."""

    text: str
    words: str
    errors: tuple[tuple[str, int], ...] = ()
    warnings: tuple[str, ...] = ()


class Reading:
    """Lines one after the other, as the machine will understand them."""

    def __init__(self, machine: Machine) -> None:
        self._machine = machine
        self._inch = self._relative = False
        self._motion = "G0"
        self._plane = PLANES["G17"]
        self._feed = False
        self.at = dict(machine.position)
        """Where it will be, in places of the machine, of the axes of which that is known."""
        # Where the places of a program begin, in those of the machine; None where nobody knows.
        self._offset: dict[str, float | None] = dict.fromkeys(machine.axes, 0.0)

    def read(self, text: str) -> Told:
        """What the next line does."""
        try:
            line = read_line(text)
            unknown = [axis for axis in line.axes if axis not in self._machine.axes]
            if unknown:
                raise GcodeError(f"this machine has no axis {unknown[0]}", 1 + text.lower().index(unknown[0]))
        except GcodeError as why:
            return Told(text, "", ((str(why), why.column),))
        words = [_WORDS[command] for command in line.commands if command in _WORDS]
        for command in line.commands:
            match command:
                case "G20" | "G21":
                    self._inch = command == "G20"
                case "G90" | "G91":
                    self._relative = command == "G91"
                case "G54" | "G55" | "G56" | "G57" | "G58" | "G59" | "G92.1":
                    self._offset = dict.fromkeys(self._offset, None)  # which the machine knows alone
                case "G17" | "G18" | "G19":
                    self._plane = PLANES[command]
                case _ if command in _MOVES:
                    self._motion = command
        self._feed = self._feed or "F" in line.words
        if "S" in line.words:
            words.append(f"at {line.words['S']:g} turns a minute")
        if "G4" in line.commands:
            words.append(f"waits {line.words['P']:g} s")
        errors: list[tuple[str, int]] = []
        warnings: list[str] = []
        if "G10" in line.commands or "G92" in line.commands:
            places = ", ".join(f"{axis} {self._shown(number)}" for axis, number in line.axes.items())
            words.append(f"calls the place where it is {places}")
            for axis, number in line.axes.items():
                self._offset[axis] = self.at[axis] - number * self._scale if axis in self.at else None
        elif "G28" in line.commands or "G30" in line.commands:
            words.append("goes to the place that it has been taught")
            self.at = {}
        elif line.axes or (self._motion in _ROUND and any(letter in line.words for letter in "IJKR")):
            words.append(self._move(line, errors, warnings))
        return Told(text, "; ".join(filter(None, words)) or "nothing", tuple(errors), tuple(warnings))

    @property
    def _scale(self) -> float:
        return MM_PER_INCH if self._inch else 1.0

    def _shown(self, number: float) -> str:
        return f"{number:g} {'inch' if self._inch else 'mm'}"

    def _move(self, line: Line, errors: list[tuple[str, int]], warnings: list[str]) -> str:
        absolute = "G53" in line.commands
        scale = self._scale
        if self._motion != "G0" and not self._feed:
            errors.append(("a move at a feed needs `F`, and none has been said", 1))
        if not self._machine.homed:
            warnings.append("the machine has not been homed, so nobody knows where this ends")
        start = dict(self.at)
        for axis, number in line.axes.items():
            limits = self._machine.axes[axis]
            if self._relative and not absolute:
                place = self.at[axis] + number * scale if axis in self.at else None
                if abs(number * scale) > limits.most - limits.least:
                    warnings.append(f"{axis} {self._shown(number)} is further than its whole travel")
            else:
                offset = 0.0 if absolute else self._offset[axis]
                place = number * scale + offset if offset is not None else None
            if place is None:
                self.at.pop(axis, None)
                continue
            self.at[axis] = place
            if not limits.least <= place <= limits.most:
                warnings.append(f"{axis} {place:g} mm is outside its travel, {limits.least:g} to {limits.most:g} mm")
        height = self._machine.safe_height
        sideways = any(axis in line.axes for axis in "xy")
        if height is not None and sideways and self._motion == "G0":
            z = self.at.get("z")
            if z is None or z < height:
                known = f"z is {z:g} mm" if z is not None else "nobody knows how high it is"
                warnings.append(f"it goes sideways beneath the safe height of {height:g} mm: {known}")
        if self._motion in _ROUND:
            self._judge_arc(line, start, errors, warnings)
        way = "by" if self._relative and not absolute else "to"
        places = ", ".join(f"{axis} {self._shown(number)}" for axis, number in line.axes.items()) or "where it is"
        feed = f" at {self._shown(line.words['F'])} a minute" if "F" in line.words else ""
        return f"{_MOVES[self._motion]} {way} {places}{' of the machine' if absolute else ''}{feed}"

    def _judge_arc(
        self, line: Line, start: Mapping[str, float], errors: list[tuple[str, int]], warnings: list[str]
    ) -> None:
        """Whether there is such an arc, and where it leads between its ends, as far as it is known where it starts."""
        one, two = self._plane
        try:
            check_words(line.words, self._plane)
            if not {one, two} <= start.keys() & self.at.keys():
                return
            reached = reach(
                line.words,
                self._plane,
                self._motion == "G2",
                (start[one], start[two]),
                (self.at[one], self.at[two]),
                self._scale,
            )
        except GcodeError as why:
            errors.append((str(why), why.column))
            return
        for axis, (least, most) in zip(self._plane, reached, strict=True):
            limits = self._machine.axes.get(axis)
            if limits is not None and not limits.least - _EXACT <= least <= most <= limits.most + _EXACT:
                beyond = least if least < limits.least - _EXACT else most
                said = f"{axis} {beyond:g} mm is outside its travel, {limits.least:g} to {limits.most:g} mm"
                if said not in warnings:
                    warnings.append(f"on its way round {said}")


def explained(lines: Iterable[str], machine: Machine) -> Iterator[Told]:
    """What each of these lines does, one after the other."""
    reading = Reading(machine)
    for text in lines:
        yield reading.read(text)
