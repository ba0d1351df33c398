"""Plays the steps of hands through an engine of its own, in no time, and tells what comes of them."""

from __future__ import annotations

from collections.abc import Iterable
from math import inf

from msgspec import Struct

from fenko.core.changes import FOCUS, KEYBOARD, MACHINES, PLUG, RUNNING, UNPLUG, Change, Effect
from fenko.core.controls import THRESHOLDS, TOUCH_AREA
from fenko.core.descriptions import burst_of
from fenko.core.engine import Engine
from fenko.core.plan import Plan, Report, Timing
from fenko.core.registration import Said
from fenko.core.script import HandStep
from fenko.core.seen import KeyView
from fenko.core.verbs import spelled

FAR = 0.7
"""How far `.half` is pushed: past half the way, short of all of it."""
_BRIEF = 0.03  # s; how long a tap is, at least
_FAST = 0.003  # s; between the detents of a fast turn


class Outcome(Struct, frozen=True):
    """What came of a script, up to the moment before everything is let go: what was sent as a program would see it, the
    keys that are down, the profile and layers in force, and every effect with its time."""

    sent: tuple[Said, ...]
    held: tuple[str, ...]
    profile: str
    layers: tuple[str, ...]
    effects: tuple[Effect, ...]
    values: dict[str, float] = {}

    def moved(self, act: str = "move") -> tuple[float, float]:
        """How far the pointer went in all, or, with `scroll`, what was scrolled: across and down."""
        steps = [effect[3:] for effect in self.effects if effect[1:3] == ("pointer", act)]
        return sum(across for across, _ in steps), sum(down for _, down in steps)


