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
    stroke, a stick that stays where it is) takes the next shortest way (`_quickly`), as long as nothing is undecided and
    no action under way. Whatever else happens takes in what was kept apart first.
"""

from __future__ import annotations

from collections.abc import Sequence
from math import inf
from typing import Any

from fenko.core.agenda import Agenda
from fenko.core.changes import FOCUS, KEYBOARD, PLUG, UNPLUG, Change, Effect
from fenko.core.contacts import Contacts
from fenko.core.controls import BUTTON, DIAL, MOTION, WHEEL, Shape, shape_of
from fenko.core.gestures import Gestures
from fenko.core.plan import Cell, Focus, Plan, Profile, Report
from fenko.core.runs import Runs
from fenko.core.situation import WHILE, Situation
from fenko.core.stack import Detent, Stack
from fenko.core.steps import Item

_NOTHING: tuple[Effect, ...] = ()
_NO_KEYS: dict[str, tuple[str, ...]] = {}
_NO_ITEMS: dict[str, tuple[Item, ...]] = {}


class Engine:
    """Turns changes into effects by a plan. `report`, if given, is told of each action that starts; `seed` decides what
    comes at random."""

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
        self._shapes: dict[str, tuple[str, Shape]] = {}
        # The cell that `feed` pressed the short way, and its keys; kept apart as long as nothing else happens.
        self._instant = _NO_KEYS
        self._alone: str | None = None
        self._alone_keys: tuple[str, ...] = ()
        # When the short way lifted keys last, and from when on every key may go down again.
        self._alone_up = -inf
        self._free_at = -inf
        self._gap = plan.timing.gap
        # What takes the next shortest way, and the cells that were pressed by it.
        self._calm = False
        self._direct = _NO_ITEMS
        self._directly: set[str] = set()
        self._finish()

    # --- The public surface ---

    def feed(self, change: Change) -> Sequence[Effect]:
        """Takes one change, after all that was due before it. Times must not run backwards."""
        t, address, value = change
        if t < self.deadline:
            if value == 1:
                if self._alone is None and t >= self._free_at:
                    try:
                        keys = self._instant[address]
                    except KeyError:
                        pass
                    else:
                        self._alone = address
                        self._alone_keys = keys
                        if len(keys) == 2:
                            return ((t, "keys", "down", keys[0]), (t, "keys", "down", keys[1]))
                        return [(t, "keys", "down", key) for key in keys]
            elif value == 0 and address == self._alone:
                self._alone = None
                self._alone_up = t
                self._free_at = t + self._gap
                keys = self._alone_keys
                if len(keys) == 2:
                    return ((t, "keys", "up", keys[1]), (t, "keys", "up", keys[0]))
                return [(t, "keys", "up", key) for key in reversed(keys)]
        if self._quickly(t, address, value):
            return self._taken()
        self._take_in()
        self._agenda.pass_time(t)
        self._change(t, address, value)
        self._agenda.pass_time(t)
        return self._finish()

    def advance(self, now: float) -> Sequence[Effect]:
        """Lets time pass until `now`: all that is due by then happens, each thing at its own time."""
        if now < self.deadline:
            return _NOTHING
        if self._only_lone_until(now):
            self._pass_lone(now)
            return self._taken()
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
        _, shape = self._shape(address)
        if shape is MOTION:
            return False
        return bool(value) if shape.turns else self._contacts.acts(address, shape, value)

    @property
    def held(self) -> tuple[Item, ...]:
        """What is held now because of this engine, in the order in which it began."""
        self._take_in()
        return self._runs.items.items

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

    @property
    def stack(self) -> Stack:
        """All that is in force now."""
        return self._situation.stack

    def cell(self, address: str) -> Cell | None:
        """What a cell does now; None where nothing is bound."""
        return self._situation.stack.cell(address)

    # --- Changes ---

    def _take_in(self) -> None:
        """Tells the rooms of the press, the release or the stroke that came a short way, before anything else happens."""
        self._take_in_alone()
        self._runs.take_in()

    def _take_in_alone(self) -> None:
        if self._alone is not None:
            self._runs.items.take_over(self._alone, tuple(("keys", key) for key in self._alone_keys))
            self._gestures.down.add(self._alone)
            self._directly.add(self._alone)
            self._alone = None
            self._alone_up = -inf  # what came up before that has been up for long enough
        elif self._alone_up > -inf:
            self._runs.items.note_end(self._alone_up, (("keys", key) for key in self._alone_keys))
            self._alone_up = -inf

    def _change(self, t: float, address: str, value: Any) -> None:
        if address == FOCUS:
            self._situation.focus_on(t, value)
        elif address == KEYBOARD:
            self._situation.keyboard = value
            self._situation.watch(t, self._gestures.down)
        elif address == UNPLUG:
            self._gestures.unplug(t, value)
            self._directly &= self._gestures.down
        elif address != PLUG:
            control, shape = self._shape(address)
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

    def _shape(self, address: str) -> tuple[str, Shape]:
        """The control's address and how changes at `address` act."""
        known = self._shapes.get(address)
        if known is None:
            surface, _, rest = address.partition(".")
            control, _, part = rest.partition(".")
            shape = shape_of(self.plan.surfaces[surface].kernel_name(control) or control)
            if part in shape.directions and part not in shape.axes:
                shape = BUTTON  # a direction that has a switch of its own
            known = self._shapes[address] = (f"{surface}.{control}", shape)
        return known

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
        self._calm = not (
            self._pending.waits or self._runs.under_way or self._contacts.undecided() or self._situation.spends
        )
        self._direct = self._situation.stack.direct if self._calm else _NO_ITEMS
        return self._taken()

    def _taken(self) -> Sequence[Effect]:
        """The effects so far; and what holds from now on."""
        runs = self._runs
        if self._alone is None:
            self._take_in_alone()
        self.deadline = min(self._agenda.deadline, runs.lone_due)
        self._free_at = runs.items.free_at
        # Whoever wants reports wants them of every press.
        plain = self._calm and not (runs.items.holders or runs.lone or self._report)
        self._instant = self._situation.stack.instant if plain else _NO_KEYS
        if not self._out:
            return _NOTHING
        effects = tuple(self._out)
        self._out.clear()
        return effects

    # --- The next shortest way ---

    def _quickly(self, t: float, address: str, value: Any) -> bool:
        """Takes a change that touches nothing but itself; False if it has to go all the way."""
        if not self._calm or (t >= self.deadline and not self._only_lone_until(t)):
            return False
        band = self._contacts.bands.get(address)
        if band is not None:
            if not band[0] < value < band[1]:
                return False
        elif value == 1 and (items := self._direct.get(address)) is not None:
            self._take_in_alone()
            self._pass_lone(t)
            held = self._runs.items
            if self._runs.lone is not None or address in self._gestures.down or held.ready(t, items) > t:
                return False
            if self._report is not None:
                cell = self._situation.stack.cell(address)
                assert cell is not None
                self._report(t, address, "press", cell.profile, cell.press)
            held.hold(t, address, items)
            self._gestures.down.add(address)
            self._directly.add(address)
            return True
        elif value == 0 and (address in self._directly or address == self._alone):
            self._take_in_alone()
            self._pass_lone(t)
            self._directly.discard(address)
            self._gestures.down.discard(address)
            self._runs.items.lift(t, address)
            return True
        else:
            return (detents := self._situation.stack.detents.get(address)) is not None and self._detent(
                t, address, value, detents
            )
        self._pass_lone(t)
        return True

    def _detent(self, t: float, address: str, value: float, detents: tuple[Detent | None, Detent | None]) -> bool:
        """One whole detent that is a stroke and nothing else."""
        detent = detents[value > 0]
        if detent is None or value not in (1, -1) or not self._gestures.turn_one(t, address, detent.cell.address):
            return False
        self._take_in_alone()
        self._pass_lone(t)
        if not self._runs.strike(t, detent.cell.address, detent.items, detent.stroke):
            return False
        if self._report is not None:
            self._report(t, detent.cell.address, "turn", detent.cell.profile, detent.cell.press)
        return True

    def _only_lone_until(self, t: float) -> bool:
        """Whether nothing is due by then but what the lone stroke waits for."""
        return self._runs.lone is not None and self._agenda.deadline > max(t, self._runs.lone_due)

    def _pass_lone(self, t: float) -> None:
        while self._runs.lone_due <= t:
            self._runs.pass_lone()
