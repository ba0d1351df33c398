"""The engine: changes of controls go in, effects come out.

Time is a number of seconds that the caller brings with each change; nothing here reads a clock. `feed` takes one
change, `advance` lets time pass, `deadline` says when something will happen by itself, `release_all` lifts
everything. Each returns the effects, in order, with the time at which each is due.

Its rooms
=========

`contacts`   what devices tell becomes cells that are pressed and let go: bounce, thresholds, directions between two
`gestures`   what hands do with cells becomes actions: press, hold, tap, double, turning
`pending`    what is not decided yet: several at once, bursts, taps that may be doubled
`runs`       actions at work: keys that are held, strokes, waits, what repeats
`motion`     what goes on as long as a control is off its rest: the pointer, scrolling, `values` that follow
`situation`  the profile, its layers and pause; a `stack` of levels says what each cell does
`agenda`     what is due, and when
`shortways`  the common cases, past all these rooms

How it keeps its promises
=========================

1.  What is down is never counted, it is derived. `HeldKeys` says who holds which keys; a key goes down with its first
    holder and comes up with its last.

2.  What a release undoes was fixed at its press: a holder carries the keys of its press, so a profile that changes in
    between changes nothing that is held.

3.  Time comes before change: what was due before a change happens before it, at its own time. So it makes no
    difference whether time is let pass in one go or in pieces. A hold that is due at the very moment of the release is
    a hold. Times are added up in whole microseconds.

4.  Actions come in the order of the hand: whatever it does next settles what is not decided yet.

5.  The common case is a button that holds keys while nothing else is down. `feed` handles it with one look-up and
    keeps it apart (`_alone`). What is nearly as common (other keys held, somebody who listens, a detent that is one
    stroke, a stick that stays where it is) takes the next shortest ways, as long as nothing is undecided and
    no action under way. Whatever else happens takes in what was kept apart first.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from fenko.core.agenda import Agenda
from fenko.core.changes import FOCUS, KEYBOARD, MACHINES, OUTSIDE, PLUG, RUNNING, UNPLUG, Change, Effect
from fenko.core.circumstances import Circumstances, Focus
from fenko.core.contacts import Contacts
from fenko.core.controls import BUTTON, DIAL, MOTION, SENSOR, TOUCH_AREA, WHEEL
from fenko.core.gestures import Gestures
from fenko.core.inputs import NONE, Inputs
from fenko.core.motion import Motion
from fenko.core.plan import Cell, Plan, Profile, Report, Timed, unconditioned
from fenko.core.runs import Runs
from fenko.core.shortways import NOTHING, ShortWays
from fenko.core.situation import WHILE, Situation
from fenko.core.stack import Stack
from fenko.core.steps import Item, Pass
from fenko.core.tilting import Tilting
from fenko.core.touching import Touching
from fenko.core.values import Values


class Engine(ShortWays):
    """Turns changes into effects by a plan. `report`, if given, is told of each action that starts; `seed` decides what
    comes at random."""

    __slots__ = ("_contacts", "_inputs", "_situation", "_tilting", "_touching", "_values", "plan")

    def __init__(self, plan: Plan, report: Report | None = None, seed: int = 0) -> None:
        self.plan = plan
        out: list[Effect] = []
        agenda = Agenda()
        self._situation = Situation(plan, out, self._profile_leaves, self._situation_changed, self._profile_visits)
        values = self._values = Values(plan.values, out)
        self._tilting = Tilting(agenda, self._change)
        motion = Motion(plan, agenda, values, out, self._situation.stack, report)
        runs = Runs(
            self._situation,
            values,
            plan.timing,
            agenda,
            out,
            self._toggle_pause,
            self._tilting.take_as_neutral,
            motion.depth,
            report,
            seed,
        )
        gestures = Gestures(plan.surfaces, plan.timing, agenda, self._situation, runs, plan.watched, report)
        pending = gestures.pending
        self._contacts = Contacts(
            plan.surfaces,
            plan.timing,
            agenda,
            gestures.set,
            pending.settle_others,
            pending.catch,
            self._situation.stack,
        )
        gestures.use_contacts(self._contacts)
        self._touching = Touching(out, gestures.no_tap)
        self._inputs = Inputs(plan.surfaces)
        super().__init__(
            runs,
            gestures,
            pending,
            motion,
            agenda,
            self._contacts.bands,
            self._situation.stack,
            out,
            report,
            plan.timing.gap,
        )
        self._finish()

    # --- The public surface ---

    def feed(self, change: Change) -> Sequence[Effect]:
        """Takes one change, after all that was due before it. Times must not run backwards."""
        t, address, value = change
        if t < self.deadline:
            if value == 1:
                if t >= self._free_at and self._alone is None:
                    try:
                        keys = self._instant[address]
                    except KeyError:
                        pass
                    else:
                        # The shortest way: nothing else is held.
                        self._alone = address
                        self._alone_keys = keys
                        if self._report is not None:
                            self._tell(t, self._stack.direct[address].cell)
                        if len(keys) == 2:
                            return ((t, "keys", "down", keys[0]), (t, "keys", "down", keys[1]))
                        return [(t, "keys", "down", key) for key in keys]
                if self._alone_keys:
                    self._take_in_alone()
                if address in self._direct:
                    if address not in self._directly and address not in self._down:
                        direct = self._direct[address]
                        if t >= self._rested_at or self._have_rested(t, direct):
                            self._directly[address] = direct
                            return self._hold(t, direct)
                elif address in self._others:
                    if address not in self._paired and address not in self._down:
                        direct = self._others[address]
                        if t >= self._rested_at or self._have_rested(t, direct):
                            return self._pair(t, address, direct)
                elif address in self._members and address not in self._paired and address not in self._down:
                    return self._wait_for_other(t, address)
            elif value == 0:
                if address == self._alone:
                    self._alone = None
                    self._alone_up = t
                    self._free_at = self._rested_at = t + self._gap
                    keys = self._alone_keys
                    if len(keys) == 2:
                        return ((t, "keys", "up", keys[1]), (t, "keys", "up", keys[0]))
                    return [(t, "keys", "up", key) for key in reversed(keys)]
                if address in self._directly:
                    return self._lift(t, self._directly.pop(address))
                if address in self._paired:
                    return self._part(t, address)
            if address in self._bands:
                low, high = self._bands[address]
                if low < value < high:
                    # Where the axis is counts, also while nothing moves by it; and a stick that moves the pointer, while
                    # nothing else moves, takes the shortest way.
                    motion = self._motion
                    axis = motion.axes[address]
                    control = axis.control
                    control.at[axis.index] = value
                    if not control.drives or (control is motion.gliding and motion.glide(t, control)):
                        return NOTHING
                    motion.set(t, axis, value)
                    return self._told()
        if address in self._detents and t < self._agenda_due and self._detent(t, address, value):
            return self._struck()
        self._take_in()
        if self._agenda.deadline <= t:
            self._agenda.pass_time(t)
        self._runs.may_be_lone = True
        self._change(t, address, value)
        self._runs.may_be_lone = False
        if self._agenda.deadline <= t:
            self._agenda.pass_time(t)
        return self._finish()

    def advance(self, now: float) -> Sequence[Effect]:
        """Lets time pass until `now`: all that is due by then happens, each thing at its own time."""
        if now < self.deadline:
            return NOTHING
        if now < self._agenda_due and self._lone.stroke is not None:
            return self._pass_lone(now)
        motion = self._motion
        if (
            motion.gliding and now < self._lone.due and now < self._first_due
            and self._agenda.waits_for_nothing_but(motion.tick)
        ):  # fmt: skip
            motion.tick_until(now)
            return self._told()
        self._take_in()
        self._agenda.pass_time(now)
        return self._finish()

    def release_all(self, now: float) -> Sequence[Effect]:
        """Lifts everything and forgets every gesture and action under way. What hands still hold stays silent."""
        self._take_in()
        self._release_all(now)
        return self._finish()

    def recover(self, now: float) -> Sequence[Effect]:
        """After an error that nobody expected: lifts everything that is down, by what is known of it. Every gesture and action
        under way is forgotten."""
        try:
            return self.release_all(now)
        except Exception:  # whatever is out of order: what is held is known apart from all else
            self._out.clear()
            self._held.lift_all(now)
            return self._effects()

    def acts(self, change: Change) -> bool:
        """Whether a hand presses or turns something with this change, which has not been fed yet."""
        _, address, value = change
        if address in OUTSIDE:
            return False
        shape = self._inputs[address].shape
        if shape in (MOTION, SENSOR, TOUCH_AREA):
            return shape is TOUCH_AREA and bool(value) and address.count(".") == 1
        return bool(value) if shape.turns else self._contacts.acts(address, shape, value)

    @property
    def held(self) -> tuple[Item, ...]:
        """What is held now because of this engine, in the order in which it began."""
        self._take_stock()
        return self._held.items

    @property
    def toggled(self) -> tuple[Item, ...]:
        """What lasts until it is toggled again, the profile changes, or everything is lifted."""
        return self._runs.toggled

    @property
    def values(self) -> dict[Item, float]:
        """What every value is now."""
        return self._values.now

    @property
    def positions(self) -> dict[str, float]:
        """Where every axis is that has moved, calibrated."""
        return {address: axis.control.at[axis.index] for address, axis in self._motion.axes.items()}

    @property
    def down(self) -> tuple[str, ...]:
        """The cells that hands hold, in order of their names."""
        self._take_stock()
        return tuple(sorted(self._gestures.down))

    def _take_stock(self) -> None:
        """The rooms know everything, and nothing has changed by that."""
        self._take_in()
        self._finish()

    @property
    def states(self) -> dict[str, str]:
        """To which of their states bindings have come that do several things in turn, by `level address.gesture`."""
        return self._runs.states()

    @property
    def value_changes(self) -> int:
        """How often a value has changed so far."""
        return self._values.changes

    def tell(self, report: Report | None, timed: Timed | None = None) -> None:
        """From now on these are told of each action that starts, and how long hands take where times judge that."""
        self._report = self._runs.report = self._motion.report = report
        self._gestures.tell(report, timed)

    def restore(self, item: Item, number: float) -> None:
        """A value is this, as somebody else knows: what it was when Fenko ended, or what the other end says."""
        self._values.restore(item, number)

    def hear(self, now: float, item: Item, number: float) -> Sequence[Effect]:
        """Somebody else has set a value."""
        self._take_in()
        if item in self.plan.values:
            self._values.set(now, item, number)
        return self._finish()

    def turn_to(self, cell: Cell, gesture: str, state: int) -> None:
        """A binding that does several things in turn has come to that one of its states, by somebody else's hand."""
        self._runs.turn_to(cell, gesture, state)

    def in_force(self, address: str) -> Cell | None:
        """What a cell does now; None where nothing is bound."""
        return self._situation.stack.cell(address)

    @property
    def layers(self) -> tuple[str, ...]:
        """The layers that are on, newest last."""
        return self._situation.layers

    @property
    def focus(self) -> Focus:
        """The window in front."""
        return self._situation.focus

    @property
    def situation(self) -> Situation:
        """What is in force, to be looked at."""
        return self._situation

    @property
    def circumstances(self) -> Circumstances:
        """What decides which profile comes by itself."""
        return self._situation.now

    @property
    def profile(self) -> Profile:
        """The profile in force."""
        return self._situation.profile

    @property
    def by_hand(self) -> bool:
        """Whether the profile was chosen by hand."""
        return self._situation.by_hand

    @property
    def paused(self) -> bool:
        """Whether Fenko does nothing but wait to be started again."""
        return self._situation.paused

    @property
    def under_way(self) -> bool:
        """Whether something is under way that ends by itself; what only goes on while a control is held does not."""
        return self._agenda.ending > 0 or self._lone.stroke is not None or self._first is not None

    def use_profile(self, now: float, name: str) -> Sequence[Effect]:
        """Puts a profile in force by hand, or the `next` or `previous` one; with `auto` the focus decides again."""
        self._take_in()
        self._situation.by_name(now, name)
        return self._finish()

    def toggle_pause(self, now: float) -> Sequence[Effect]:
        """Stops Fenko, or starts it again."""
        self._take_in()
        self._toggle_pause(now)
        return self._finish()

    def lock_layer(self, now: float, name: str) -> Sequence[Effect]:
        """Puts a layer of the profile in force on top, until it is lifted."""
        self._take_in()
        self._situation.lock(now, name)
        return self._finish()

    def use_plan(self, now: float, plan: Plan) -> Sequence[Effect]:
        """Puts another plan in the place of this one, between two changes. What is held stays held, and every action under
        way goes on as it began. What waited to be decided is decided by the old plan. The profile and the layers stay
        where the new plan has some of the same name; surfaces that it lacks, or knows otherwise, are unplugged."""
        self._take_in()
        self._agenda.pass_time(now)
        self._pending.settle_others(now, "")
        for name, surface in self.plan.surfaces.items():
            other = plan.surfaces.get(name)
            if other is None:
                self._change(now, UNPLUG, name)
            elif unconditioned(other) != unconditioned(surface):
                self._forget(now, name)  # it is there as much as before
        self.plan = plan
        self._inputs = Inputs(plan.surfaces)
        self._gap = plan.timing.gap
        for room in (self._gestures, self._runs, self._contacts):
            room.use_plan(plan)
        self._motion.use_plan(now, plan)
        self._values.use(plan.values)
        self._situation.use_plan(now, plan)
        self._situation.watch(now, self._gestures.down)
        return self._finish()

    @property
    def stack(self) -> Stack:
        """All that is in force now."""
        return self._situation.stack

    def cell(self, address: str) -> Cell | None:
        """What a cell does now; None where nothing is bound."""
        return self._situation.stack.cell(address)

    # --- Changes ---

    def _change(self, t: float, address: str, value: Any) -> None:
        if address == FOCUS:
            self._situation.focus_on(t, value)
        elif address == KEYBOARD:
            self._situation.keyboard = value
            self._situation.watch(t, self._gestures.down)
        elif address == UNPLUG:
            self._forget(t, value)
            self._situation.plug(t, value, False)
        elif address == PLUG:
            self._situation.plug(t, value, True)
        elif address == RUNNING:
            self._situation.run_on(t, value)
        elif address == MACHINES:
            self._situation.machines_on(t, value)
        else:
            control, part, shape, _, _ = self._inputs[address]
            if shape is BUTTON:
                if part:
                    self._motion.press(t, control, part, bool(value))
                self._contacts.button(t, address, control, bool(value))
            elif shape is TOUCH_AREA:
                if part:
                    self._touching.move(t, control, part, value, self.stack)
                else:
                    self._touching.touch(control, bool(value))
                    self._contacts.button(t, address, control, bool(value))
            elif shape is SENSOR:
                self._tilting.feed(t, control.partition(".")[0], part, value)
            elif shape is NONE:
                return
            elif shape is MOTION:
                self._move_on(t, address, control, value)
            elif shape.turns:
                if (
                    not self._gestures.turn(t, address, shape.turns, value)
                    and shape is not DIAL
                    and self._passes(address)
                ):
                    lines = (0, -value) if shape is WHEEL else (value, 0)
                    self._out.append((t, "pointer", "scroll", *lines))
            else:
                self._motion.set(t, self._motion.axis(address, control, part), value)
                self._contacts.axis(t, address, control, shape, value)

    def _forget(self, t: float, surface: str) -> None:
        """All that is under way on a surface ends, as if it had been unplugged."""
        self._gestures.unplug(t, surface)
        self._motion.unplug(t, surface)
        self._tilting.unplug(surface)
        self._touching.unplug(surface)

    def _move_on(self, t: float, address: str, control: str, value: float) -> None:
        """A mouse moved."""
        drives = self.stack.drives(control)
        if drives and isinstance(drives[0].step, Pass):
            act, factor = drives[0].step.act, drives[0].step.factor
        elif self._passes(address) and self.stack.cell(control) is None:
            act, factor = "move", 1
        else:
            return
        step = (value * factor, 0) if address.endswith("x") else (0, value * factor)
        self._out.append((t, "pointer", act, *step))

    def _passes(self, address: str) -> bool:
        """Whether what is unbound there is sent on."""
        surface = address.partition(".")[0]
        return self.plan.surfaces[surface].passes and not self.paused and surface not in self.profile.leaves

    # --- What the rooms tell one another ---

    def _profile_leaves(self, t: float) -> None:
        """Toggled keys are for the program in front, and so is what lasts no longer than its profile; nothing of them reaches the
        next one."""
        self._runs.end_toggles(t, lambda holder, group: True)
        self._runs.end_with_profile(t)

    def _profile_visits(self, t: float, gone: Profile | None, come: Profile) -> None:
        self._runs.visit(t, gone, come)

    def _situation_changed(self, t: float, profile: bool) -> None:
        self._contacts.stack = self._situation.stack
        self._motion.use_stack(t, self._situation.stack)
        if profile:
            self._situation.watch(t, self._gestures.down)

    def _toggle_pause(self, t: float) -> None:
        self._release_all(t)
        self._situation.toggle_pause(t)

    def _release_all(self, t: float) -> None:
        self._runs.clear(t)
        self._motion.stop(t)
        self._gestures.clear()
        self._situation.end(t, lambda on: on[1] != WHILE)
        self._situation.watch(t, self._gestures.down)

    def _finish(self) -> Sequence[Effect]:
        # What waits to be settled has to see the next press, and so has a layer that is on for one action; then nothing
        # may take a shorter way.
        self._stack = self._situation.stack
        self._calm = not (self._pending.waits or self._runs.under_way or self._contacts.waits or self._situation.spends)
        self._agenda_due = self._agenda.deadline
        return self._taken()
