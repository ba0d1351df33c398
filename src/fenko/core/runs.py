"""Actions at work: keys that are held, and runs, which go on by themselves from step to step.

At most one stroke (keys that go down, and come up after `timing.stroke`) is in flight. Whatever wants keys next lifts it
at once, so a stroke never makes anything wait and never mixes its modifiers into somebody else's keys.

Runs of one cell follow one another in a lane. A new one hurries those before it: their strokes go out without their
pauses, so a dial that is turned fast does not lag. Only a `wait` is never cut short. What repeats while a control is
held has a lane of its own, and nothing waits behind it.

A key goes down again `timing.gap` after it came up at the soonest: programs would take it for the keyboard's own
repeating. Whoever wants it earlier waits for that moment; nobody else does.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from functools import partial
from math import inf
from random import Random
from typing import TypeAlias, assert_never

from msgspec import Struct

from fenko.core.agenda import Agenda, Waiting, after
from fenko.core.changes import Effect
from fenko.core.held import HeldKeys
from fenko.core.phrase import (  # fmt: skip
    Command,
    Keys,
    Layer,
    Lift,
    Nothing,
    Pause,
    Phrase,
    Press,
    Profile,
    Step,
    Tap,
    Toggle,
    Type,
    Wait,
)
from fenko.core.plan import Binding, Cell, Report, Timing, unrolled
from fenko.core.situation import Situation
from fenko.core.stack import mirrored_keys, repeats_while_held

_STROKE = ""  # the holder that stands for the stroke in flight; no cell has an empty address


class _Hold(Struct, frozen=True):
    """Keys that the cell itself holds until it is let go."""

    keys: tuple[str, ...]


_Doing: TypeAlias = Step | _Hold


class Run:
    """An action on its way through its steps. `held`: by a control that is still down; `loops`: it begins anew as long
    as that is so; `hurried`: somebody waits behind it; `striking`: it waits for its own stroke to end; `holder` is who
    holds the keys that it presses to lift later."""

    __slots__ = (
        "cell",
        "ended",
        "held",
        "holder",
        "hurried",
        "lane",
        "loops",
        "next",
        "steps",
        "striking",
        "stroke",
        "waiting"
    )  # fmt: skip

    def __init__(self, cell: str, lane: str, steps: tuple[_Doing, ...], stroke: float, held: bool, loops: bool) -> None:
        self.cell = cell
        self.lane = lane
        self.steps = steps
        self.stroke = stroke
        self.held = held
        self.loops = loops
        self.next = 0
        self.hurried = False
        self.striking = False
        self.ended = False
        self.holder = ""
        self.waiting: Waiting


class Runs:
    """Everything that actions do. `out` takes the effects; `pause` is called by a step that stops or starts Fenko."""

    def __init__(
        self,
        situation: Situation,
        timing: Timing,
        agenda: Agenda,
        out: list[Effect],
        pause: Callable[[float], None],
        report: Report | None,
        seed: int,
    ) -> None:
        self.keys = HeldKeys(timing.gap)
        self._situation = situation
        self._timing = timing
        self._agenda = agenda
        self._out = out
        self._pause = pause
        self._report = report
        self._random = Random(seed)
        self._lanes: dict[str, deque[Run]] = {}
        self._of: dict[str, list[Run]] = {}
        self._stroking: Run | None = None
        self._toggled: dict[str, str | None] = {}
        self._turns: dict[tuple[str, str, str], int] = {}

    # --- What begins, and what ends it ---

    def start(self, t: float, cell: Cell, gesture: str, binding: Binding, held: bool) -> None:
        """A gesture's action begins. `held`: by a control that will be let go."""
        if self._report is not None:
            self._report(t, cell.address, gesture, cell.profile, binding)
        spent = self._situation.once_layers() if self._situation.spends else None
        self._act(t, cell, gesture, binding, held)
        if spent:
            self._situation.end(t, lambda on: on in spent)

    def _act(self, t: float, cell: Cell, gesture: str, binding: Binding, held: bool) -> None:
        phrase = self._choice(t, cell, gesture, binding) if binding.others else binding.phrase
        if held and (keys := mirrored_keys(phrase)):
            self.hold(t, cell.address, keys)
            return
        if binding.group is not None:
            toggles = _toggles_of(phrase)
            self.end_toggles(t, lambda holder, group: group == binding.group and holder not in toggles)
            self._toggled.update(dict.fromkeys(toggles, binding.group))
        stroke = (cell.timing or self._timing).stroke
        loops = held and repeats_while_held(phrase)
        lane = f"{cell.address} {gesture}" if loops else cell.address
        self._join(t, Run(cell.address, lane, unrolled(phrase, stroke), stroke, held, loops))

    def _join(self, t: float, run: Run) -> None:
        """A run goes to the end of its lane, and hurries who is there."""
        run.waiting = self._agenda.entry(partial(self._drive, name=run.lane), repeats=run.loops)
        run.holder = f"action {run.waiting.order}"  # no cell is called so
        self._of.setdefault(run.cell, []).append(run)
        lane = self._lanes.setdefault(run.lane, deque())
        if lane:
            lane[-1].hurried = lane[0].hurried = True
            lane.append(run)
            if lane[0].striking:
                self._drive(t, run.lane)
        else:
            lane.append(run)
            self._drive(t, run.lane)

    def hold(self, t: float, cell: str, keys: tuple[str, ...]) -> None:
        """Keys are down until the cell is let go."""
        lane = f"{cell} held"
        if lane not in self._lanes and self._ready(t, keys) <= t:
            self._hold(t, cell, keys)
        else:
            self._join(t, Run(cell, lane, (_Hold(keys),), 0.0, True, False))

    def let_go(self, t: float, cell: str) -> None:
        """The cell is let go: what it held comes up, and what repeats ends."""
        for run in list(self._of.get(cell, ())):
            run.held = False
            if run.loops:
                self._end(t, run)
        self._lift(t, cell)

    def end_toggles(self, t: float, ends: Callable[[str, str | None], bool]) -> None:
        """Lifts toggled keys of which `ends` (holder, group) says so."""
        for holder, group in list(self._toggled.items()):
            if ends(holder, group):
                del self._toggled[holder]
                self._lift(t, holder)

    def clear(self, t: float) -> None:
        """Lifts everything and forgets every action under way."""
        self._out.extend(self.keys.lift_all(t))
        for runs in self._of.values():
            for run in runs:
                run.ended = True
                self._agenda.set(run.waiting, inf)
        self._of.clear()
        self._lanes.clear()
        self._toggled.clear()
        self._stroking = None

    def cells(self) -> list[str]:
        """The cells that hold keys, or of which an action is under way."""
        return [*self.keys.holders, *self._of]

    @property
    def under_way(self) -> bool:
        """Whether an action is on its way."""
        return bool(self._lanes)

    @property
    def toggled(self) -> tuple[str, ...]:
        """The keys that stay down until they are toggled again, the profile changes, or everything is lifted."""
        return tuple(key for holder in self._toggled for key in self.keys.holders.get(holder, ()))

    def _choice(self, t: float, cell: Cell, gesture: str, binding: Binding) -> Phrase:
        """One of several: the next in turn, or any but the last one."""
        key = (cell.profile, cell.address, gesture)
        last, phrases = self._turns.get(key), binding.phrases
        if binding.at_random:
            number = self._random.choice([number for number in range(len(phrases)) if number != last])
        else:
            number = 0 if last is None else (last + 1) % len(phrases)
        self._turns[key] = number
        if number < len(binding.states):
            self._out.append((t, "fenko", "state", cell.address, binding.states[number]))
        return phrases[number]

    # --- From step to step ---

    def _drive(self, t: float, name: str) -> None:
        """Goes on with the first run of a lane; when it is through, with the next."""
        while lane := self._lanes.get(name):
            first = lane[0]
            self._resume(t, first)
            if not first.ended:
                return

    def _resume(self, t: float, run: Run) -> None:
        """Goes on with a run until it has to wait or is through."""
        self._agenda.set(run.waiting, inf)
        run.striking = False
        if self._stroking is run:
            self._lift_stroke(t)
        while run.next < len(run.steps):
            step = run.steps[run.next]
            ready = self._ready(t, self._wanted(step))
            if ready > t:
                self._agenda.set(run.waiting, ready)
                return
            run.next += 1
            if run.loops and run.next == len(run.steps):
                run.next = 0
            pause = self._do(t, run, step)
            if run.ended:
                return  # the step was `pause`, and everything under way was forgotten
            if pause and not (run.hurried and isinstance(step, Keys)):
                run.striking = isinstance(step, Keys)
                self._agenda.set(run.waiting, after(t, pause))
                return
        self._end(t, run)

    def _end(self, t: float, run: Run) -> None:
        """A run is through, or nobody holds it any longer."""
        run.ended = True
        self._agenda.set(run.waiting, inf)
        if self._stroking is run:
            self._lift_stroke(t)
        self._lift(t, run.holder)
        mine = self._of[run.cell]
        mine.remove(run)
        if not mine:
            del self._of[run.cell]
        lane = self._lanes[run.lane]
        lane.remove(run)
        if not lane:
            del self._lanes[run.lane]

    def _wanted(self, step: _Doing) -> tuple[str, ...]:
        """The keys that a step wants to go down."""
        if isinstance(step, Keys | Press | _Hold) or (
            isinstance(step, Toggle) and _toggle_holder(step) not in self.keys.holders
        ):
            return step.keys
        return ()

    def _ready(self, t: float, keys: tuple[str, ...]) -> float:
        """When these keys may go down. Of the stroke in flight they are lifted first."""
        if self._stroking is not None:
            others = {key for holder, held in self.keys.holders.items() if holder != _STROKE for key in held}
            if any(key not in others and key in keys for key in self.keys.holders.get(_STROKE, ())):
                self._lift_stroke(t)
        return self.keys.ready(t, keys)

    def _do(self, t: float, run: Run, step: _Doing) -> float:
        """Does one step; returns how long the run has to wait after it."""
        match step:
            case Keys():
                self._lift_stroke(t)
                self._hold(t, _STROKE, step.keys)
                self._stroking = run
                return run.stroke
            case Wait():
                return step.seconds
            case Type():
                self._lift_stroke(t)
                self._out.append((t, "keys", "type", step.text))
            case Toggle():
                self._toggle(t, step)
            case Press():
                self._hold(t, run.holder, step.keys)
            case Lift():
                self._lift_stroke(t)
                self._lift(t, run.holder, step.keys)
            case _Hold():
                self._hold(t, run.cell, step.keys)
                if not run.held:
                    self._lift(t, run.cell)  # the control has been let go in the meantime
            case Layer():
                if step.mode or run.held:
                    self._situation.turn_on(t, step.name, step.mode or run.cell)
            case Profile():
                self._situation.by_name(t, step.name)
            case Pause():
                self._pause(t)
            case Nothing() | Command() | Tap():
                pass  # commands and taps became keys before
            case _:
                assert_never(step)
        return 0.0

    def _toggle(self, t: float, step: Toggle) -> None:
        holder = _toggle_holder(step)
        if holder in self.keys.holders:
            self._lift(t, holder)
            self._toggled.pop(holder, None)
        else:
            self._toggled.setdefault(holder, None)
            self._hold(t, holder, step.keys)

    # --- Keys ---

    def _hold(self, t: float, holder: str, keys: tuple[str, ...]) -> None:
        self._lift_stroke(t)
        self._out.extend(self.keys.hold(t, holder, keys))

    def _lift(self, t: float, holder: str, only: tuple[str, ...] | None = None) -> None:
        self._out.extend(self.keys.lift(t, holder, only))

    def _lift_stroke(self, t: float) -> None:
        if self._stroking is not None:
            self._stroking = None
            self._lift(t, _STROKE)


def _toggle_holder(step: Toggle) -> str:
    return f"toggle {'+'.join(step.keys)}"


def _toggles_of(phrase: Phrase) -> list[str]:
    """The holders of the keys that a phrase toggles."""
    return [_toggle_holder(step) for step in phrase.steps if isinstance(step, Toggle)]
