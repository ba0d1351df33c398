"""What hands do with cells: presses, holds, taps, doubles, several at once, bursts, turning.

A press that may still become something else is kept until that is known, with the cell that it had when it came: members
of chords in a *gathering*, keys that may send their code several times in a *burst*, taps that may be doubled in a
*count*. Whatever a hand does next settles them first, in the order in which they began, so actions come in the order of
the hand. What is no such member, no such key and not counted never waits.

What belongs together does not settle itself: the next press of a key that is counted, a member that completes a chord, and
the parts of one push (a direction, half of it, all of it).
"""

from __future__ import annotations

from functools import partial
from math import inf
from operator import itemgetter

from fenko.core.agenda import Agenda, Waiting, after
from fenko.core.axes import Detents
from fenko.core.contacts import Contacts
from fenko.core.controls import THRESHOLDS
from fenko.core.plan import Cell, Report, Surface, Timing, control_of
from fenko.core.runs import Runs
from fenko.core.situation import Situation
from fenko.core.stack import TOUCH


class _Pressed:
    """A press of a cell that waits for more than the press: its cell as it was then, when it is a hold, and the
    how-manieth press in a row it is. `decided`: it is known what it was."""

    __slots__ = ("cell", "count", "decided", "limit", "waiting")

    def __init__(self, cell: Cell, limit: float, count: int, waiting: Waiting) -> None:
        self.cell = cell
        self.limit = limit
        self.count = count
        self.waiting = waiting
        self.decided = False


class _Count:
    """Taps of a cell in a row that could still become more."""

    __slots__ = ("cell", "count", "waiting")

    def __init__(self, cell: Cell, count: int, waiting: Waiting) -> None:
        self.cell = cell
        self.count = count
        self.waiting = waiting


class _Gathering:
    """Members of `chords` that were pressed together so far, each with its time and cell."""

    __slots__ = ("chords", "pressed", "waiting")

    def __init__(self, chords: tuple[Cell, ...], waiting: Waiting) -> None:
        self.chords = chords
        self.waiting = waiting
        self.pressed: dict[str, tuple[float, Cell | None]] = {}

    def fitting(self, address: str) -> list[Cell]:
        """The chords that these and one more cell may be members of."""
        pressed = {*self.pressed, address}
        return [chord for chord in self.chords if pressed <= set(chord.members)]


class _Burst:
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


