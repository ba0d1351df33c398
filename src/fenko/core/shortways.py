"""The shorter ways through the engine, for what is common: they do at once what the rooms would come to.

Whatever goes a shorter way is kept here, and told to the rooms before anything else happens (`_take_in`).
"""

from __future__ import annotations

from collections.abc import Sequence
from math import inf

from fenko.core.agenda import Agenda, after
from fenko.core.changes import Effect
from fenko.core.gestures import Gestures
from fenko.core.held import Lasting
from fenko.core.motion import Motion
from fenko.core.pending import Pending
from fenko.core.plan import Cell, Report
from fenko.core.runs import Runs
from fenko.core.stack import Direct, Member, Stack
from fenko.core.strokes import Stroke

NOTHING: tuple[Effect, ...] = ()
NO_ITEMS: tuple[str, ...] = ()
NO_KEYS: dict[str, tuple[str, ...]] = {}
NO_DIRECT: dict[str, Direct] = {}
NO_MEMBERS: dict[str, Member] = {}
NO_DETENTS: dict[str, tuple[Stroke | None, Stroke | None]] = {}


class ShortWays:
    """What `Engine.feed` looks at first."""

    # With this many attributes, an object without slots is slower to look at.
    __slots__ = (
        "_agenda", "_agenda_due", "_alone", "_alone_keys", "_alone_up", "_bands", "_calm", "_detents", "_direct", "_directly", "_down",
        "_first", "_first_at", "_first_due", "_free_at", "_gap", "_gestures", "_held", "_instant", "_lone", "_members",
        "_motion", "_others", "_out", "_paired", "_pending", "_report", "_rested_at", "_runs", "_stack", "deadline",
    )  # fmt: skip

    def __init__(
        self,
        runs: Runs,
        gestures: Gestures,
        pending: Pending,
        motion: Motion,
        agenda: Agenda,
        bands: dict[str, tuple[float, float]],
        stack: Stack,
        out: list[Effect],
        report: Report | None,
        gap: float,
    ) -> None:
        self.deadline = inf
        self._out = out
        self._report = report
        self._runs = runs
        self._gestures = gestures
        self._pending = pending
        self._motion = motion
        self._agenda = agenda
        self._lone = runs.lone
        self._held = runs.items
        self._bands = bands
        self._stack = stack
        self._gap = gap
        self._agenda_due = inf
        self._calm = False
        # The shortest way: the cell that is pressed; the keys that the rooms have not been told of; when it lifted keys
        # last, and from when on it may be taken.
        self._instant = NO_KEYS
        self._alone: str | None = None
        self._alone_keys = NO_ITEMS
        self._alone_up = -inf
        self._free_at = -inf
        # The next shortest: what may be held directly, what is, and from when on all keys have rested; which detents are
        # strokes and nothing else.
        self._direct = NO_DIRECT
        self._directly: dict[str, Direct] = {}
        self._rested_at = -inf
        self._down = gestures.down
        self._detents = NO_DETENTS
        # Two at once: which buttons may be the first, which one is and since when, which ones complete it; and what the two
        # hold that were pressed together, None for the one that is still down when the other has come up.
        self._members = NO_MEMBERS
        self._first: str | None = None
        self._first_at = -inf
        self._first_due = inf
        self._others = NO_DIRECT
        self._paired: dict[str, Direct | None] = {}

    def _take_in_alone(self) -> None:
        held = self._held
        if self._alone is not None:
            direct = self._directly[self._alone] = self._stack.direct[self._alone]
            held.note_begin(direct.ones or self._ones(direct))
            self._alone = None  # what came up before that has been up for long enough
            self._free_at = inf
        elif self._alone_keys:
            held.note_end(self._alone_up, (held.lasting(("keys", key)) for key in self._alone_keys))
        self._alone_up = -inf
        self._alone_keys = NO_ITEMS

    def _take_in(self) -> None:
        """Tells the rooms of the presses, the release and the stroke that came a short way, before anything else
        happens."""
        if self._alone_keys:
            self._take_in_alone()
        held = self._held
        for address, direct in self._directly.items():
            held.holders[address] = direct.items
            self._down.add(address)
        self._directly.clear()
        for address, pair in self._paired.items():
            self._down.add(address)
            if pair is not None:
                self._pending.instead[address] = pair.cell.address
                held.holders[pair.cell.address] = pair.items
        self._paired.clear()
        if self._first is not None:
            first, self._first, self._first_due = self._first, None, inf
            self._down.add(first)
            self._pending.gather(self._first_at, first, self._stack.part(first), self._first_at)
        self._runs.take_in()

    def _taken(self) -> Sequence[Effect]:
        """The effects so far; and which ways may be taken from now on."""
        self._down = self._gestures.down
        self._open_ways()
        return self._effects()

    def _effects(self) -> Sequence[Effect]:
        """What has come of it so far, once."""
        if not self._out:
            return NOTHING
        effects = tuple(self._out)
        self._out.clear()
        return effects

    def _open_ways(self) -> None:
        """The rooms know everything, or nothing waits to be decided; which ways may be taken from now on."""
        stack = self._stack
        self.deadline = min(self._agenda_due, self._lone.due)
        self._instant = stack.instant
        self._rested_at = self._held.free_at
        self._others = NO_DIRECT
        self._detents = stack.detents if self._calm else NO_DETENTS
        if self._calm and self._lone.stroke is None:
            self._direct = stack.direct
            self._members = stack.members
            self._free_at = inf if self._held.lasting_now else self._rested_at
        else:
            self._close_ways()

    def _close_ways(self) -> None:
        """Something is under way that the next press has to see."""
        self._direct = NO_DIRECT
        self._members = NO_MEMBERS
        self._free_at = inf

    def _hold(self, t: float, direct: Direct) -> Sequence[Effect]:
        """What does nothing but hold is pressed, whatever else is held."""
        self._free_at = inf
        if self._report is not None:
            self._tell(t, direct.cell)
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

    def _have_rested(self, t: float, direct: Direct) -> bool:
        """Whether all that a button would hold has been up for long enough, where something else has not."""
        return all(one.count or t >= after(one.ended, self._gap) for one in direct.ones or self._ones(direct))

    def _ones(self, direct: Direct) -> tuple[Lasting, ...]:
        direct.ones = tuple(map(self._held.lasting, direct.items))
        direct.backwards = direct.ones[::-1]
        return direct.ones

    def _lift(self, t: float, direct: Direct) -> Sequence[Effect]:
        """It is let go."""
        held = self._held
        effects = []
        for one in direct.backwards:
            if one.count > 1:
                one.count -= 1
            else:
                one.count = 0
                one.ended = t
                held.lasting_now -= 1
                out, act, name = one.ends
                effects.append((t, out, act, name))
        if effects:
            self._rested_at = held.free_at = t + self._gap
        if self._direct and not held.lasting_now:
            self._free_at = held.free_at
        return effects

    def _wait_for_other(self, t: float, address: str) -> Sequence[Effect]:
        """A button that may be one of several at once: nothing comes of it until that is known."""
        window, self._others = self._members[address]
        self._first, self._first_at = address, t
        self._close_ways()
        self._detents = NO_DETENTS
        self._first_due = after(t, window)
        self.deadline = min(self._agenda_due, self._first_due)
        return NOTHING

    def _pair(self, t: float, address: str, direct: Direct) -> Sequence[Effect]:
        """The other one of two: together they hold something."""
        assert self._first is not None
        if self._pending.timed is not None:
            self._pending.timed(t, direct.cell, "chord", t - self._first_at)
        self._paired[self._first] = self._paired[address] = direct
        self._first, self._first_due = None, inf
        self._open_ways()
        return self._hold(t, direct)

    def _part(self, t: float, address: str) -> Sequence[Effect]:
        """One of two is let go: what they held ends with the first of them."""
        direct = self._paired.pop(address)
        if direct is None:
            return NOTHING
        one, other = direct.cell.members
        self._paired[one if other == address else other] = None
        return self._lift(t, direct)

    def _tell(self, t: float, cell: Cell) -> None:
        assert self._report is not None
        self._report(t, cell.address, "press", cell.profile, cell.press)

    def _told(self) -> Sequence[Effect]:
        """The effects of what moves; nothing else has changed."""
        self._agenda_due = self._agenda.deadline
        self.deadline = min(self._agenda_due, self._lone.due, self._first_due)
        return self._effects()

    def _detent(self, t: float, address: str, value: float) -> bool:
        """One whole detent that is a stroke and nothing else; False if this change has to go all the way."""
        detent = self._detents[address][value > 0]
        if detent is None or value not in (1, -1) or not self._gestures.turn_one(t, address, detent.cell.address):
            return False
        if self._alone_keys:
            self._take_in_alone()
        while self._lone.due <= t:
            self._lone.pass_due()
        if not self._lone.strike(t, detent):
            return False
        if self._report is not None:
            self._report(t, detent.cell.address, "turn", detent.cell.profile, detent.cell.press)
        return True

    def _pass_lone(self, now: float) -> Sequence[Effect]:
        """What the lone stroke waits for happens, where nothing else is due."""
        while self._lone.due <= now:
            self._lone.pass_due()
        return self._struck()

    def _struck(self) -> Sequence[Effect]:
        """The effects of a lone stroke; nothing but that has changed."""
        if self._lone.stroke is None:
            return self._taken()
        due = self._lone.due
        self.deadline = due if due < self._agenda_due else self._agenda_due
        self._close_ways()
        effects = tuple(self._out)
        self._out.clear()
        return effects
