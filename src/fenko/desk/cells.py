"""Reads what stands under one control: its directions, gestures and bindings."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from fenko.core.controls import BUTTON, THRESHOLDS, Shape
from fenko.core.plan import GESTURES, TURN_GESTURES, Binding, Cell, Surface
from fenko.core.words import nearest
from fenko.desk.locate import KeyPath
from fenko.desk.model import BindingFile
from fenko.desk.structure import fields
from fenko.desk.times import read_times

if TYPE_CHECKING:
    from fenko.desk.bindings import BindingReader

_BINDING_FIELDS = frozenset(fields(BindingFile)) - {"timing"}
_WAYS = ("do", "in-turn", "at-random")
MOST_UNKNOWN = 100
"""Unknown controls that are worth a place each; somebody who has more has the wrong kind of surface."""
_HELD_GESTURES = ("press", "hold")


class Scope(Struct, frozen=True):
    """Where bindings stand: the profile or layer, what phrases there may name, and the times of the profile."""

    name: str
    path: KeyPath
    layers: frozenset[str] = frozenset()
    timing: tuple[dict[str, float], ...] = ()


class ControlReader:
    """Reads all that stands under one control, or chord, of one profile or layer."""

    def __init__(
        self, reader: BindingReader, scope: Scope, surface: Surface, address: str, members: tuple[str, ...]
    ) -> None:
        self._reader = reader
        self._scope = scope
        self._surface = surface
        self._address = address
        self._members = members
        self._sources = reader.sources

    def control(self, path: KeyPath, shape: Shape, value: Any) -> tuple[Cell, ...]:
        """The cells of the control; those that are not mentioned are owned too, and empty."""
        if not shape.cells:
            return tuple(self._cells(path, self._address, shape, value))
        cells = {
            f"{self._address}.{part}": Cell(f"{self._address}.{part}", self._scope.name) for part in shape.directions
        }
        if not isinstance(value, dict) or "do" in value:
            example = f"`{path[-1]}.{shape.directions[0]}`"
            self._sources.add(path, f"a {shape.name} is bound by direction", expected=example)
            return ()
        for direction, entry in value.items():
            if direction not in shape.cells:
                self._sources.add(
                    (*path, direction), f"a {shape.name} has no direction `{direction}`", at_key=True,
                    expected=some_of(shape.cells), nearest=nearest(direction, shape.cells),
                )  # fmt: skip
                continue
            for cell in self._cells((*path, direction), f"{self._address}.{direction}", shape, entry, direction):
                cells[cell.address] = cell
        return tuple(cells.values())

    def _cells(self, path: KeyPath, address: str, shape: Shape, value: Any, direction: str = "") -> Iterator[Cell]:
        """The cell at an address, and those of its thresholds."""
        gestures: dict[str, Any] = {}
        known = TURN_GESTURES if shape.turns else GESTURES
        analogue = bool(shape.axes) and direction not in shape.diagonals
        times: dict[str, float] = {}
        if not isinstance(value, dict) or is_binding(value):
            gestures["press"] = self._gesture(path, "press", value, times)
            self._reader.places[self._scope.name, address, "press"] = path
        elif not value:
            self._sources.add(
                path, "this binds nothing", expected="a phrase; `nothing` does nothing on purpose", nearest="nothing"
            )
        else:
            if "timing" in value:
                times |= read_times(self._sources, (*path, "timing"), value["timing"])
            for gesture, entry in value.items():
                sub = (*path, gesture)
                if gesture == "timing":
                    continue
                if analogue and gesture in THRESHOLDS:
                    yield from self._cells(sub, f"{address}.{gesture}", BUTTON, entry)
                elif gesture in known:
                    gestures[gesture] = self._gesture(sub, gesture, entry, times)
                    self._reader.places[self._scope.name, address, gesture] = sub
                else:
                    self._unknown_gesture(sub, gesture, shape, (*known, *(THRESHOLDS if analogue else ())))
        timing = self._reader.timing(self._surface.name, *self._scope.timing, times)
        repeats = self._surface.repeated(self._address.partition(".")[2])
        yield Cell(address, self._scope.name, timing=timing, members=self._members, repeats=repeats, **gestures)

    def _gesture(self, path: KeyPath, gesture: str, value: Any, times: dict[str, float]) -> Binding | None:
        held = gesture in _HELD_GESTURES and not self._turns()
        if isinstance(value, dict) and isinstance(value.get("timing"), dict):
            times |= read_times(self._sources, (*path, "timing"), value["timing"], checked=True)
        if not isinstance(value, str | dict):
            self._sources.add(
                path, "this binds nothing", expected="a phrase, a table with `do`, or a table of gestures"
            )
            return None
        return self._reader.binding(path, value, self._scope, held)

    def _turns(self) -> bool:
        shape = self._surface.shape(self._address.partition(".")[2])
        return shape is not None and shape.turns is not None

    def _unknown_gesture(self, path: KeyPath, gesture: str, shape: Shape, known: tuple[str, ...]) -> None:
        if shape.turns and gesture in GESTURES:
            message = f"a {shape.name} turns by steps; it has no {gesture}"
            self._sources.add(path, message, at_key=True, expected=some_of(known))
            return
        hint = nearest(gesture, known)
        self._sources.add(path, f"unknown gesture `{gesture}`", at_key=True, expected=some_of(known), nearest=hint)


def is_binding(value: Any) -> bool:
    """Whether a value under a control is one binding, and no table of gestures or directions."""
    return isinstance(value, str) or (isinstance(value, dict) and bool(_BINDING_FIELDS & value.keys()))


def some_of(words: Iterable[str]) -> str:
    words = list(words)
    return ", ".join(words[:12]) + (" …" if len(words) > 12 else "")
