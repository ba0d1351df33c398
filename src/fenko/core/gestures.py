"""What hands do with cells that are pressed and let go, or turned: presses, holds, taps, doubles, turning.

What may still become something else waits in `pending` until that is known.
"""

from __future__ import annotations

from functools import partial
from math import inf

from fenko.core.agenda import Agenda, Waiting, after
from fenko.core.axes import Detents
from fenko.core.contacts import Contacts
from fenko.core.controls import THRESHOLDS
from fenko.core.pending import TOLD_WITHIN, Pending, PendingTaps
from fenko.core.plan import Cell, Plan, Report, Surface, Timed, Timing
from fenko.core.runs import Runs
from fenko.core.situation import Situation
from fenko.core.stack import TOUCH
from fenko.core.verbs.keys import item_of

_FARS = tuple(f".{far}" for far in THRESHOLDS)


class _Pressed:
    """A press of a cell that waits for more than the press: its cell as it was then, when it is a hold, and the taps
    before it that belong to it. `decided`: it is known what it was."""

    __slots__ = ("cell", "decided", "limit", "since", "taps", "waiting")

    def __init__(self, cell: Cell, since: float, limit: float, taps: PendingTaps | None, waiting: Waiting) -> None:
        self.cell = cell
        self.since = since
        self.limit = limit
        self.taps = taps
        self.waiting = waiting
        self.decided = False

    @property
    def count(self) -> int:
        """The how-manieth press in a row it is."""
        return 1 + (self.taps.count if self.taps is not None else 0)


