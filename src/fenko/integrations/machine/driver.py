"""What a desk asks of a machine, carried out: who jogs, step by step or steadily, and what the machine does on its own.

Nothing here knows a clock or a line; the worker of a running desk and the rehearsal of a take drive the same."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from math import inf
from typing import Any

from fenko.integrations.machine.chores import LEFT, Chores
from fenko.integrations.machine.controller import ASKED_EVERY, PERIOD, RESTS_EVERY, Controller, Lost
from fenko.integrations.machine.dialects import DIALECTS
from fenko.integrations.machine.explained import explained
from fenko.integrations.machine.jogging import Jogging
from fenko.integrations.machine.settings import MachineSettings

LATE = 0.5
"""Seconds after which a step, or anything that would move the machine, is no longer what anybody wants."""
_MOVES = ("step", "home", "zero", "send", "resume")
_DONE = {"home": "homed", "unlock": "unlocked"}


class Driver:
    """One machine. `note` is told what is refused, and why."""

    def __init__(self, settings: MachineSettings, note: Callable[[str], None]) -> None:
        self.settings = settings
        self.controller = Controller(DIALECTS[settings.dialect], settings.axes)
        self.jogging = Jogging(self.controller, settings.axes)
        self.chores = Chores(self.controller)
        self.axis = next(iter(settings.axes))
        """The axis that is chosen."""
        self.step_size = settings.step_sizes[0]
        self._note = note
        self._jogs: dict[tuple[str, ...], dict[str, float]] = {}
        self._said = ""
        self._left_out_at = -inf
        self._said_of_end = ""

    def open(self, now: float) -> None:
        """The line is there. What hands hold meanwhile moves nothing until they have let go."""
        self.controller.open(now)
        self.jogging.forget()
        self.chores.lose()
        if any(any(one.values()) for one in self._jogs.values()):
            self.jogging.rest_first()

    def take_over(self, facts: Mapping[str, Any]) -> None:
        """Another driver is gone, and this is how things stood: hands may still hold what nobody here knows of."""
        self.jogging.rest_first()
        if facts.get("axis") in self.settings.axes:
            self.axis = str(facts["axis"])
        size = facts.get("step-size")
        if isinstance(size, int | float) and size > 0:
            self.step_size = float(size)

    # --- What is asked ---

    def take(self, now: float, at: float, act: str, values: Sequence[Any]) -> None:
        """An effect of the desk, as it is meant (`machines.chosen`) and without the machine's name, decided on at that time."""
        self.alive(at)
        if act in ("jog", "begin", "end"):
            self._jog(act, *values)
            return
        why_not = self._why_not(act) if act in (*_MOVES, "unlock") else ""
        if act in _MOVES and now - at > LATE:
            why_not = "it was asked for too long ago"
        if why_not:
            self._refuse(f"{act} is not done: {why_not}")
            return
        self._said = ""
        match act:
            case "axis":
                self.axis = values[0]
            case "step-size":
                self.step_size = values[0]
            case "step":
                self._step(now, *values)
            case "stop":
                self.stop()
            case "hold":
                self.jogging.stop()
                self.chores.hold()
            case "resume":
                self.chores.resume()
            case _:
                self._begin_chore(now, act, values)

    def _begin_chore(self, now: float, act: str, values: Sequence[Any]) -> None:
        self.jogging.moved_by_others()
        match act:
            case "home":
                self.chores.home(now, values[0])
            case "unlock":
                self.chores.unlock(now)
            case "zero":
                self.chores.zero(now, values[0])
            case "send":
                self._send(now, values[0])

    def _why_not(self, act: str) -> str:
        """Why something cannot be done now; empty if it can."""
        controller = self.controller
        if not controller.greeted:
            return "nobody answers"
        if controller.alarm and act not in ("home", "unlock"):
            return f"it is in alarm ({controller.alarm}); home it, or clear that with `machine unlock`"
        if act == "unlock" and not controller.alarm:
            return "there is no alarm"
        if act == "resume":
            return ""
        if self.chores.busy:
            return f"it is busy ({self.chores.doing or 'stopping'})"
        if act != "step" and self.jogging.busy:
            return "it is being jogged"
        if act == "zero" and not self.jogging.synced:
            return "nobody knows where it is, as long as it moves"
        return ""

    def _refuse(self, why: str) -> None:
        self._said = why
        self._note(why)

    def _jog(self, act: str, axes: str, speeds: Any, chosen: str = "") -> None:
        key = ("", axes) if act == "jog" else (str(speeds), axes)
        speeds = speeds if act == "jog" else [speeds if act == "begin" else 0.0]
        before = self._jogs.get(key)
        self._jogs[key] = {
            axis: speed * self.settings.unit(axis) / 60 for axis, speed in zip(chosen or axes, speeds, strict=False)
        }
        total: dict[str, float] = {}
        for one in self._jogs.values():
            for axis, speed in one.items():
                total[axis] = total.get(axis, 0.0) + speed
        if any(total.values()) and (why_not := self._why_not("step")):
            self.jogging.rest_first()
            if before is None or not any(before.values()):
                self._refuse(f"it is not jogged: {why_not}")
            return
        if any(total.values()):
            self._said = ""
        self.jogging.steer(total)

    def _step(self, now: float, axis: str, counted: str, number: float) -> None:
        if not self.jogging.step(axis, number * self.settings.unit(axis)):
            self._said = f"{axis} cannot follow so fast: {self.jogging.left_out} steps were left out so far"
            if now > self._left_out_at + LATE:
                self._note(f"{axis} cannot follow so fast; steps are left out")
            self._left_out_at = now

    def _send(self, now: float, lines: Sequence[str]) -> None:
        """What is sent is read once more: where the machine is, is known only now."""
        position = self.controller.position or {}
        for one in explained(lines, self.settings.machine(self.chores.homed is not False, position)):
            if one.errors:
                self._refuse(f"nothing is sent: {one.text}: {one.errors[0][0]}")
                return
            for warning in one.warnings:
                self._note(f"{one.text}: {warning}")
        self.chores.send(now, lines)

    def stop(self) -> None:
        """Everything ends, and nothing begins again before hands have let go."""
        self.jogging.stop()
        self.chores.stop()

    def focus_changed(self) -> None:
        """Another program is in front."""
        if self.settings.stop_with_focus:
            self.stop()

    def alive(self, at: float) -> None:
        """The desk was at work at that time."""
        self.jogging.alive(at)
        self.chores.alive(at)

    # --- The line ---

    def hear(self, now: float, data: bytes) -> None:
        """These bytes came."""
        for answer, sent in self.controller.hear(data):
            self.jogging.answered(now, answer, sent)
            doing = self.chores.doing
            self.chores.answered(answer)
            if answer.sort in ("error", "alarm"):
                self._refuse(answer.text)
            elif doing and not self.chores.doing:
                self.controller.soon(now, PERIOD)  # where it is now is not known
            if doing in _DONE and not self.chores.doing and not self.controller.alarm:
                self._said = _DONE[doing]

    def tick(self, now: float) -> bytes:
        """What is to be sent now; call it every `PERIOD` while it is busy. Raises Lost: the line is to be emptied and closed."""
        try:
            self.controller.check(now, self.busy)
        except Lost:
            self.jogging.forget()
            self.chores.lose()
            self.controller.open(now)
            raise
        controller = self.controller
        if self.chores.deserted:
            self._refuse(f"{self.chores.doing} is stopped: the desk has not run for {LEFT} s")
            self.chores.stop()
        found = self.chores.tick(now)
        if controller.greeted and not controller.alarm and not self.chores.busy:
            found += self.jogging.tick(now)
            self._say_of_end()
        if self.jogging.moving:
            controller.soon(now, ASKED_EVERY)  # it rested until now
        quiet = self.chores.busy or self.jogging.prepares
        if self.chores.doing != "home" and (controller.dialect.real_time or not quiet):
            found += controller.asked(now, self._asks_every())
        return found

    def _asks_every(self) -> float:
        if not self.jogging.synced:
            return PERIOD if self.controller.state != "Alarm" else RESTS_EVERY
        return ASKED_EVERY if self.busy else RESTS_EVERY

    def _say_of_end(self) -> None:
        axis = self.jogging.at_end
        if axis != self._said_of_end:
            self._said_of_end = axis
            if axis:
                limits = self.settings.axes[axis]
                ends = " to ".join(self.settings.shown(axis, end) for end in (limits.least, limits.most))
                self._refuse(f"{axis} is at the end of its travel ({ends})")

    @property
    def busy(self) -> bool:
        """Whether it moves, or may be about to."""
        return self.jogging.busy or self.chores.busy

    def due(self, now: float) -> float:
        """Seconds until `tick` has to be called again."""
        return PERIOD if self.busy or self.controller.waits else max(PERIOD / 4, self.controller.due(now))

    # --- What can be seen ---

    @property
    def state(self) -> str:
        """In one word: away, alarm, homing, held, running, jogging, idle, or what else the controller says."""
        controller = self.controller
        if self.chores.doing == "home":
            return "homing"
        if controller.greeted and controller.alarm:
            return "alarm"
        if not controller.greeted or controller.position is None:
            return "away"
        if self.chores.held or controller.state == "Hold":
            return "held"
        if self.chores.busy or controller.state == "Run" or self.jogging.others_moved:
            return "running"
        return "jogging" if self.jogging.busy else controller.state.lower() or "idle"

    def facts(self) -> dict[str, Any]:
        """All of it: state, axis, step size, and of each axis where it is, of the machine and of the work, in its unit."""
        controller, settings = self.controller, self.settings
        places = controller.position or {}
        speed = controller.speed if controller.speed is not None else self.jogging.speed * 60
        return {
            "state": self.state,
            "axis": self.axis,
            "step-size": self.step_size,
            "speed": round(speed, 1),
            "machine": {axis: round(mm / settings.unit(axis), 3) for axis, mm in places.items()},
            "work": {
                axis: round((mm - controller.offset.get(axis, 0.0)) / settings.unit(axis), 3)
                for axis, mm in places.items()
            },
            "units": settings.units,
            "said": controller.alarm or self._said,
        }  # fmt: skip
