"""The shorter ways through the engine, for what is common: they do at once what the rooms would come to.

Whatever goes a shorter way is kept here, and told to the rooms before anything else happens (`Engine._take_in`).
"""

from __future__ import annotations

from collections.abc import Sequence
from math import inf

from fenko.core.agenda import after
from fenko.core.changes import Effect
from fenko.core.gestures import Gestures
from fenko.core.held import Lasting
from fenko.core.plan import Report
from fenko.core.runs import Runs
from fenko.core.stack import Direct, Stack
from fenko.core.strokes import Stroke

NOTHING: tuple[Effect, ...] = ()
NO_ITEMS: tuple[str, ...] = ()
NO_KEYS: dict[str, tuple[str, ...]] = {}
NO_DIRECT: dict[str, Direct] = {}
NO_DETENTS: dict[str, tuple[Stroke | None, Stroke | None]] = {}


class ShortWays:
    """What `Engine.feed` looks at first."""

    # With this many attributes, an object without slots is slower to look at.
    __slots__ = (
        "_agenda_due", "_alone", "_alone_keys", "_alone_up", "_bands", "_calm", "_detents", "_direct", "_directly", "_down",
        "_free_at", "_gap", "_gestures", "_held", "_instant", "_lone", "_out", "_report", "_runs", "_stack", "deadline",
    )  # fmt: skip

    def __init__(
        self,
        runs: Runs,
        gestures: Gestures,
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
        # The next shortest: what may be held directly, and what is; which detents are strokes and nothing else.
        self._direct = NO_DIRECT
        self._directly: dict[str, Direct] = {}
        self._down = gestures.down
        self._detents = NO_DETENTS

    def _take_in_alone(self) -> None:
        held = self._held
        if self._alone is not None:
            direct = self._directly[self._alone] = self._stack.direct[self._alone]
            held.note_begin(direct.ones or self._ones(direct))
            self._alone = None  # what came up before that has been up for long enough
        elif self._alone_keys:
            held.note_end(self._alone_up, (held.lasting(("keys", key)) for key in self._alone_keys))
        self._alone_up = -inf
        self._alone_keys = NO_ITEMS

    def _taken(self) -> Sequence[Effect]:
        """The effects so far; and which ways may be taken from now on."""
        self.deadline = min(self._agenda_due, self._lone.due)
        self._instant = self._stack.instant
        self._down = self._gestures.down
        self._direct = self._stack.direct if self._calm and self._lone.stroke is None else NO_DIRECT
        plain = self._direct and not self._held.lasting_now
        self._free_at = self._held.free_at if plain else inf
        if not self._out:
            return NOTHING
        effects = tuple(self._out)
        self._out.clear()
        return effects

    def _hold_directly(self, t: float, address: str) -> Sequence[Effect]:
        """A button that does nothing but hold, while others are held."""
        if self._alone_keys:
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

    def _have_rested(self, t: float, address: str) -> bool:
        """Whether all that a button would hold has been up for long enough, where something else has not."""
        self._take_in_alone()
        direct = self._direct[address]
        return all(one.count or t >= after(one.ended, self._gap) for one in direct.ones or self._ones(direct))

    def _tell(self, t: float, address: str) -> None:
        assert self._report is not None
        cell = self._stack.direct[address].cell
        self._report(t, address, "press", cell.profile, cell.press)

    def _ones(self, direct: Direct) -> tuple[Lasting, ...]:
        direct.ones = tuple(map(self._held.lasting, direct.items))
        return direct.ones

    def _lift_directly(self, t: float, address: str) -> Sequence[Effect]:
        """It is let go."""
        if self._alone_keys:
            self._take_in_alone()
        direct = self._directly.pop(address)
        held = self._held
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
        self.deadline = min(self._agenda_due, self._lone.due)
        self._free_at = inf
        self._direct = NO_DIRECT
        effects = tuple(self._out)
        self._out.clear()
        return effects
