"""What every judgement looks at, and where it says what it found."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from fenko.core.plan import Binding, Cell
from fenko.core.registration import Said
from fenko.core.verbs.desk import PauseOrResume, TurnOnLayer
from fenko.core.verbs.keys import Keys
from fenko.desk.load import Desk
from fenko.desk.locate import KeyPath
from fenko.desk.problems import Problem

TOGGLES = "toggles"
"""The word in a shortcut's note that says that the command switches something over each time."""
_MOST_OF_A_SORT = 20
"""Findings of one sort that are worth a place each; after these they are counted."""


class Case:
    """A desk that is looked at: all that is bound in it, by level, and what has been found so far. `present` are the
    controls, by the kernel's names, of the surfaces that are plugged in."""

    def __init__(self, desk: Desk, present: Mapping[str, frozenset[str]]) -> None:
        self.desk = desk
        self.present = present
        self.plan = desk.plan
        self.tables: Mapping[str, Any] = desk.sources.data
        self.links = {name: one.links for name, one in desk.links.items()}
        self.levels = desk.plan.levels
        self.counts: dict[str, int] = {}
        # All that is bound, by level; and of that what can be more than one thing, turns a layer on, or pauses.
        self.bound: dict[str, list[tuple[Cell, str, Binding]]] = {}
        self.several: list[Cell] = []
        self.openers: dict[str, list[tuple[Cell, str, TurnOnLayer]]] = {}
        self.pausing: set[str] = set()
        self._look_through()

    def _look_through(self) -> None:
        telling: dict[int, list[TurnOnLayer | PauseOrResume]] = {}  # by phrase; the same one stands in many places
        for name, level in self.levels.items():
            bound = self.bound[name] = []
            for cells in level.controls.values():
                for cell in cells:
                    before = len(bound)
                    for gesture, binding in cell.gestures():
                        bound.append((cell, gesture, binding))
                        for phrase in (binding.phrase, *binding.others):
                            steps = telling.get(id(phrase))
                            if steps is None:
                                steps = [step for step in phrase.steps if isinstance(step, TurnOnLayer | PauseOrResume)]
                                telling[id(phrase)] = steps
                            for step in steps:
                                if isinstance(step, TurnOnLayer):
                                    self.openers.setdefault(step.name, []).append((cell, gesture, step))
                                else:
                                    self.pausing.add(cell.address)
                    if len(bound) - before > 1:
                        self.several.append(cell)

    def note(
        self,
        sort: str,
        path: KeyPath,
        message: str,
        severity: str = "hint",
        expected: str | None = None,
        key: bool = True,
    ) -> None:
        """A finding, unless there are too many of its sort already."""
        self.counts[sort] = self.counts.get(sort, 0) + 1
        if self.counts[sort] <= _MOST_OF_A_SORT:
            self.desk.sources.add(path, message, at_key=key, severity=severity, expected=expected)

    def enough(self, sort: str) -> bool:
        """Counts a finding of which there are so many that nothing need be said of it."""
        if self.counts.get(sort, 0) < _MOST_OF_A_SORT:
            return False
        self.counts[sort] += 1
        return True

    def place(self, cell: Cell, gesture: str) -> KeyPath:
        """Where a binding stands."""
        return self.desk.places.get((cell.profile, cell.address, gesture), ("profile", cell.profile))

    def place_of(self, cells: Iterable[Cell]) -> KeyPath:
        """Where the first binding of a control's cells stands."""
        cells = list(cells)
        bound = (self.place(cell, gesture) for cell in cells for gesture, _ in cell.gestures())
        return next(bound, ("profile", cells[0].profile))

    def steps(self) -> Iterator[tuple[KeyPath, Said]]:
        """Every step that could matter beyond the keys that it sends."""
        for path, phrase in self.desk.phrases:
            for step in phrase.steps:
                if not isinstance(step, Keys):
                    yield path, step

    def more(self) -> Iterator[Problem]:
        """How many findings there were for which there was no place."""
        main = str(self.desk.sources.files[0].path) if self.desk.sources.files else str(self.desk.sources.folder)
        for sort, count in self.counts.items():
            if count > _MOST_OF_A_SORT:
                yield Problem(main, 0, 0, f"{count - _MOST_OF_A_SORT} more: {sort}", severity="hint")


def all_steps(cell: Cell) -> Iterator[Said]:
    """Everything that the bindings of a cell say."""
    for _, binding in cell.gestures():
        for phrase in binding.phrases:
            yield from phrase.steps


def own_name(address: str) -> str:
    """A cell without its surface."""
    return address.partition(".")[2]
