"""What every control of a surface means with a profile and layers in force: for legends and sheets."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence

from msgspec import Struct

from fenko.core.controls import BUTTON, THRESHOLDS, Shape
from fenko.core.plan import Binding, Cell, Surface
from fenko.core.stack import Stack

_TITLED = ("press", "tap", "move")
"""The gestures that give a control its title, the first that is bound."""
_SHOWN = {"press": "", "tap": "tapped", "hold": "held", "double": "twice", "triple": "three times", "release": "let go",
          "fast": "fast", "move": "moved"}  # fmt: skip
WAYS = {"left": "←", "right": "→", "up": "↑", "down": "↓", "up-left": "↖", "up-right": "↗", "down-left": "↙",
         "down-right": "↘", "clockwise": "↻", "anticlockwise": "↺", "x": "↔", "y": "↕"}  # fmt: skip


class Meaning(Struct, frozen=True):
    """One control: what it does, as a person named it, and what else it does with other gestures and in other directions; the
    colour and icon of its binding, and the level that it comes from. All empty where nothing is bound."""

    control: str
    title: str = ""
    more: tuple[str, ...] = ()
    colour: str = ""
    icon: str = ""
    level: str = ""


class Row(Struct, frozen=True):
    """One thing that a surface does: with which control, how (empty: pressed), its name, the phrase behind it where that says
    more, what is worth knowing about it, and the level that it comes from."""

    control: str
    how: str
    title: str
    phrase: str
    note: str
    level: str
    together: bool = False
    """Whether it takes several controls at once, or none that has a place of its own."""


def meanings(
    stack: Stack,
    surface: Surface,
    controls: Iterable[str],
    states: Mapping[str, str],
    riding: Mapping[str, Sequence[str]] = {},
) -> Iterator[Meaning]:
    """What each of these controls, by the desk's names, means, with those that are `riding` on it, such as the press of a stick.
    `states` says where bindings that do several things in turn have come to, by `level address.gesture`."""
    for control in controls:
        yield _meaning(
            control,
            list(_cells(stack, surface, control)),
            [
                (_rides(one, control), cell)
                for one in riding.get(control, ())
                for _, cell in _cells(stack, surface, one)
            ],
            states,
        )


def _cells(stack: Stack, surface: Surface, control: str) -> Iterator[tuple[str, Cell]]:
    address = f"{surface.name}.{control}"
    for part in _parts(surface.shape(control) or BUTTON):
        cell = stack.cell(f"{address}.{part}" if part else address)
        if cell is not None:
            yield part, cell


def _rides(control: str, on: str) -> str:
    """How a control that lies on another one is used: `stick-left-press` is that one pressed."""
    rest = control.removeprefix(f"{on}-")
    return {"press": "pressed", "touch": "touched"}.get(rest, rest)


def _parts(shape: Shape) -> tuple[str, ...]:
    own = (part for part in (*shape.cells, *shape.directions, *(shape.turns or ()), *shape.axes) if part)
    return tuple(dict.fromkeys(("", *own, *(() if shape is BUTTON else THRESHOLDS))))


def _meaning(
    control: str, cells: list[tuple[str, Cell]], riding: list[tuple[str, Cell]], states: Mapping[str, str]
) -> Meaning:
    title, first, more = "", None, []
    level = ""
    for part, cell in cells:
        for gesture, binding in cell.gestures():
            words = _words(cell, gesture, binding, states)
            level = level or cell.profile
            if not part and not title and gesture in _TITLED:
                title, first = words, binding
                continue
            first = first or binding
            plain = part in WAYS and gesture in ("press", "move")
            way = _how(part, gesture)
            more.append(f"{way} {words}" if plain else f"{way}: {words}")
    for used, cell in riding:
        for gesture, binding in cell.gestures():
            level = level or cell.profile
            way = used if gesture in _TITLED else f"{used} {_SHOWN[gesture]}"
            more.append(f"{way}: {_words(cell, gesture, binding, states)}")
    if not title and len(more) == 1 and not riding:
        title, more = more[0], []
    return Meaning(control, title, tuple(more), (first and first.colour) or "", (first and first.icon) or "", level)


def _words(cell: Cell, gesture: str, binding: Binding, states: Mapping[str, str]) -> str:
    state = states.get(f"{cell.profile} {cell.address}.{gesture}", "")
    return f"{binding.label}: {state}" if state and binding.label else state or binding.title


def together(stack: Stack, surface: Surface, placed: Collection[str]) -> Iterator[tuple[str, str]]:
    """What is done without any of the controls that are `placed`, or with several at once, in the desk's own names."""
    for control, how, binding, _ in _together(stack, surface, placed):
        yield " ".join(filter(None, (control, how))), binding.title


def _together(stack: Stack, surface: Surface, placed: Collection[str]) -> Iterator[tuple[str, str, Binding, str]]:
    """The control, how it is used, what that does, and the level."""
    for address, cell in sorted(stack.table().items()):
        name, _, rest = address.partition(".")
        control, _, part = rest.partition(".")
        if name == surface.name and control not in placed:
            for gesture, binding in cell.gestures():
                yield control, _how(part, gesture), binding, cell.profile


def _how(part: str, gesture: str) -> str:
    plain = part in WAYS and gesture in ("press", "move")
    return " ".join(filter(None, (WAYS.get(part, part), "" if plain else _SHOWN[gesture])))


def rows(stack: Stack, surface: Surface, controls: Sequence[str]) -> Iterator[Row]:
    """Everything that these controls of a surface do, by the desk's names, and what several at once do."""
    for control in controls:
        for part, cell in _cells(stack, surface, control):
            for gesture, binding in cell.gestures():
                yield _row(control, _how(part, gesture), binding, cell.profile)
    for control, how, binding, level in _together(stack, surface, controls):
        yield _row(control, how, binding, level, True)


def _row(control: str, how: str, binding: Binding, level: str, together: bool = False) -> Row:
    words = binding.words
    return Row(
        control, how, binding.title, words if words != binding.title else "", binding.note or "", level, together
    )


def pressed_controls(cells: Collection[str], surface: Surface) -> frozenset[str]:
    """The controls of a surface to which cells that are held belong."""
    return frozenset(cell.split(".")[1] for cell in cells if cell.partition(".")[0] == surface.name)
