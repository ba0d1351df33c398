"""Levels laid over one another: the topmost that mentions a control owns all its gestures.

Nothing is laid out beforehand. What a cell does is looked up when it is first asked for, and kept: so the cost of a
change of layers does not grow with the desk, and neither does that of an event.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import NamedTuple

from msgspec import structs

from fenko.core.actions import action_of, held_items
from fenko.core.controls import BUTTON
from fenko.core.drives import Drive
from fenko.core.held import Lasting
from fenko.core.phrase import Phrase, steps_of
from fenko.core.plan import Binding, Cell, Level, Plan, Surface, Timing, control_of
from fenko.core.steps import Item, Steady, SwitchPause
from fenko.core.strokes import Stroke
from fenko.core.verbs import desk

TOUCH = "-touch"


class Part(NamedTuple):
    """What a press of a cell may belong to: the cell itself, chords with their members, whether its key may send its code
    several times, and the touch of its control."""

    cell: Cell | None
    chords: tuple[tuple[frozenset[str], Cell], ...]
    bursts: bool
    touch: str | None


class Direct:
    """A button, or two at once, that does nothing but hold these items. `ones` is what the engine that is pressing it
    knows of each, and `backwards` the same from the last to the first."""

    __slots__ = ("backwards", "cell", "items", "ones")

    def __init__(self, cell: Cell, items: tuple[Item, ...]) -> None:
        self.cell = cell
        self.items = items
        self.ones: tuple[Lasting, ...] = ()
        self.backwards: tuple[Lasting, ...] = ()


class Member(NamedTuple):
    """A button that may be one of several at once: for how many seconds that is waited for, and what it does with one other
    that makes it complete, by that other one."""

    window: float
    pairs: dict[str, Direct]


class Stack:
    """All that is in force together: levels, lowest first. While `paused` only what pauses works, and does just that.
    `watched` are the cells that a layer's `while` names."""

    def __init__(
        self,
        levels: Iterable[Level],
        surfaces: Mapping[str, Surface],
        watched: frozenset[str] = frozenset(),
        paused: bool = False,
    ) -> None:
        self.levels = tuple(levels)
        self._from_top = self.levels[::-1]
        self.combines = any(level.chords or level.bursts or level.diagonals for level in self.levels)
        """Whether presses can belong together: several at once, bursts, directions between two."""
        self._surfaces = surfaces
        self._watched = watched
        self._paused = paused
        self._cells: dict[str, Cell | None] = {}
        self._chords: dict[str, tuple[Cell, ...]] = {}
        self._bursts: dict[str, dict[int, Cell]] = {}
        self._diagonals: dict[str, dict[str, Cell]] = {}
        self._parts: dict[str, Part] = {}
        self._drives: dict[str, tuple[Drive, ...]] = {}
        self.direct: dict[str, Direct] = {}
        """What those buttons hold, of all that have been asked for, that do nothing but that."""
        self.instant: dict[str, tuple[str, ...]] = {}
        """The keys of those of them that hold nothing but keys."""
        self.detents: dict[str, tuple[Stroke | None, Stroke | None]] = {}
        """What a detent to the left and to the right does, of those dials and wheels, of all that have been asked for, of
        which a detent is a stroke and nothing else."""
        self.members: dict[str, Member] = {}
        """Buttons that may be one of several at once and belong to nothing else, of all that have been asked for."""

    def cell(self, address: str) -> Cell | None:
        """What a cell does; None where nothing is bound and no level owns its control."""
        try:
            return self._cells[address]
        except KeyError:
            pass
        found = self._owned(address)
        self._cells[address] = found
        if found is not None and (items := self._direct_items(found)):
            self.direct[address] = Direct(found, items)
            if all(out == "keys" for out, _ in items):
                self.instant[address] = tuple(key for _, key in items)
        return found

    def note_detents(self, address: str, turns: tuple[str, str], usual: Timing) -> None:
        """Notes what the detents of a dial do, if they are strokes and nothing else; `usual` are the times of the desk."""
        if address not in self.detents and not self._paused:
            ways = [self._detent(f"{address}.{turn}", usual) for turn in turns]
            self.detents[address] = (ways[0], ways[1])

    def _detent(self, address: str, usual: Timing) -> Stroke | None:
        cell = self.cell(address)
        if cell is None or cell.press is None or cell.fast is not None or cell.press.others or cell.press.group:
            return None
        stroke = (cell.timing or usual).stroke
        items = action_of(cell.press.phrase, stroke).strikes
        return Stroke(cell, items, stroke) if items else None

    def drives(self, control: str) -> tuple[Drive, ...]:
        """What a control drives as long as it is off its rest."""
        found = self._drives.get(control)
        if found is None:
            found = self._drives[control] = tuple(self._driven(control))
        return found

    def _driven(self, control: str) -> Iterable[Drive]:
        owner = next((level for level in self._from_top if control in level.controls), None)
        if owner is None or self._paused:
            return
        surface, _, own = control.partition(".")
        axes = (self._surfaces[surface].shape(own) or BUTTON).axes
        one_sided = "" in axes and axes[""][0] is None
        for cell in owner.controls[control]:
            step = steps_of(cell.move.phrase)[0] if cell.move is not None else None
            if cell.move is not None and isinstance(step, Steady):
                yield Drive(cell, cell.move, step, cell.address[len(control) + 1 :], "" in axes, one_sided)

    def bound(self, address: str) -> Cell | None:
        """The cell, if it does anything."""
        cell = self.cell(address)
        return cell if cell is not None and any(cell.gestures()) else None

    def _owned(self, address: str) -> Cell | None:
        control = control_of(address)
        for level in self._from_top:
            if control in level.controls:
                cell = level.cells.get(address)
                return _pausing(cell) if self._paused else cell
        return None

    def chords(self, member: str) -> tuple[Cell, ...]:
        """The chords that a cell is a member of."""
        found = self._chords.get(member)
        if found is None:
            addresses = dict.fromkeys(one.address for level in self.levels for one in level.chords.get(member, ()))
            found = tuple(cell for address in addresses if (cell := self.bound(address)) is not None)
            self._chords[member] = found
        return found

    def bursts(self, address: str) -> dict[int, Cell]:
        """What several presses of a key at once mean, by their number."""
        found = self._bursts.get(address)
        if found is None:
            several = {number: one for level in self.levels for number, one in level.bursts.get(address, {}).items()}
            found = {number: cell for number, one in several.items() if (cell := self.bound(one.address)) is not None}
            self._bursts[address] = found
        return found

    def diagonals(self, control: str) -> dict[str, Cell]:
        """The directions between two others that are bound on a stick or hat."""
        found = self._diagonals.get(control)
        if found is None:
            owner = next((level for level in self._from_top if control in level.controls), None)
            names = owner.diagonals.get(control, ()) if owner is not None else ()
            found = {name: cell for name in names if (cell := self.bound(f"{control}.{name}")) is not None}
            self._diagonals[control] = found
        return found

    def part(self, address: str) -> Part:
        """All that a press of a cell may belong to."""
        found = self._parts.get(address)
        if found is None:
            chords = self.chords(address)
            found = self._parts[address] = Part(
                self.cell(address),
                tuple((frozenset(chord.members), chord) for chord in chords),
                bool(self.bursts(address)),
                self.touch(address),
            )
        return found

    def touch(self, address: str) -> str | None:
        """The cell for a touch of this control, if it is bound; it is silent while the control is pressed."""
        touch = f"{address.removesuffix('-press')}{TOUCH}"
        return touch if self.bound(touch) is not None else None

    def table(self) -> dict[str, Cell]:
        """Every cell that a level owns, also those without a binding."""
        controls: dict[str, Level] = {}
        for level in self.levels:
            controls.update(dict.fromkeys(level.controls, level))
        return {cell.address: cell for control, level in controls.items() for cell in level.controls[control]}

    def note_member(self, address: str, usual: Timing) -> None:
        """Notes what may become of a button together with others; `usual` are the times of the desk."""
        if address in self.members or not self._is_plain(address):
            return
        chords = self.chords(address)
        pairs = {}
        for chord in chords:
            others = [member for member in chord.members if member != address]
            more = [one for one in chords if one is not chord and {*chord.members} <= {*one.members}]
            if len(others) == 1 and not more and self._is_plain(others[0]) and (items := self._held_by(chord)):
                pairs[others[0]] = Direct(chord, items)
        self.members[address] = Member(max((chord.timing or usual).chord for chord in chords), pairs)

    def _direct_items(self, cell: Cell) -> tuple[Item, ...]:
        """What a button holds that does nothing but that; nothing for any other cell."""
        items = () if cell.members else self._held_by(cell)
        return items if items and self._is_plain(cell.address) and not self.chords(cell.address) else ()

    def _held_by(self, cell: Cell) -> tuple[Item, ...]:
        """What a cell holds, if it does nothing but that; nothing for any other."""
        if self._paused or cell.press is None or cell.waits or cell.press.others or cell.press.group:
            return ()
        items = held_items(cell.press.phrase)
        return () if any(out not in ("keys", "pointer") for out, _ in items) else items

    def _is_plain(self, address: str) -> bool:
        """Whether this is a button whose changes are presses at once: an axis passes its own press and release points
        before it presses a cell."""
        name, _, control = address.partition(".")
        shape = self._surfaces[name].shape(control)
        if shape is None or shape.axes or shape.turns or self._surfaces[name].debounce:
            return False
        if address in self._watched or address.endswith(TOUCH):
            return False
        return not self.bursts(address) and not self.touch(address)


def stack_of(plan: Plan, profile: str, *layers: str) -> Stack:
    """What is in force in a profile while these layers of it are on, the newest last."""
    found = plan.profiles[profile]
    above = (level for name in layers for level in found.layers[name].levels)
    return Stack((*found.levels, *above), plan.surfaces, plan.watched)


_RESUMES = Phrase((desk.PauseOrResume(),))


def _pausing(cell: Cell | None) -> Cell | None:
    """What of a cell works while Fenko is paused: gestures that pause, and of those nothing but that."""
    if cell is None:
        return None
    gestures = {
        gesture: structs.replace(binding, phrase=_RESUMES, others=(), states=(), group=None)
        for gesture, binding in cell.gestures()
        if pauses(binding)
    }
    if not gestures:
        return None
    return Cell(cell.address, cell.profile, timing=cell.timing, members=cell.members, repeats=cell.repeats, **gestures)


def pauses(binding: Binding) -> bool:
    """Whether a binding stops Fenko, and starts it again."""
    return any(isinstance(step, SwitchPause) for phrase in binding.phrases for step in steps_of(phrase))
