"""What is not decided yet: presses and taps that may still become something else.

A press that may is kept until that is known, with the cell that it had when it came: members of chords as a *chord* that
is forming, keys that may send their code several times as a *burst*, taps that may be doubled as *taps*. Whatever a hand
does next settles them first, in the order in which they began, so actions come in the order of the hand.

What belongs together does not settle itself: the next press of a key that is counted, a member that completes a chord, and
the parts of one push (a direction, half of it, all of it).
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from math import inf
from operator import itemgetter

from fenko.core.agenda import Agenda, Waiting, after
from fenko.core.contacts import Contacts
from fenko.core.controls import THRESHOLDS
from fenko.core.plan import Cell, Plan, Timed, Timing, control_of
from fenko.core.situation import Situation
from fenko.core.stack import Part

Press = Callable[[float, str, Cell | None, float], None]
LetGo = Callable[[float, str, float | None], None]
TOLD_WITHIN = 1.0
"""Seconds; presses further apart were not meant together, nor as a double."""


class PendingTaps:
    """Taps of a cell in a row that could still become more. While the next press of the cell is under way, time alone
    decides nothing; once they are settled the count is 0."""

    __slots__ = ("cell", "count", "waiting")

    def __init__(self, cell: Cell, count: int, waiting: Waiting) -> None:
        self.cell = cell
        self.count = count
        self.waiting = waiting


class PendingChord:
    """Members of `chords` that were pressed together so far, each with its time and cell."""

    __slots__ = ("chords", "pressed", "waiting")

    def __init__(self, chords: tuple[tuple[frozenset[str], Cell], ...], waiting: Waiting) -> None:
        self.chords = chords
        self.waiting = waiting
        self.pressed: dict[str, tuple[float, Cell | None]] = {}

    def fitting(self, address: str) -> list[Cell]:
        """The chords that these and one more cell may be members of."""
        pressed = {*self.pressed, address}
        return [chord for members, chord in self.chords if pressed <= members]


class PendingBurst:
    """Presses of one key so close together that it may be one that sends its code several times: `cells` by their
    number. `since` and `until` are when each press so far began and ended."""

    __slots__ = ("cell", "cells", "since", "until", "waiting")

    def __init__(self, cell: Cell | None, cells: dict[int, Cell], waiting: Waiting) -> None:
        self.cell = cell
        self.cells = cells
        self.waiting = waiting
        self.since: list[float] = []
        self.until: list[float] = []

    @property
    def down(self) -> bool:
        """Whether the key is down."""
        return len(self.until) < len(self.since)


_Undecided = PendingTaps | PendingChord | PendingBurst


class Pending:
    """Everything undecided. `press` is told (time, cell's address, cell, since) of each press of which it is known what it
    is, `let_go` (time, address, until) of releases that came before that, `tapped` of taps in a row that are no more."""

    def __init__(
        self,
        timing: Timing,
        agenda: Agenda,
        situation: Situation,
        press: Press,
        let_go: LetGo,
        tapped: Callable[[float, Cell, int], None],
    ) -> None:
        self.contacts: Contacts
        self.instead: dict[str, str] = {}
        """A cell that is pressed in place of others: each of these, to it."""
        self.timed: Timed | None = None
        """Told how far apart controls of a chord were pressed."""
        self.forgotten = 0
        """Counts how often everything under way was forgotten; what sees it change stops where it is."""
        self._timing = timing
        self._agenda = agenda
        self._situation = situation
        self._press = press
        self._let_go = let_go
        self._tapped = tapped
        # Bursts by their cell, counts by theirs with a word before it, chords by their surface.
        self._undecided: dict[str, _Undecided] = {}
        self._member: tuple[str, float] = ("", -inf)

    @property
    def waits(self) -> bool:
        """Whether something is undecided that the next press would settle."""
        return bool(self._undecided)

    def times(self, cell: Cell | None) -> Timing:
        """The times that hold for a cell."""
        return cell.timing if cell is not None and cell.timing is not None else self._timing

    def use_plan(self, plan: Plan) -> None:
        """Another plan is in force."""
        self._timing = plan.timing

    # --- What waits to be decided ---

    def settle_others(self, t: float, address: str, before: float = inf) -> None:
        """What waits to be known, and began before that, is settled by what a hand does at `address`, so that it comes
        first; but not by its own kind."""
        if not self._undecided and not self.contacts.waits:
            return
        control = control_of(address)
        while True:
            found: list[tuple[int, str, _Undecided | None]] = [
                (one.waiting.order, key, one)
                for key, one in self._undecided.items()
                if one.waiting.order < before and not self._belongs(key, one, address)
            ]
            found += [
                (order, push, None) for order, push in self.contacts.undecided() if order < before and push != control
            ]
            if not found:
                return
            for _, key, one in sorted(found, key=itemgetter(0)):
                if one is None:
                    self.contacts.decide(t, key)
                elif self._undecided.get(key) is one and not self._belongs(key, one, address):
                    self._settle(t, key)

    def _belongs(self, key: str, one: _Undecided, address: str) -> bool:
        """Whether a press of this cell is a part of what is undecided."""
        stack = self._situation.stack
        if isinstance(one, PendingChord):
            if address in one.pressed or any(_stem(member) == _stem(address) for member in one.pressed):
                return True
            own = stack.chords(address)
            return any(chord in own for chord in one.fitting(address))
        where = one.cell.address if isinstance(one, PendingTaps) else key
        if where != address:
            return _stem(where) == _stem(address)
        if isinstance(one, PendingTaps):
            return stack.cell(address) == one.cell
        return stack.bursts(address) == one.cells

    def _settle(self, t: float, key: str) -> None:
        one = self._undecided.get(key)
        if isinstance(one, PendingTaps):
            self._settle_taps(t, one)
        elif isinstance(one, PendingChord):
            self._settle_chord(t, key, one)
        elif one is not None:
            self._settle_burst(t, key, one)

    def catch(self, address: str, cell: Cell | None) -> None:
        """The key of this cell is pressed again, and it is not known yet what that press is: until then, what the presses
        before it are is decided by no time of theirs."""
        if (taps := self.taps(cell)) is not None:
            self._agenda.set(taps.waiting, inf)
        if isinstance(burst := self._undecided.get(address), PendingBurst):
            self._agenda.set(burst.waiting, inf)

    def _keep(self, key: str, one: _Undecided, due: float) -> None:
        self._undecided[key] = one
        self._agenda.set(one.waiting, due)

    def _drop(self, key: str) -> None:
        self._agenda.set(self._undecided.pop(key).waiting, inf)

    def _entry(self, key: str) -> Waiting:
        return self._agenda.entry(partial(self._settle, key=key))

    # --- Several at once ---

    def gather(self, t: float, address: str, part: Part, since: float) -> None:
        """A member of chords was pressed; it waits until it is known whether one of them is meant."""
        if self.timed is not None:
            self._tell_apart(t, address, part, since)
        surface = address.partition(".")[0]
        forming = self._undecided.get(surface)
        if isinstance(forming, PendingChord) and not forming.fitting(address):
            self._settle_chord(t, surface, forming)
            forming = None
        if not isinstance(forming, PendingChord):
            forming = PendingChord(part.chords, self._entry(surface))
            self._situation.stack.note_member(address, self._timing)
            window = max([self.times(chord).chord for _, chord in part.chords])
            self._keep(surface, forming, after(max(since, t - window), window))
        forming.pressed[address] = (since, part.cell)
        self.catch(address, part.cell)
        fitting = forming.fitting(address)
        if len(fitting) == 1 and len(fitting[0].members) == len(forming.pressed):
            self._settle_chord(t, surface, forming)

    def _tell_apart(self, t: float, address: str, part: Part, since: float) -> None:
        """Whether it was soon enough for a chord or not: how long after another member of one this was pressed."""
        assert self.timed is not None
        before, at = self._member
        self._member = (address, since)
        if before != address and since - at < TOLD_WITHIN:
            for members, chord in part.chords:
                if before in members:
                    self.timed(t, chord, "chord", since - at)
                    return

    def _settle_chord(self, t: float, surface: str, forming: PendingChord) -> None:
        """What was pressed at once is a chord, or begins with one, or is each on its own."""
        self._drop(surface)
        order, before = list(forming.pressed), self.forgotten
        chords = dict(forming.chords)
        while order and self.forgotten == before:
            first = next(
                (chords[found] for n in range(len(order), 1, -1) if (found := frozenset(order[:n])) in chords), None
            )
            taken = order[: len(first.members)] if first is not None else order[:1]
            order = order[len(taken) :]
            since, cell = forming.pressed[taken[0]]
            if first is not None:
                for member in taken:
                    self._settle(t, _taps(member))
                if self.forgotten != before:
                    return
                self.instead.update(dict.fromkeys(taken, first.address))
                self._press(t, first.address, first, since)
            elif self._situation.stack.bursts(taken[0]):
                self.count_burst(t, taken[0], cell, since)
            else:
                self._press(t, taken[0], cell, since)

    # --- Keys that send their code several times ---

    def count_burst(self, t: float, address: str, cell: Cell | None, since: float) -> None:
        """A key that may send its code several times was pressed; it waits until it is known how often it does."""
        burst = self._undecided.get(address)
        if not isinstance(burst, PendingBurst):
            burst = PendingBurst(cell, self._situation.stack.bursts(address), self._entry(address))
        burst.since.append(since)
        window = max(self.times(several).burst for several in burst.cells.values())
        self._keep(address, burst, max(t, after(since, window)))
        if (taps := self.taps(cell)) is not None:
            self._agenda.set(taps.waiting, inf)
        if len(burst.since) == max(burst.cells):
            self._settle_burst(t, address, burst)

    def _settle_burst(self, t: float, address: str, burst: PendingBurst) -> None:
        """So many presses came from one key; or they were presses of their own."""
        self._drop(address)
        before = self.forgotten
        several = burst.cells.get(len(burst.since))
        if several is not None:
            self._settle(t, _taps(address))
            if self.forgotten != before:
                return
            self.instead[address] = several.address
            self._press(t, several.address, several, burst.since[0])
        else:
            for since, until in zip(burst.since[:-1], burst.until, strict=False):
                self._press(t, address, burst.cell, since)
                self._let_go(t, address, until)
                if self.forgotten != before:
                    return
            self._press(t, address, burst.cell, burst.since[-1])
        if not burst.down:
            self._let_go(t, self.instead.pop(address, address), burst.until[-1])

    # --- Taps in a row ---

    def keep_taps(self, t: float, cell: Cell, count: int, released: float) -> None:
        """So many taps of a cell, the last of which ended at `released`, may become more."""
        key = _taps(cell.address)
        self._keep(key, PendingTaps(cell, count, self._entry(key)), max(t, after(released, self.times(cell).double)))

    def taps(self, cell: Cell | None) -> PendingTaps | None:
        """The taps of this very cell that may become more."""
        found = self._undecided.get(_taps(cell.address)) if cell is not None else None
        return found if isinstance(found, PendingTaps) and found.cell == cell else None

    def take_taps(self, taps: PendingTaps) -> int:
        """How many they are; they are no longer undecided."""
        count, taps.count = taps.count, 0
        if self._undecided.get(key := _taps(taps.cell.address)) is taps:
            self._drop(key)
        return count

    def _settle_taps(self, t: float, taps: PendingTaps) -> None:
        """So many taps in a row, and no more."""
        self._tapped(t, taps.cell, self.take_taps(taps))

    # --- Releases, pause, and things that go away ---

    def release(self, t: float, address: str) -> bool:
        """A hand let go of a cell: a chord that it is forming is settled. Whether that belongs to a burst that is still
        undecided, and nothing comes of it."""
        surface = address.partition(".")[0]
        forming = self._undecided.get(surface)
        if isinstance(forming, PendingChord) and address in forming.pressed:
            self._settle(t, surface)
        burst = self._undecided.get(address)
        if isinstance(burst, PendingBurst):
            burst.until.append(t)
            return True
        return False

    def clear(self) -> None:
        """Forgets everything."""
        self.forgotten += 1
        for key in list(self._undecided):
            self._drop(key)
        self.instead.clear()

    def unplug(self, t: float, surface: str) -> None:
        """A surface went away: what was tapped before that was, everything else of it is forgotten."""
        within = f"{surface}."
        for key, one in list(self._undecided.items()):
            if self._undecided.get(key) is not one:
                continue
            where = one.cell.address if isinstance(one, PendingTaps) else key
            if where != surface and not where.startswith(within):
                continue
            if isinstance(one, PendingTaps) or (isinstance(one, PendingBurst) and not one.down):
                self._settle(t, key)
            else:
                self._drop(key)
        self.instead = {cell: other for cell, other in self.instead.items() if not cell.startswith(within)}


def _taps(address: str) -> str:
    return f"taps {address}"


def _stem(address: str) -> str:
    """A cell without how far it is pushed."""
    head, _, last = address.rpartition(".")
    return head if last in THRESHOLDS else address