class Gestures:
    """Turns cells that are pressed and let go into actions. `report` is told of what is handed on."""

    def __init__(
        self,
        surfaces: dict[str, Surface],
        timing: Timing,
        agenda: Agenda,
        situation: Situation,
        runs: Runs,
        watched: frozenset[str],
        report: Report | None,
    ) -> None:
        self.down: set[str] = set()
        """The cells that hands hold, whatever comes of it."""
        self.pending = Pending(timing, agenda, situation, self._press, self._let_go, self._tapped)
        self._contacts: Contacts
        self._surfaces = surfaces
        self._timing = timing
        self._agenda = agenda
        self._situation = situation
        self._runs = runs
        self._watched = watched
        self._report = report
        self._presses: dict[str, _Pressed] = {}
        self._detents: dict[str, Detents] = {}
        self._turned_at: dict[str, float] = {}
        self._timed: Timed | None = None
        self._let_go_at: dict[str, float] = {}

    def use_contacts(self, contacts: Contacts) -> None:
        """Knows the contacts, which know the gestures."""
        self._contacts = self.pending.contacts = contacts

    def use_plan(self, plan: Plan) -> None:
        """Another plan is in force; what hands hold is known on."""
        self._surfaces = plan.surfaces
        self._timing = plan.timing
        self._watched = plan.watched
        self.pending.use_plan(plan)

    # --- Cells that change ---

    def set(self, t: float, address: str, on: bool, since: float, order: float) -> None:
        """A cell is pressed or let go. A hand pressed it at `since`, and has done everything since `order` later."""
        if on == (address in self.down):
            return
        if on:
            self.down.add(address)
            if address in self._watched:
                self._situation.watch(t, self.down)
            if not self._is_silent(address):
                self._begin(t, address, since, order)
            return
        self.down.discard(address)
        pending = self.pending
        if not pending.waits or not pending.release(t, address):
            self._let_go(t, pending.instead.pop(address, address) if pending.instead else address)
        if address in self._watched:
            self._situation.watch(t, self.down)

    def _is_silent(self, address: str) -> bool:
        """Whether nothing comes of this: the touch of a control that is pressed, or half or all of a way that is not
        bound."""
        if address.endswith(_FARS):
            return self._situation.stack.bound(address) is None
        if address.endswith(TOUCH):
            control = address[: -len(TOUCH)]
            return control in self.down or f"{control}-press" in self.down
        return False

    def _begin(self, t: float, address: str, since: float, order: float) -> None:
        """A press has come; it may have to wait until it is known what it is."""
        if self.pending.waits or self._contacts.waits:
            self.pending.settle_others(t, address, order)
        part = self._situation.stack.part(address)
        if part.touch is not None and part.touch in self.down:
            self._end_press(t, part.touch)
            part = self._situation.stack.part(address)
        if part.chords:
            self.pending.gather(t, address, part, since)
        elif part.bursts:
            self.pending.count_burst(t, address, part.cell, since)
        else:
            self._press(t, address, part.cell, since)

    # --- Press, hold, tap ---

    def _press(self, t: float, address: str, cell: Cell | None, since: float) -> None:
        """Presses a cell that is known to be meant; the hand did so at `since`."""
        if cell is None:
            self._hand_on(t, address)
            return
        press: _Pressed | None = None
        if cell.waits:
            taps = self.pending.taps(cell)
            entry = self._agenda.entry(partial(self._reach_hold, address=address))
            press = self._presses[address] = _Pressed(
                cell, since, after(since, self.pending.times(cell).hold), taps, entry
            )
            if self._timed is not None:
                self._tell_again(t, cell, since)
            if taps is not None:
                # They wait for what this press is; whatever a hand does elsewhere settles them first.
                self._agenda.set(taps.waiting, inf)
            if (cell.hold is not None or taps is not None) and press.limit > t:
                self._agenda.set(entry, press.limit)
        if cell.press is not None:
            self._runs.start(t, cell, "press", cell.press, held=True)
        if press is None or self._presses.get(address) is not press:
            return
        if 1 < press.count == cell.presses_counted:
            assert press.taps is not None
            count = 1 + self.pending.take_taps(press.taps)
            self._decide(press)
            gesture = "triple" if count == 3 else "double"
            several = cell.triple if count == 3 else cell.double
            if several is not None:
                self._runs.start(t, cell, gesture, several, held=False)
        elif press.limit <= t and (cell.hold is not None or press.count > 1):
            self._reach_hold(t, address)

    def _decide(self, press: _Pressed) -> None:
        press.decided = True
        self._agenda.set(press.waiting, inf)

    def _reach_hold(self, t: float, address: str) -> None:
        """A press is a hold; what was tapped before it was no more than that."""
        press = self._presses[address]
        self._decide(press)
        self._tap_before(t, press)
        if press.cell.hold is not None and self._presses.get(address) is press:
            self._runs.start(t, press.cell, "hold", press.cell.hold, held=True)

    def _tap_before(self, t: float, press: _Pressed) -> None:
        """The taps before a press are no more than that."""
        if press.taps is not None:
            self._tapped(t, press.cell, self.pending.take_taps(press.taps))

    def _let_go(self, t: float, address: str, until: float | None = None) -> None:
        """Undoes what the press of this cell did, and decides what it was; the hand let go now, or at `until`."""
        press = self._presses.get(address)
        if press is not None and not press.decided and (t if until is None else until) >= press.limit:
            self._reach_hold(t, address)
        self._runs.let_go(t, address)
        self._situation.let_go(t, address)
        press = self._presses.pop(address, None)
        if press is None:
            return
        cell, before = press.cell, self.pending.forgotten
        if self._timed is not None:
            ended = t if until is None else until
            if cell.hold is not None or cell.tap is not None:
                self._timed(t, cell, "hold", ended - press.since)
            self._let_go_at[address] = ended
        if not press.decided:
            self._decide(press)
            count = 1 + (self.pending.take_taps(press.taps) if press.taps is not None else 0)
            if count < cell.presses_counted:
                self.pending.keep_taps(t, cell, count, t if until is None else until)
            else:
                self._tapped(t, cell, count)
        if cell.release is not None and self.pending.forgotten == before:
            self._runs.start(t, cell, "release", cell.release, held=False)

    def no_tap(self, t: float, address: str) -> None:
        """What is pressed there is no tap any more, however soon it is let go."""
        if address in self._presses:
            self._end_press(t, address)

    def _end_press(self, t: float, address: str) -> None:
        """A press is over, but no hand let go: nothing was tapped, and nothing held any longer."""
        press = self._presses.get(address)
        if press is not None:
            self._decide(press)
            self._tap_before(t, press)
        self._let_go(t, address)

    def _tapped(self, t: float, cell: Cell, count: int) -> None:
        if count == 2 and cell.double is not None:
            self._runs.start(t, cell, "double", cell.double, held=False)
        elif cell.tap is not None:
            before = self.pending.forgotten
            for _ in range(count):
                if self.pending.forgotten == before:
                    self._runs.start(t, cell, "tap", cell.tap, held=False)

    def _hand_on(self, t: float, address: str) -> None:
        """Sends on what no binding wants, on surfaces that Fenko has taken over for itself."""
        if self._situation.paused:
            return
        surface, _, control = address.partition(".")
        if surface in self._situation.profile.leaves:
            return  # the program has it itself
        key = self._surfaces[surface].passed_on(control)
        if key is not None:
            if self._report is not None:
                self._report(t, address, "press", "", None)
            self._runs.hold(t, address, (item_of(key),))

    # --- Turning ---

    def turn(self, t: float, address: str, turns: tuple[str, str], value: float) -> bool:
        """A dial or wheel turned; each detent is an action of its own. False if no level owns the control."""
        stack = self._situation.stack
        cells = [f"{address}.{turn}" for turn in turns]
        if not any(stack.cell(cell) for cell in cells):
            self.pending.settle_others(t, address)
            return False
        stack.note_detents(address, turns, self._timing)
        whole = self._detents.setdefault(address, Detents()).turn(value)
        if not whole:
            return True
        turned = cells[whole > 0]
        self.pending.settle_others(t, turned)
        surface, _, own = address.partition(".")
        by = self._surfaces[surface].conditioning_of(own)
        times = by.times(abs(whole), t - self._turned_at.get(turned, -inf)) if by.spin else 1.0
        for _ in range(abs(whole)):
            before = self._turned_at.get(turned, -inf)
            self._turned_at[turned] = t
            cell = self._situation.stack.cell(turned)
            if cell is None:
                continue
            fast = cell.fast is not None and before > -inf and t < after(before, self.pending.times(cell).fast)
            binding = cell.fast if fast else cell.press
            if binding is not None:
                self._runs.start(t, cell, "fast" if fast else "turn", binding, held=False, times=times)
        return True

    def turn_one(self, t: float, address: str, turned: str) -> bool:
        """Takes note of one whole detent into a cell; False if a fraction of one came before it."""
        detents = self._detents.get(address)
        if detents is None or detents.rest:
            return False
        self._turned_at[turned] = t
        return True

    # --- Times of hands ---

    def tell(self, report: Report | None, timed: Timed | None) -> None:
        """From now on these are told what is handed on, and how long hands take."""
        self._report, self._timed = report, timed
        self.pending.timed = timed
        self._let_go_at.clear()

    def _tell_again(self, t: float, cell: Cell, since: float) -> None:
        """Whether it was soon enough for a double or not: how long it had been up."""
        assert self._timed is not None
        apart = since - self._let_go_at.get(cell.address, -inf)
        if cell.presses_counted > 1 and apart < TOLD_WITHIN:
            self._timed(t, cell, "double", apart)

    # --- Pause, and things that go away ---

    def clear(self) -> None:
        """Forgets every gesture under way. What hands still hold is known, and silent."""
        self.pending.clear()
        for press in self._presses.values():
            self._decide(press)
        self._presses.clear()
        self._detents.clear()
        for address, on in self._contacts.silence():
            (self.down.add if on else self.down.discard)(address)

    def unplug(self, t: float, surface: str) -> None:
        """The controls of a surface that went away are at rest, but no hand let go of them: nothing is tapped. What was
        tapped before that was."""
        within = f"{surface}."
        self._contacts.unplug(surface)
        self.pending.unplug(t, surface)
        self.down = {address for address in self.down if not address.startswith(within)}
        for address in dict.fromkeys((*self._runs.cells(), *self._presses)):
            if address.startswith(within):
                self._end_press(t, address)
        self._situation.end(t, lambda on: on[1].startswith(within))
        for dial in [dial for dial in self._detents if dial.startswith(within)]:
            del self._detents[dial]
        self._situation.watch(t, self.down)