_Undecided = _Count | _Gathering | _Burst


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
        self.contacts: Contacts
        self._surfaces = surfaces
        self._timing = timing
        self._agenda = agenda
        self._situation = situation
        self._runs = runs
        self._watched = watched
        self._report = report
        self._presses: dict[str, _Pressed] = {}
        # Bursts by their cell, counts by theirs with a word before it, gatherings by their surface.
        self._undecided: dict[str, _Undecided] = {}
        # A cell that is pressed in place of others: each of these, to it.
        self._instead: dict[str, str] = {}
        self._detents: dict[str, Detents] = {}
        self._turned_at: dict[str, float] = {}
        # Counts how often everything under way was forgotten; what sees it change stops where it is.
        self._forgotten = 0

    @property
    def waits(self) -> bool:
        """Whether something is undecided that the next press would settle."""
        return bool(self._undecided)

    def _times(self, cell: Cell | None) -> Timing:
        return cell.timing if cell is not None and cell.timing is not None else self._timing

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
        gathering = self._undecided.get(address.partition(".")[0])
        if isinstance(gathering, _Gathering) and address in gathering.pressed:
            self._settle(t, address.partition(".")[0])
        burst = self._undecided.get(address)
        if isinstance(burst, _Burst):
            burst.until.append(t)
        else:
            self._let_go(t, self._instead.pop(address, address))
        if address in self._watched:
            self._situation.watch(t, self.down)

    def _is_silent(self, address: str) -> bool:
        """Whether nothing comes of this: the touch of a control that is pressed, or half or all of a way that is not
        bound."""
        _, _, last = address.rpartition(".")
        if last in THRESHOLDS:
            return self._situation.stack.bound(address) is None
        if address.endswith(TOUCH):
            control = address[: -len(TOUCH)]
            return control in self.down or f"{control}-press" in self.down
        return False

    def _begin(self, t: float, address: str, since: float, order: float) -> None:
        """A press has come; it may have to wait until it is known what it is."""
        self.settle_others(t, address, order)
        touch = self._situation.stack.touch(address)
        if touch is not None and touch in self.down:
            self._end_press(t, touch)
        stack = self._situation.stack
        cell = stack.cell(address)
        chords = stack.chords(address)
        if chords:
            self._gather(t, address, cell, chords, since)
        elif stack.bursts(address):
            self._count_burst(t, address, cell, since)
        else:
            self._press(t, address, cell, since)

    # --- What waits to be decided ---

    def settle_others(self, t: float, address: str, before: float = inf) -> None:
        """What waits to be known, and began before that, is settled by what a hand does at `address`, so that it comes
        first; but not by its own kind."""
        if not self._undecided and not self.contacts.undecided():
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
        if isinstance(one, _Gathering):
            if any(_stem(member) == _stem(address) for member in one.pressed):
                return True
            own = stack.chords(address)
            return any(chord in own for chord in one.fitting(address))
        where = one.cell.address if isinstance(one, _Count) else key
        if where != address:
            return _stem(where) == _stem(address)
        if isinstance(one, _Count):
            return stack.cell(address) == one.cell
        return stack.bursts(address) == one.cells

    def _settle(self, t: float, key: str) -> None:
        one = self._undecided.get(key)
        if isinstance(one, _Count):
            self._settle_count(t, key, one)
        elif isinstance(one, _Gathering):
            self._settle_gathering(t, key, one)
        elif one is not None:
            self._settle_burst(t, key, one)

    def _keep(self, key: str, one: _Undecided, due: float) -> None:
        self._undecided[key] = one
        self._agenda.set(one.waiting, due)

    def _drop(self, key: str) -> None:
        self._agenda.set(self._undecided.pop(key).waiting, inf)

    def _entry(self, key: str) -> Waiting:
        return self._agenda.entry(partial(self._settle, key=key))

    # --- Several at once ---

    def _gather(self, t: float, address: str, cell: Cell | None, chords: tuple[Cell, ...], since: float) -> None:
        surface = address.partition(".")[0]
        gathering = self._undecided.get(surface)
        if isinstance(gathering, _Gathering) and not gathering.fitting(address):
            self._settle_gathering(t, surface, gathering)
            gathering = None
        if not isinstance(gathering, _Gathering):
            gathering = _Gathering(chords, self._entry(surface))
            window = max(self._times(chord).chord for chord in chords)
            self._keep(surface, gathering, after(max(since, t - window), window))
        gathering.pressed[address] = (since, cell)
        fitting = gathering.fitting(address)
        if len(fitting) == 1 and len(fitting[0].members) == len(gathering.pressed):
            self._settle_gathering(t, surface, gathering)

    def _settle_gathering(self, t: float, surface: str, gathering: _Gathering) -> None:
        """What was pressed at once is a chord, or begins with one, or is each on its own."""
        self._drop(surface)
        order, before = list(gathering.pressed), self._forgotten
        chords = {frozenset(chord.members): chord for chord in gathering.chords}
        while order and self._forgotten == before:
            first = next(
                (chords[found] for n in range(len(order), 1, -1) if (found := frozenset(order[:n])) in chords), None
            )
            taken = order[: len(first.members)] if first is not None else order[:1]
            order = order[len(taken) :]
            since, cell = gathering.pressed[taken[0]]
            if first is not None:
                self._instead.update(dict.fromkeys(taken, first.address))
                self._press(t, first.address, first, since)
            else:
                self._press(t, taken[0], cell, since)

    # --- Keys that send their code several times ---

    def _count_burst(self, t: float, address: str, cell: Cell | None, since: float) -> None:
        burst = self._undecided.get(address)
        if not isinstance(burst, _Burst):
            burst = _Burst(cell, self._situation.stack.bursts(address), self._entry(address))
        burst.since.append(since)
        window = max(self._times(several).burst for several in burst.cells.values())
        self._keep(address, burst, after(t, window))
        if len(burst.since) == max(burst.cells):
            self._settle_burst(t, address, burst)

    def _settle_burst(self, t: float, address: str, burst: _Burst) -> None:
        """So many presses came from one key; or they were presses of their own."""
        self._drop(address)
        before = self._forgotten
        several = burst.cells.get(len(burst.since))
        if several is not None:
            self._instead[address] = several.address
            self._press(t, several.address, several, burst.since[0])
        else:
            for since, until in zip(burst.since[:-1], burst.until, strict=False):
                self._press(t, address, burst.cell, since)
                self._let_go(t, address, until)
                if self._forgotten != before:
                    return
            self._press(t, address, burst.cell, burst.since[-1])
        if not burst.down:
            self._let_go(t, self._instead.pop(address, address), burst.until[-1])

    # --- Press, hold, tap ---

    def _press(self, t: float, address: str, cell: Cell | None, since: float) -> None:
        """Presses a cell that is known to be meant; the hand did so at `since`."""
        if cell is None:
            self._hand_on(t, address)
            return
        press: _Pressed | None = None
        if cell.waits:
            before = self._undecided.get(_taps(address))
            count = 1
            if isinstance(before, _Count) and before.cell == cell:
                self._drop(_taps(address))
                count = before.count + 1
            entry = self._agenda.entry(partial(self._reach_hold, address=address))
            press = self._presses[address] = _Pressed(cell, after(since, self._times(cell).hold), count, entry)
            if cell.hold is not None or count > 1:
                self._agenda.set(entry, max(t, press.limit))
        if cell.press is not None:
            self._runs.start(t, cell, "press", cell.press, held=True)
        if press is None or self._presses.get(address) is not press:
            return
        if 1 < press.count == cell.presses_counted:
            self._decide(press)
            gesture = "triple" if press.count == 3 else "double"
            several = cell.triple if press.count == 3 else cell.double
            if several is not None:
                self._runs.start(t, cell, gesture, several, held=False)

    def _decide(self, press: _Pressed) -> None:
        press.decided = True
        self._agenda.set(press.waiting, inf)

    def _reach_hold(self, t: float, address: str) -> None:
        """A press is a hold; what was tapped before it was no more than that."""
        press = self._presses[address]
        self._decide(press)
        self._tapped(t, press.cell, press.count - 1)
        if press.cell.hold is not None and self._presses.get(address) is press:
            self._runs.start(t, press.cell, "hold", press.cell.hold, held=True)

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
        cell, before = press.cell, self._forgotten
        if not press.decided:
            self._decide(press)
            if press.count < cell.presses_counted:
                key = _taps(address)
                count = _Count(cell, press.count, self._entry(key))
                self._keep(key, count, after(t, self._times(cell).double))
            else:
                self._tapped(t, cell, press.count)
        if cell.release is not None and self._forgotten == before:
            self._runs.start(t, cell, "release", cell.release, held=False)

    def _end_press(self, t: float, address: str) -> None:
        """A press is over, but no hand let go: nothing was tapped, and nothing held any longer."""
        press = self._presses.get(address)
        if press is not None:
            self._decide(press)
        self._let_go(t, address)

    def _settle_count(self, t: float, key: str, count: _Count) -> None:
        """So many taps in a row, and no more."""
        self._drop(key)
        self._tapped(t, count.cell, count.count)

    def _tapped(self, t: float, cell: Cell, count: int) -> None:
        if count == 2 and cell.double is not None:
            self._runs.start(t, cell, "double", cell.double, held=False)
        elif cell.tap is not None:
            before = self._forgotten
            for _ in range(count):
                if self._forgotten == before:
                    self._runs.start(t, cell, "tap", cell.tap, held=False)

    def _hand_on(self, t: float, address: str) -> None:
        """Sends on what no binding wants, on surfaces that Fenko has taken over for itself."""
        if self._situation.paused:
            return
        surface, _, control = address.partition(".")
        key = self._surfaces[surface].passed_on(control)
        if key is not None:
            if self._report is not None:
                self._report(t, address, "press", "", None)
            self._runs.hold(t, address, (key,))

    # --- Turning ---

    def turn(self, t: float, address: str, turns: tuple[str, str], value: float) -> bool:
        """A dial or wheel turned; each detent is an action of its own. False if no level owns the control."""
        cells = [f"{address}.{turn}" for turn in turns]
        if not any(self._situation.stack.cell(cell) for cell in cells):
            return False
        whole = self._detents.setdefault(address, Detents()).turn(value)
        if not whole:
            return True
        self.settle_others(t, cells[whole > 0])
        turned = cells[whole > 0]
        for _ in range(abs(whole)):
            apart = t - self._turned_at.get(turned, -inf)
            self._turned_at[turned] = t
            cell = self._situation.stack.cell(turned)
            if cell is None:
                continue
            fast = cell.fast is not None and apart < self._times(cell).fast
            binding = cell.fast if fast else cell.press
            if binding is not None:
                self._runs.start(t, cell, "fast" if fast else "turn", binding, held=False)
        return True

    # --- Pause, and things that go away ---

    def clear(self) -> None:
        """Forgets every gesture under way. What hands still hold is known, and silent."""
        self._forgotten += 1
        for key in list(self._undecided):
            self._drop(key)
        for press in self._presses.values():
            self._decide(press)
        self._presses.clear()
        self._instead.clear()
        self._detents.clear()
        for address, on in self.contacts.silence():
            (self.down.add if on else self.down.discard)(address)

    def unplug(self, t: float, surface: str) -> None:
        """The controls of a surface that went away are at rest, but no hand let go of them: nothing is tapped. What was
        tapped before that was."""
        within = f"{surface}."
        self.contacts.unplug(surface)
        for key, one in list(self._undecided.items()):
            if self._undecided.get(key) is not one:
                continue
            where = one.cell.address if isinstance(one, _Count) else key
            if where != surface and not where.startswith(within):
                continue
            if isinstance(one, _Count) or (isinstance(one, _Burst) and not one.down):
                self._settle(t, key)
            else:
                self._drop(key)
        self.down = {address for address in self.down if not address.startswith(within)}
        self._instead = {cell: other for cell, other in self._instead.items() if not cell.startswith(within)}
        for address in dict.fromkeys((*self._runs.cells(), *self._presses)):
            if address.startswith(within):
                self._end_press(t, address)
        self._situation.end(t, lambda on: on[1].startswith(within))
        for dial in [dial for dial in self._detents if dial.startswith(within)]:
            del self._detents[dial]
        self._situation.watch(t, self.down)


def _taps(address: str) -> str:
    return f"taps {address}"


def _stem(address: str) -> str:
    """A cell without how far it is pushed."""
    head, _, last = address.rpartition(".")
    return head if last in THRESHOLDS else address
