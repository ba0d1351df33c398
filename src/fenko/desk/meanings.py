"""What every control of a surface means with a profile and layers in force: for legends and sheets."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping

from msgspec import Struct

from fenko.core.controls import BUTTON, THRESHOLDS, Shape
from fenko.core.plan import Binding, Cell, Plan, Surface
from fenko.core.stack import Stack

_TITLED = ("press", "tap", "move")
"""The gestures that give a control its title, the first that is bound."""
_SHOWN = {"press": "", "tap": "tapped", "hold": "held", "double": "twice", "triple": "three times", "release": "let go",
          "fast": "fast", "move": "moved"}  # fmt: skip
_WAYS = {"left": "←", "right": "→", "up": "↑", "down": "↓", "up-left": "↖", "up-right": "↗", "down-left": "↙",
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


def stack_with(plan: Plan, profile: str, layers: Iterable[str]) -> Stack:
    """The levels of a profile with some of its layers on."""
    found = plan.profiles[profile]
    above = [level for name in layers if name in found.layers for level in found.layers[name].levels]
    return Stack((*found.levels, *above), plan.surfaces, plan.watched)


def meanings(stack: Stack, surface: Surface, controls: Iterable[str], states: Mapping[str, str]) -> Iterator[Meaning]:
    """What each of these controls, by the desk's names, means. `states` says where bindings that do several things in turn have
    come to, by `level address.gesture`."""
    for control in controls:
        address = f"{surface.name}.{control}"
        shape = surface.shape(control) or BUTTON
        parts = [(part, stack.cell(f"{address}.{part}" if part else address)) for part in _parts(shape)]
        yield _meaning(control, [(part, cell) for part, cell in parts if cell is not None], states)


def _parts(shape: Shape) -> tuple[str, ...]:
    own = (part for part in (*shape.cells, *shape.directions, *(shape.turns or ()), *shape.axes) if part)
    return tuple(dict.fromkeys(("", *own, *(() if shape is BUTTON else THRESHOLDS))))


def _meaning(control: str, cells: list[tuple[str, Cell]], states: Mapping[str, str]) -> Meaning:
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
            plain = part in _WAYS and gesture in ("press", "move")
            way = " ".join(filter(None, (_WAYS.get(part, part), "" if plain else _SHOWN[gesture])))
            more.append(f"{way} {words}" if plain else f"{way}: {words}")
    if not title and len(more) == 1:
        title, more = more[0], []
    return Meaning(control, title, tuple(more), (first and first.colour) or "", (first and first.icon) or "", level)


def _words(cell: Cell, gesture: str, binding: Binding, states: Mapping[str, str]) -> str:
    state = states.get(f"{cell.profile} {cell.address}.{gesture}", "")
    return f"{binding.label}: {state}" if state and binding.label else state or binding.title


def together(stack: Stack, surface: Surface) -> Iterator[tuple[str, str]]:
    """What several controls do at once, in the desk's own names, and what bursts of a key do."""
    for address, cell in sorted(stack.table().items()):
        if address.partition(".")[0] != surface.name or not (cell.members or cell.repeats):
            continue
        for gesture, binding in cell.gestures():
            how = f" {_SHOWN[gesture]}" if _SHOWN[gesture] else ""
            yield f"{address.partition('.')[2]}{how}", binding.title


def pressed_controls(cells: Collection[str], surface: Surface) -> frozenset[str]:
    """The controls of a surface to which cells that are held belong."""
    return frozenset(cell.split(".")[1] for cell in cells if cell.partition(".")[0] == surface.name)
