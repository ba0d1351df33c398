"""Actions at work: what controls hold, and runs, which go on by themselves from step to step.

At most one stroke (items that begin, and end after `timing.stroke`) is in flight. Whatever wants to begin something next
ends it at once, so a stroke never makes anything wait and never mixes its modifiers into somebody else's keys.

Runs of one cell follow one another in a lane. A new one hurries those before it: their strokes go out without their
pauses, so a dial that is turned fast does not lag. Only a `wait` is never cut short. What repeats while a control is
held has a lane of its own, and nothing waits behind it.

A key goes down again `timing.gap` after it came up at the soonest: programs would take it for the keyboard's own
repeating. Whoever wants it earlier waits for that moment; nobody else does.

An action that is one stroke, with nothing else under way, needs none of this (`strokes`).
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from functools import partial
from math import inf
from typing import assert_never

from fenko.core.actions import Action, action_of
from fenko.core.agenda import Agenda, Waiting, after
from fenko.core.changes import Effect, Moving
from fenko.core.choices import Choices
from fenko.core.held import HeldItems
from fenko.core.phrase import Phrase
from fenko.core.plan import Binding, Cell, Plan, Profile, Report, Timing
from fenko.core.run import Doing, Mirror, Run, Visit
from fenko.core.situation import Situation
from fenko.core.steps import (
    Begin,
    End,
    Follow,
    Hold,
    Item,
    Move,
    Pass,
    Rate,
    Repeat,
    Send,
    Set,
    Steer,
    Strike,
    SwitchPause,
    TakeAsNeutral,
    Toggle,
    UseLayer,
    UseProfile,
    Wait,
)
from fenko.core.strokes import LoneStroke, Stroke
from fenko.core.values import Values
from fenko.core.verbs import ACTS, HELD

STROKE = ""  # the holder that stands for the stroke in flight; no cell has an empty address
_VISITS = "profiles"  # the lane in which profiles do what they do when they come and go


class Runs:
    """Everything that actions do. `out` takes the effects; `pause` is called by a step that stops or starts Fenko;
    `depth` says how far the control of a cell is."""

    def __init__(
        self,
        situation: Situation,
        values: Values,
        timing: Timing,
        agenda: Agenda,
        out: list[Effect],
        pause: Callable[[float], None],
        take_as_neutral: Callable[[float], None],
        depth: Callable[[str], float],
        report: Report | None,
        seed: int,
    ) -> None:
        self.items = HeldItems(timing.gap, out)
        self.lone = LoneStroke(self.items, agenda)
        self.may_be_lone = False
        """Whether a stroke that begins now is the last thing to happen at this time."""
        self._situation = situation
        self._values = values
        self._timing = timing
        self._agenda = agenda
        self._out = out
        self._pause = pause
        self._take_as_neutral = take_as_neutral
        self._depth = depth
        self.report = report
        self._choices = Choices(out, seed)
        self._lanes: dict[str, deque[Run]] = {}
        self._of: dict[str, list[Run]] = {}
        self._stroking: Run | None = None
        self._toggled: dict[str, str | None] = {}
        self._actions: dict[tuple[int, float], tuple[Phrase, Action]] = {}

    def use_plan(self, plan: Plan) -> None:
        """Another plan is in force; what is under way goes on as it began."""
        self._timing = plan.timing
        self.items.gap = plan.timing.gap
        self._actions.clear()

    # --- What begins, and what ends it ---

    def start(self, t: float, cell: Cell, gesture: str, binding: Binding, held: bool, times: float = 1.0) -> None:
        """A gesture's action begins. `held`: by a control that will be let go. What it steps goes `times` as far."""
        if self.report is not None:
            self.report(t, cell.address, gesture, cell.profile, binding)
        spent = self._situation.once_layers() if self._situation.spends else None
        self._act(t, cell, gesture, binding, held, times)
        if spent:
            self._situation.end(t, lambda on: on in spent)

    def _act(self, t: float, cell: Cell, gesture: str, binding: Binding, held: bool, times: float) -> None:
        phrase = self._choices.next(t, cell, gesture, binding) if binding.others else binding.phrase
        stroke = (cell.timing or self._timing).stroke
        action = self.action(phrase, stroke)
        if action.felt:
            action = action.at(self._depth(cell.address))
        if held and action.holds:
            self.hold(t, cell.address, action.holds)
            return
        if binding.group is not None:
            self._end_group(t, binding.group, action.steps)
        if (
            self.may_be_lone
            and not self._lanes
            and action.strikes
            and self.lone.strike(t, Stroke(cell, action.strikes, stroke))
        ):
            return
        loops = held and action.loops
        lane = f"{cell.address} {gesture}" if loops else cell.address
        moves = gesture in ("turn", "fast") and len(action.steps) == 1
        self._join(t, Run(cell.address, lane, action.steps, stroke, held, loops, times, binding.group, moves))

    def _end_group(self, t: float, group: str | None, steps: Sequence[Doing]) -> None:
        """Of a group, what an action of these steps does not toggle itself ends."""
        own = {_toggle_holder(step) for step in steps if isinstance(step, Toggle)}
        self.end_toggles(t, lambda holder, other: other == group and holder not in own)

    def visit(self, t: float, gone: Profile | None, come: Profile) -> None:
        """One profile goes and another comes: what they do then is done in order. One that is gone again before its turn
        came has not been here, so what waits is bounded however fast they change."""
        lane = self._lanes.get(_VISITS)
        if gone is not None and (gone.on_enter or gone.on_leave):
            if lane and len(lane) > 1 and lane[-1].cell == _visitor(gone):
                self._end(t, lane[-1])
            else:
                self._visit(t, gone, "leave", gone.on_leave)
        if come.on_enter or come.on_leave:
            self._visit(t, come, "enter", come.on_enter)

    def _visit(self, t: float, profile: Profile, gesture: str, binding: Binding | None) -> None:
        steps: tuple[Doing, ...] = ()
        if binding is not None:
            does = self.action(binding.phrase, self._timing.stroke).steps
            steps = (Visit(_visitor(profile), gesture, profile.name, binding), *does)
        self._join(t, Run(_visitor(profile), _VISITS, steps, self._timing.stroke, False, False))

    def turn_to(self, cell: Cell, gesture: str, state: int) -> None:
        """What comes in turn has come to that state."""
        self._choices.turn_to(cell, gesture, state)

    def states(self) -> dict[str, str]:
        """What comes in turn, and where it is."""
        return self._choices.states

    def action(self, phrase: Phrase, stroke: float) -> Action:
        """What a phrase does; worked out once."""
        key = (id(phrase), stroke)
        known = self._actions.get(key)
        if known is None:
            # The phrase is kept too: its number would belong to another one after it.
            known = self._actions[key] = (phrase, action_of(phrase, stroke))
        return known[1]

    def _join(self, t: float, run: Run) -> None:
        """A run goes to the end of its lane, and hurries who is there."""
        self.take_in()
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

    def hold(self, t: float, cell: str, items: tuple[Item, ...]) -> None:
        """Items last until the cell is let go."""
        self.take_in()
        lane = f"{cell} held"
        if lane not in self._lanes and self._ready(t, items) <= t:
            self._begin(t, cell, items)
        else:
            self._join(t, Run(cell, lane, (Mirror(items),), 0.0, True, False))

    def let_go(self, t: float, cell: str) -> None:
        """The cell is let go: what it held ends, and so does what repeats."""
        if cell in self._of:
            for run in list(self._of[cell]):
                run.held = False
                if run.loops:
                    self._end(t, run)
        self.items.lift(t, cell)

    def end_toggles(self, t: float, ends: Callable[[str, str | None], bool]) -> None:
        """Ends toggled items of which `ends` (holder, group) says so."""
        for holder, group in list(self._toggled.items()):
            if ends(holder, group):
                del self._toggled[holder]
                self.items.lift(t, holder)

    def end_with_profile(self, t: float) -> None:
        """Ends what lasts no longer than the profile in which it began, whoever holds it."""
        for holder, items in list(self.items.holders.items()):
            if ends := tuple(item for item in items if HELD[item[0]].ends_with_profile):
                self.items.lift(t, holder, ends)

    def clear(self, t: float) -> None:
        """Lifts everything and forgets every action under way."""
        self.items.lift_all(t)
        for runs in self._of.values():
            for run in runs:
                run.ended = True
                self._agenda.set(run.waiting, inf)
        self._of.clear()
        self._lanes.clear()
        self._toggled.clear()
        self._stroking = None
        self.lone.forget()

    def cells(self) -> list[str]:
        """The cells that hold something, or of which an action is under way."""
        return [*self.items.holders, *self._of]

    @property
    def under_way(self) -> bool:
        """Whether an action is on its way."""
        return bool(self._lanes)

    @property
    def toggled(self) -> tuple[Item, ...]:
        """What lasts until it is toggled again, the profile changes, or everything is lifted."""
        return tuple(item for holder in self._toggled for item in self.items.holders.get(holder, ()))

    def take_in(self) -> None:
        """Makes the stroke that is alone a run, before anything else happens."""
        lone, due = self.lone, self.lone.due
        stroke = lone.stroke
        if stroke is None:
            return
        lone.forget()
        address = stroke.cell.address
        run = Run(address, address, (Strike(stroke.items),), stroke.seconds, False, False)
        run.waiting = Waiting(partial(self._drive, name=address), lone.order)
        run.holder = f"action {lone.order}"
        if lone.begun:
            run.next = 1
            run.striking = True
            self._stroking = run
            self.items.holders[STROKE] = stroke.items
        self._of[address] = [run]
        self._lanes[address] = deque((run,))
        self._agenda.set(run.waiting, due)

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
            self._end_stroke(t)
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
            # Nothing after a stroke ends it before a `wait` is over, so there it has its own time.
            waits = run.next < len(run.steps) and isinstance(run.steps[run.next], Wait)
            if pause and not (run.hurried and isinstance(step, Strike) and not waits):
                run.striking = isinstance(step, Strike)
                self._agenda.set(run.waiting, after(t, pause))
                return
        self._end(t, run)

    def _end(self, t: float, run: Run) -> None:
        """A run is through, or nobody holds it any longer."""
        run.ended = True
        self._agenda.set(run.waiting, inf)
        if self._stroking is run:
            self._end_stroke(t)
        self.items.lift(t, run.holder)
        mine = self._of[run.cell]
        mine.remove(run)
        if not mine:
            del self._of[run.cell]
        lane = self._lanes[run.lane]
        lane.remove(run)
        if not lane:
            del self._lanes[run.lane]

    def _wanted(self, step: Doing) -> tuple[Item, ...]:
        """The items that a step wants to begin."""
        if isinstance(step, Strike | Begin | Mirror) or (
            isinstance(step, Toggle) and _toggle_holder(step) not in self.items.holders
        ):
            return step.items
        return ()

    def _ready(self, t: float, items: tuple[Item, ...]) -> float:
        """When these items may begin. Of the stroke in flight they are lifted first."""
        if self._stroking is not None:
            others = {item for holder, held in self.items.holders.items() if holder != STROKE for item in held}
            if any(item not in others and item in items for item in self.items.holders.get(STROKE, ())):
                self._end_stroke(t)
        return self.items.ready(t, items)

    def _do(self, t: float, run: Run, step: Doing) -> float:
        """Does one step; returns how long the run has to wait after it."""
        match step:
            case Strike():
                self._end_stroke(t)
                self._begin(t, STROKE, step.items)
                self._stroking = run
                return run.stroke
            case Wait():
                return step.seconds
            case Send():
                self._end_stroke(t)
                values = step.values
                summed = ACTS[step.out, step.act].queues == "summed"
                if run.times != 1 and summed:
                    values = tuple(run.times * one if isinstance(one, int | float) else one for one in values)
                effect = (t, step.out, step.act, *values)
                self._out.append(Moving(effect) if run.moves and summed else effect)
            case Toggle():
                self._toggle(t, run, step)
            case Begin():
                self._begin(t, run.holder, step.items)
            case End():
                self._end_stroke(t)
                self.items.lift(t, run.holder, step.items)
            case Mirror():
                self._begin(t, run.cell, step.items)
                if not run.held:
                    self.items.lift(t, run.cell)  # the control has been let go in the meantime
            case Visit():
                if self.report is not None:
                    self.report(t, step.address, step.gesture, step.profile, step.binding)
            case UseLayer():
                if step.mode or run.held:
                    self._situation.turn_on(t, step.name, step.mode or run.cell)
            case UseProfile():
                self._situation.by_name(t, step.name)
            case SwitchPause():
                self._pause(t)
            case TakeAsNeutral():
                self._take_as_neutral(t)
            case Set():
                self._values.change(t, step.target, step.amount, step.step, run.times, run.moves and step.step)
            case Hold() | Repeat():
                raise AssertionError("an action has strokes in their place")
            case Move() | Pass() | Follow() | Rate() | Steer():
                raise AssertionError("what a control drives is no action of a gesture")
            case _:
                assert_never(step)
        return 0.0

    def _toggle(self, t: float, run: Run, step: Toggle) -> None:
        holder = _toggle_holder(step)
        if holder in self.items.holders:
            self.items.lift(t, holder)
            self._toggled.pop(holder, None)
        else:
            if run.group is not None:
                self._end_group(t, run.group, run.steps)
            self._toggled[holder] = run.group
            self._begin(t, holder, step.items)

    # --- What is held ---

    def _begin(self, t: float, holder: str, items: tuple[Item, ...]) -> None:
        self._end_stroke(t)
        self.items.hold(t, holder, items)

    def _end_stroke(self, t: float) -> None:
        if self._stroking is not None:
            self._stroking = None
            self.items.lift(t, STROKE)


def _visitor(profile: Profile) -> str:
    """What stands for a profile where a cell does for its actions; no surface has such a name."""
    return f"profile {profile.name}"


def _toggle_holder(step: Toggle) -> str:
    return f"toggle {step.items}"