class Performance:
    """Plays steps through an engine, and remembers everything that it says."""

    def __init__(self, plan: Plan, report: Report | None = None) -> None:
        self.engine = Engine(plan, report)
        self.effects: list[Effect] = []
        self.t = 0.0

    def do(self, step: HandStep) -> None:
        """Does one step and lets the time pass that it takes."""
        match step.word:
            case "front":
                self.feed(FOCUS, step.focus)
            case "keyboard":
                self.feed(KEYBOARD, step.modifiers)
            case "unplug" | "plug":
                self.feed(UNPLUG if step.word == "unplug" else PLUG, step.control)
            case "start" | "quit":
                running = self.engine.circumstances.running
                self.feed(RUNNING, running | {step.control} if step.word == "start" else running - {step.control})
            case "machine":
                name = f"{step.control.partition(' ')[0]} "
                others = {one for one in self.engine.circumstances.machines if not one.startswith(name)}
                self.feed(MACHINES, others | {step.control})
            case "wait":
                self.pass_time(step.seconds)
            case "turn":
                self._turn(step)
            case "push":
                self._push(step)
            case "release":
                self._all(step, False)
            case "press":
                self._all(step, True)
                self.pass_time(self._brief(step))
                cell = self.engine.cell(step.control)
                if cell is not None and cell.waits:
                    # Not so long that it would be held.
                    self.settle(self.t + self._timing(step).hold - self._brief(step) - 0.001)
                else:
                    self.settle()
            case "hold":
                self._all(step, True)
                self.pass_time(self._timing(step).hold + self._brief(step))
            case _:
                for _ in range({"tap": 1, "double": 2, "triple": 3}[step.word]):
                    self._all(step, True)
                    self.pass_time(_BRIEF + self._bounce(step))
                    self._all(step, False)
                    self.pass_time(_BRIEF + self._bounce(step))
        if step.word not in ("press", "wait", "push"):
            self.settle()

    def settle(self, until: float = inf) -> None:
        """Lets pass whatever time is needed until all that ends by itself has ended, or it is so late."""
        while self.engine.under_way and self.engine.deadline < until:
            self.t = self.engine.deadline
            self.effects += self.engine.advance(self.t)

    def pass_time(self, seconds: float) -> None:
        """Lets time pass."""
        self.t += seconds
        self.effects += self.engine.advance(self.t)

    def feed(self, address: str, value: object) -> None:
        """One change, now."""
        change: Change = (self.t, address, value)
        self.effects += self.engine.feed(change)

    def outcome(self) -> Outcome:
        """What has come of it so far."""
        engine = self.engine
        return Outcome(
            tuple(KeyView().see(self.effects)),
            tuple(map(spelled, engine.held)),
            engine.profile.name,
            engine.layers,
            tuple(self.effects),
            {name: number for (out, name), number in engine.values.items() if out == "value"},
        )

    # --- Hands ---

    def _timing(self, step: HandStep) -> Timing:
        cell = self.engine.cell(step.control)
        return cell.timing if cell is not None and cell.timing is not None else self.engine.plan.timing

    def _brief(self, step: HandStep) -> float:
        """Long enough for a press to be believed: not bounce, not several at once, not one of a burst."""
        timing = self._timing(step)
        return max(timing.chord, timing.burst if self._bursts(step) else 0.0, self._bounce(step)) + 0.001

    def _bursts(self, step: HandStep) -> bool:
        return any(burst_of(cell.partition(".")[2]) is not None for cell in step.cells)

    def _bounce(self, step: HandStep) -> float:
        surface = self.engine.plan.surfaces[step.control.partition(".")[0]]
        return surface.debounce * 2

    def _all(self, step: HandStep, on: bool) -> None:
        for cell in step.cells:
            self._move(cell, on)

    def _move(self, cell: str, on: bool) -> None:
        """A cell is pressed or let go, by the changes that its device would send."""
        name, _, rest = cell.partition(".")
        control, _, direction = rest.partition(".")
        surface = self.engine.plan.surfaces[name]
        burst = burst_of(surface.kernel_name(control) or control)
        if burst is not None:
            self._burst(f"{name}.{surface.own_name(burst[0])}", burst[1], on)
            return
        shape = surface.shape(control)
        assert shape is not None
        direction, _, far = direction.partition(".")
        if direction in THRESHOLDS:
            direction, far = "", direction
        if not shape.axes or shape is TOUCH_AREA:
            self.feed(cell, int(on))
            return
        value = FAR if far == "half" else 1.0
        for part in shape.diagonals.get(direction, (direction,)):
            for axis, ends in shape.axes.items():
                if part in ends:
                    sign = -1.0 if ends[0] == part else 1.0
                    address = f"{name}.{control}.{axis}" if axis else f"{name}.{control}"
                    self.feed(address, sign * value if on else 0.0)

    def _burst(self, address: str, times: int, on: bool) -> None:
        if not on:
            self.feed(address, 0)
            return
        for number in range(times):
            apart = max(_FAST, self.engine.plan.surfaces[address.partition(".")[0]].debounce)
            if number:
                self.feed(address, 0)
                self.pass_time(apart)
            self.feed(address, 1)
            self.pass_time(apart)

    def _push(self, step: HandStep) -> None:
        name, _, control = step.control.partition(".")
        shape = self.engine.plan.surfaces[name].shape(control)
        assert shape is not None
        places = [step.control + (f".{axis}" if axis else "") for axis in shape.axes]
        for address, number in zip(places, (*step.at, 0.0), strict=False):
            self.feed(address, number)
        if step.seconds:
            self.pass_time(step.seconds)
            for address in places:
                self.feed(address, 0.0)

    def _turn(self, step: HandStep) -> None:
        name, _, rest = step.control.partition(".")
        control, _, direction = rest.partition(".")
        shape = self.engine.plan.surfaces[name].shape(control)
        assert shape is not None
        assert shape.turns is not None
        value = -1 if shape.turns[0] == direction else 1
        for _ in range(step.times):
            self.feed(f"{name}.{control}", value)
            self.pass_time(_FAST if step.fast else self._timing(step).fast + 0.001)


def perform(plan: Plan, hand_steps: Iterable[HandStep], report: Report | None = None) -> Outcome:
    """What comes of a script."""
    performance = Performance(plan, report)
    for step in hand_steps:
        performance.do(step)
    return performance.outcome()
