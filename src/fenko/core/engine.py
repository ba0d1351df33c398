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
`situation`  the profile, its layers and pause; a `stack` of levels says what each cell does
`agenda`     what is due, and when

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
from math import inf
from typing import Any

from fenko.core.agenda import Agenda
from fenko.core.changes import FOCUS, KEYBOARD, PLUG, UNPLUG, Change, Effect
from fenko.core.contacts import Contacts
from fenko.core.controls import BUTTON, DIAL, MOTION, WHEEL
from fenko.core.gestures import Gestures
from fenko.core.held import Lasting
from fenko.core.inputs import Inputs
from fenko.core.plan import Cell, Focus, Plan, Profile, Report
from fenko.core.runs import Runs
from fenko.core.situation import WHILE, Situation
from fenko.core.stack import Direct, Lone, Stack
from fenko.core.steps import Item

_NOTHING: tuple[Effect, ...] = ()
_NO_KEYS: dict[str, tuple[str, ...]] = {}
_NO_DIRECT: dict[str, Direct] = {}
_NO_DETENTS: dict[str, tuple[Lone | None, Lone | None]] = {}


class Engine:
    """Turns changes into effects by a plan. `report`, if given, is told of each action that starts; `seed` decides what
    comes at random."""

    # With this many attributes, an object without slots is slower to look at.
    __slots__ = (
        "_agenda",
        "_agenda_due",
        "_alone",
        "_alone_keys",
        "_alone_up",
        "_bands",
        "_calm",
        "_contacts",
        "_detents",
        "_direct",
        "_directly",
        "_down",
        "_free_at",
        "_gap",
        "_gestures",
        "_held",
        "_inputs",
        "_instant",
        "_out",
        "_pending",
        "_report",
        "_runs",
        "_situation",
        "_stack",
        "deadline",
        "plan",
    )  # fmt: skip

    def __init__(self, plan: Plan, report: Report | None = None, seed: int = 0) -> None:
        self.plan = plan
        self.deadline = inf
        self._report = report
        self._out: list[Effect] = []
        self._agenda = Agenda()
        self._situation = Situation(plan, self._out, self._profile_leaves, self._situation_changed)
        self._runs = Runs(self._situation, plan.timing, self._agenda, self._out, self._toggle_pause, report, seed)
        self._gestures = Gestures(
            plan.surfaces, plan.timing, self._agenda, self._situation, self._runs, plan.watched, report
        )
        pending = self._pending = self._gestures.pending
        self._contacts = Contacts(
            plan.surfaces, plan.timing, self._agenda, self._gestures.set, pending.settle_others, self._situation.stack
        )
        self._gestures.use_contacts(self._contacts)
        self._inputs = Inputs(plan.surfaces)
        # The cell that `feed` pressed the short way, and its keys; kept apart as long as nothing else happens.
        self._instant = _NO_KEYS
        self._alone: str | None = None
        self._alone_keys: tuple[str, ...] = ()
        # When the short way lifted keys last, and from when on it may be taken.
        self._alone_up = -inf
        self._free_at = -inf
        self._gap = plan.timing.gap
        # What takes the next shortest ways, and the cells that were pressed by them.
        self._calm = False
        self._stack = self._situation.stack
        self._held = self._runs.items
        self._down = self._gestures.down
        self._bands = self._contacts.bands
        self._agenda_due = inf
        self._direct = _NO_DIRECT
        self._directly: dict[str, Direct] = {}
        self._detents = _NO_DETENTS
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
                            self._tell(t, address)
                        if len(keys) == 2:
                            return ((t, "keys", "down", keys[0]), (t, "keys", "down", keys[1]))
                        return [(t, "keys", "down", key) for key in keys]
                if (
                    address in self._direct and address not in self._directly and address not in self._down
                    and t >= self._held.free_at and t >= self._alone_up + self._gap
                ):  # fmt: skip
                    return self._hold_directly(t, address)
            elif value == 0:
                if address == self._alone:
                    self._alone = None
                    self._alone_up = t
                    self._free_at = t + self._gap
                    keys = self._alone_keys
                    if len(keys) == 2:
                        return ((t, "keys", "up", keys[1]), (t, "keys", "up", keys[0]))
                    return [(t, "keys", "up", key) for key in reversed(keys)]
                if address in self._directly and self._calm:
                    return self._lift_directly(t, address)
            if address in self._bands:
                low, high = self._bands[address]
                if low < value < high:
                    return _NOTHING
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
            return _NOTHING
        if now < self._agenda_due and self._runs.lone is not None:
            return self._pass_lone(now)
        self._take_in()
        self._agenda.pass_time(now)
        return self._finish()

    def release_all(self, now: float) -> Sequence[Effect]:
        """Lifts everything and forgets every gesture and action under way. What hands still hold stays silent."""
        self._take_in()
        self._release_all(now)
        return self._finish()

    def acts(self, change: Change) -> bool:
        """Whether a hand presses or turns something with this change, which has not been fed yet."""
        _, address, value = change
        if address in (FOCUS, KEYBOARD, UNPLUG, PLUG):
            return False
        shape = self._inputs[address].shape
        if shape is MOTION:
            return False
        return bool(value) if shape.turns else self._contacts.acts(address, shape, value)

    @property
    def held(self) -> tuple[Item, ...]:
        """What is held now because of this engine, in the order in which it began."""
        self._take_in()
        return self._held.items

    @property
    def toggled(self) -> tuple[Item, ...]:
        """What lasts until it is toggled again, the profile changes, or everything is lifted."""
        return self._runs.toggled

    @property
    def layers(self) -> tuple[str, ...]:
        """The layers that are on, newest last."""
        return self._situation.layers

    @property
    def focus(self) -> Focus:
        """The window in front."""
        return self._situation.focus

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
        return self._agenda.ending > 0 or self._runs.lone is not None

    def use_profile(self, now: float, name: str) -> Sequence[Effect]:
        """Puts a profile in force by hand, or the `next` or `previous` one; with `auto` the focus decides again."""
        self._take_in()
        self._situation.by_name(now, name)
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
            if plan.surfaces.get(name) != surface:
                self._change(now, UNPLUG, name)
        self.plan = plan
        self._inputs = Inputs(plan.surfaces)
        self._gap = plan.timing.gap
        for room in (self._gestures, self._runs, self._contacts):
            room.use_plan(plan)
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

    def _take_in(self) -> None:
        """Tells the rooms of the presses, the release and the stroke that came a short way, before anything else
        happens."""
        self._take_in_alone()
        for address, direct in self._directly.items():
            self._held.holders[address] = direct.items
            self._down.add(address)
        self._runs.take_in()

    def _take_in_alone(self) -> None:
        held = self._held
        if self._alone is not None:
            direct = self._directly[self._alone] = self._stack.direct[self._alone]
            for one in direct.ones or self._ones(direct):
                one.count = 1
                held.begun = one.began = held.begun + 1
                held.lasting_now += 1
            self._alone = None
            self._alone_up = -inf  # what came up before that has been up for long enough
        elif self._alone_up > -inf:
            held.note_end(self._alone_up, (held.lasting(("keys", key)) for key in self._alone_keys))
            self._alone_up = -inf

    def _change(self, t: float, address: str, value: Any) -> None:
        if address == FOCUS:
            self._situation.focus_on(t, value)
        elif address == KEYBOARD:
            self._situation.keyboard = value
            self._situation.watch(t, self._gestures.down)
        elif address == UNPLUG:
            self._gestures.unplug(t, value)
            for gone in [cell for cell in self._directly if cell not in self._gestures.down]:
                del self._directly[gone]
        elif address != PLUG:
            control, _, shape, _ = self._inputs[address]
            if shape is BUTTON:
                self._contacts.button(t, address, control, bool(value))
            elif shape is MOTION:
                if self._passes(address):
                    step = (value, 0) if address.endswith("x") else (0, value)
                    self._out.append((t, "pointer", "move", *step))
            elif shape.turns:
                if (
                    not self._gestures.turn(t, address, shape.turns, value)
                    and shape is not DIAL
                    and self._passes(address)
                ):
                    lines = (0, -value) if shape is WHEEL else (value, 0)
                    self._out.append((t, "pointer", "scroll", *lines))
            else:
                self._contacts.axis(t, address, control, shape, value)

    def _passes(self, address: str) -> bool:
        """Whether what is unbound there is sent on."""
        return self.plan.surfaces[address.partition(".")[0]].passes and not self.paused

    # --- What the rooms tell one another ---

    def _profile_leaves(self, t: float) -> None:
        """Toggled keys are for the program in front; nothing of them reaches the next one."""
        self._runs.end_toggles(t, lambda holder, group: True)

    def _situation_changed(self, t: float, profile: bool) -> None:
        self._contacts.stack = self._situation.stack
        if profile:
            self._situation.watch(t, self._gestures.down)

    def _toggle_pause(self, t: float) -> None:
        self._release_all(t)
        self._situation.toggle_pause(t)

    def _release_all(self, t: float) -> None:
        self._runs.clear(t)
        self._directly.clear()
        self._gestures.clear()
        self._situation.end(t, lambda on: on[1] != WHILE)
        self._situation.watch(t, self._gestures.down)

    def _finish(self) -> Sequence[Effect]:
        # What waits to be settled has to see the next press, and so has a layer that is on for one action; then nothing
        # may take a shorter way.
        self._stack = self._situation.stack
        self._calm = not (self._pending.waits or self._runs.under_way or self._contacts.waits or self._situation.spends)
        self._detents = self._stack.detents if self._calm else _NO_DETENTS
        self._agenda_due = self._agenda.deadline
        return self._taken()

    def _taken(self) -> Sequence[Effect]:
        """The effects so far; and what holds from now on."""
        runs = self._runs
        if self._alone is None:
            self._take_in_alone()
        self.deadline = min(self._agenda_due, runs.lone_due)
        self._instant = self._stack.instant
        self._down = self._gestures.down
        self._direct = self._stack.direct if self._calm and runs.lone is None else _NO_DIRECT
        plain = self._direct and not self._held.lasting_now
        self._free_at = self._held.free_at if plain else inf
        if not self._out:
            return _NOTHING
        effects = tuple(self._out)
        self._out.clear()
        return effects

    # --- The next shortest ways ---

    def _hold_directly(self, t: float, address: str) -> Sequence[Effect]:
        """A button that does nothing but hold, while others are held."""
        if self._alone is not None:
            self._take_in_alone()
        direct = self._directly[address] = self._direct[address]
        self._free_at = inf
        if self._report is not None:
            self._tell(t, address)
        held = self._held
        effects = []
        for one in direct.ones or self._ones(direct):
            if one.count:
                one.count += 1
            else:
                one.count = 1
                held.begun = one.began = held.begun + 1
                held.lasting_now += 1
                out, act, name = one.begins
                effects.append((t, out, act, name))
        return effects

    def _tell(self, t: float, address: str) -> None:
        assert self._report is not None
        cell = self._stack.direct[address].cell
        self._report(t, address, "press", cell.profile, cell.press)

    def _ones(self, direct: Direct) -> tuple[Lasting, ...]:
        direct.ones = tuple(map(self._held.lasting, direct.items))
        return direct.ones

    def _lift_directly(self, t: float, address: str) -> Sequence[Effect]:
        """It is let go."""
        if self._alone is not None:
            self._take_in_alone()
        direct = self._directly.pop(address)
        held = self._held
        if address in held.holders:
            del held.holders[address]
            self._down.discard(address)
        effects = []
        for one in reversed(direct.ones):
            if one.count > 1:
                one.count -= 1
            else:
                one.count = 0
                one.ended = t
                held.lasting_now -= 1
                out, act, name = one.ends
                effects.append((t, out, act, name))
        if effects:
            held.free_at = t + self._gap
        if not held.lasting_now:
            self._free_at = held.free_at
        return effects

    def _detent(self, t: float, address: str, value: float) -> bool:
        """One whole detent that is a stroke and nothing else; False if this change has to go all the way."""
        detent = self._detents[address][value > 0]
        if detent is None or value not in (1, -1) or not self._gestures.turn_one(t, address, detent.cell.address):
            return False
        runs = self._runs
        if self._alone is not None:
            self._take_in_alone()
        while runs.lone_due <= t:
            runs.pass_lone()
        if not runs.strike(t, detent):
            return False
        if self._report is not None:
            self._report(t, detent.cell.address, "turn", detent.cell.profile, detent.cell.press)
        return True

    def _pass_lone(self, now: float) -> Sequence[Effect]:
        """What the lone stroke waits for happens, where nothing else is due."""
        while self._runs.lone_due <= now:
            self._runs.pass_lone()
        return self._struck()

    def _struck(self) -> Sequence[Effect]:
        """The effects of a lone stroke; nothing but that has changed."""
        if self._runs.lone is None:
            return self._taken()
        self.deadline = min(self._agenda_due, self._runs.lone_due)
        self._free_at = inf
        self._direct = _NO_DIRECT
        effects = tuple(self._out)
        self._out.clear()
        return effects
