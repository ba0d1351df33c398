"""Reads what stands under one control: its directions, gestures and bindings."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any

from msgspec import Struct, structs

from fenko.core.controls import BUTTON, DIAL, FADER, MOTION, THRESHOLDS, TOUCH_AREA, Shape
from fenko.core.phrase import Phrase, steps_of
from fenko.core.plan import GESTURES, TURN_GESTURES, Binding, Cell, Surface
from fenko.core.registration import Said
from fenko.core.steps import Amount, Follow, Move, Pass, Rate, Steady, Steer, Step
from fenko.core.verbs import VERB_OF
from fenko.core.verbs.value import By
from fenko.core.words import nearest
from fenko.desk.locate import KeyPath
from fenko.desk.model import BindingFile
from fenko.desk.structure import fields
from fenko.desk.times import read_times

if TYPE_CHECKING:
    from fenko.desk.bindings import BindingReader

_BINDING_FIELDS = frozenset(fields(BindingFile)) - {"timing"}
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
        if not isinstance(value, dict) or is_binding(value):
            return self._whole(path, shape, value) or tuple(cells.values())
        for direction, entry in value.items():
            if direction in shape.axes and direction:
                cells |= self._axis((*path, direction), shape, direction, entry, value)
                continue
            if direction not in shape.cells:
                self._sources.add(
                    (*path, direction), f"a {shape.name} has no direction `{direction}`", at_key=True,
                    expected=some_of(shape.cells), nearest=nearest(direction, shape.cells),
                )  # fmt: skip
                continue
            for cell in self._cells((*path, direction), f"{self._address}.{direction}", shape, entry, direction):
                cells[cell.address] = cell
        return tuple(cells.values())

    def _whole(self, path: KeyPath, shape: Shape, value: Any) -> tuple[Cell, ...]:
        """What is bound to a control that has directions as a whole."""
        binding = self._reader.binding(path, value, self._scope, held=False)
        if binding is None:
            return ()
        if steady(binding.phrase.steps[0]):
            return self._moving(path, self._address, shape, "", binding)
        if shape.turns and (back := turned_back(binding.phrase)) is not None:
            ways = dict(zip(shape.turns, (back, binding.phrase), strict=True))
            return tuple(
                Cell(f"{self._address}.{way}", self._scope.name, press=structs.replace(binding, phrase=ways[way]))
                for way in shape.directions
            )
        example = f"`{path[-1]}.{shape.directions[0]}`"
        self._sources.add(path, f"a {shape.name} is bound by direction", expected=example)
        return ()

    def _axis(self, path: KeyPath, shape: Shape, axis: str, value: Any, beside: dict[str, Any]) -> dict[str, Cell]:
        """What is bound to one axis of a control that has two."""
        ends = [end for end in shape.axes[axis] if end in beside]
        if ends:
            place = self._sources.where((*path[:-1], ends[0]))
            self._sources.add(path, f"`{axis}` goes both ways, and `{ends[0]}` is bound too, at {place}", at_key=True)
            return {}
        if not isinstance(value, str) and not (isinstance(value, dict) and is_binding(value)):
            self._sources.add(path, "this binds nothing", expected="a phrase, or a table with `do`")
            return {}
        binding = self._reader.binding(path, value, self._scope, held=False)
        if binding is None:
            return {}
        if not steady(binding.phrase.steps[0]):
            expected = f"{shape.axes[axis][0]} or {shape.axes[axis][1]}"
            self._sources.add(
                path, "an axis is no press, so nothing can come of it once", at_key=True, expected=expected
            )
            return {}
        return {cell.address: cell for cell in self._moving(path, f"{self._address}.{axis}", shape, axis, binding)}

    def _moving(self, path: KeyPath, address: str, shape: Shape, part: str, binding: Binding) -> tuple[Cell, ...]:
        """The cell of something that goes on as long as the control is off its rest, where it can."""
        (step,) = steps_of(binding.phrase)
        wrong = misplaced(step, shape, part, str(self._address.partition(".")[2]))
        if binding.others:
            wrong = ("what goes on cannot come in turn", "one phrase, as `do`")
        if wrong is not None:
            self._sources.add(path, wrong[0], expected=wrong[1])
            return ()
        self._reader.places[self._scope.name, address, "move"] = path
        return (Cell(address, self._scope.name, move=binding),)

    def _cells(self, path: KeyPath, address: str, shape: Shape, value: Any, direction: str = "") -> Iterator[Cell]:
        """The cell at an address, and those of its thresholds."""
        gestures: dict[str, Any] = {}
        known = TURN_GESTURES if shape.turns else GESTURES
        analogue = bool(shape.axes) and direction not in shape.diagonals and shape not in (MOTION, TOUCH_AREA)
        times: dict[str, float] = {}
        if not isinstance(value, dict) or is_binding(value):
            binding = self._gesture(path, "press", value, times)
            if binding is not None and (steady(binding.phrase.steps[0]) or shape is MOTION):
                yield from self._moving_alone(path, address, shape, direction, binding)
                return
            gestures["press"] = binding
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
                if gesture == "move" and shape.axes:
                    gestures[gesture] = self._beside(sub, address, shape, direction, entry)
                elif analogue and gesture in THRESHOLDS:
                    yield from self._cells(sub, f"{address}.{gesture}", BUTTON, entry)
                elif gesture in known:
                    gestures[gesture] = self._gesture(sub, gesture, entry, times)
                    found = gestures[gesture]
                    if found is not None and any(map(steady, (said for one in found.phrases for said in one.steps))):
                        message = "this goes on as long as the control is off its rest; it is no gesture's action"
                        self._sources.add(sub, message, expected=f'`{path[-1]} = "{found.phrase}"`')
                    self._reader.places[self._scope.name, address, gesture] = sub
                else:
                    self._unknown_gesture(sub, gesture, shape, (*known, *(THRESHOLDS if analogue else ())))
        timing = self._reader.timing(self._surface.name, *self._scope.timing, times)
        repeats = self._surface.repeated(self._address.partition(".")[2])
        yield Cell(address, self._scope.name, timing=timing, members=self._members, repeats=repeats, **gestures)

    def _beside(self, path: KeyPath, address: str, shape: Shape, part: str, entry: Any) -> Binding | None:
        """What moves, of a control that is pressed too."""
        binding = self._reader.binding(path, entry, self._scope, held=False)
        if binding is None:
            return None
        if not steady(binding.phrase.steps[0]):
            self._sources.add(
                path, "this is over at once, and moves nothing", expected="`pointer 900`, `scroll 20`, `value … rate …`"
            )
            return None
        found = self._moving(path, address, shape, part, binding)
        return found[0].move if found else None

    def _moving_alone(self, path: KeyPath, address: str, shape: Shape, part: str, binding: Binding) -> Iterator[Cell]:
        if steady(binding.phrase.steps[0]):
            yield from self._moving(path, address, shape, part, binding)
        else:
            self._sources.add(path, "a mouse's motion is no press", expected="`pointer x0.5` or `scroll x0.1`")

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
        control = self._address.partition(".")[2]
        if self._surface.kind == "midi" and shape is FADER and gesture in DIAL.directions:
            expected = f'`sort = "dial"` in [surface.{self._surface.name}.control.{control}], if it turns without end'
            self._sources.add(path, f"`{control}` is a fader, and has no `{gesture}`", at_key=True, expected=expected)
            return
        hint = nearest(gesture, known)
        self._sources.add(path, f"unknown gesture `{gesture}`", at_key=True, expected=some_of(known), nearest=hint)


def steady(said: Said) -> bool:
    """Whether a step goes on as long as a control is off its rest."""
    return any(isinstance(step, Steady) for step in VERB_OF[type(said)].steps(said))


def misplaced(step: Step, shape: Shape, part: str, control: str) -> tuple[str, str] | None:
    """Why such a step cannot stand on that part of a control, and what could; None if it can."""
    what = f"a {shape.name}"
    if isinstance(step, Pass):
        if shape is MOTION:
            return None
        return f"a factor is for a mouse's `motion`, and this is {what}", "a speed, such as `pointer 900`"
    if shape is MOTION:
        return "a mouse moves as far as it is moved", "a factor, such as `pointer x0.5`"
    if shape is TOUCH_AREA and not isinstance(step, Move):
        return "a finger on a touch area moves things as far as it moves", "`pointer 900` or `scroll 20`"
    if not shape.axes:
        return (
            f"{what} has no way to go, so nothing comes of it but a step",
            "`pointer right 20`, `scroll down 3`, `by +5`",
        )
    if part in shape.diagonals:
        return "a direction between two has no distance of its own", f"`{control}` as a whole"
    if isinstance(step, Steer) and step.two:
        if not part and "x" in shape.axes and "y" in shape.axes:
            return None
        return "two axes at once need a control that goes both ways, as a whole", "a stick or hat; here one axis"
    if isinstance(step, Follow | Rate | Steer) and not part and "" not in shape.axes:
        return f"{what} has two axes, and a value goes along one", f"`{control}.x` or `{control}.y`"
    return None


def turned_back(phrase: Phrase) -> Phrase | None:
    """The same step the other way, for a dial that is turned back; None for what has no other way."""
    said = phrase.steps[0]
    if len(phrase.steps) > 1:
        return None
    for field in said.__struct_fields__:
        part = getattr(said, field)
        if (back := _stepped_back(part)) is not None:
            return Phrase((structs.replace(said, **{field: back}),))
    other = said.back()
    return Phrase((other,)) if other is not None else None


def _stepped_back(part: Any) -> Any:
    """A step of a value the other way, by itself or within what is said; None for anything else."""
    if isinstance(part, By):
        return By(Amount(-part.amount.number, part.amount.unit))
    change = getattr(part, "change", None)
    return structs.replace(part, change=_stepped_back(change)) if isinstance(change, By) else None


def is_binding(value: Any) -> bool:
    """Whether a value under a control is one binding, and no table of gestures or directions."""
    return isinstance(value, str) or (isinstance(value, dict) and bool(_BINDING_FIELDS & value.keys()))


def some_of(words: Iterable[str]) -> str:
    words = list(words)
    return ", ".join(words[:12]) + (" …" if len(words) > 12 else "")
