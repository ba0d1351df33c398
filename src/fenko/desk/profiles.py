"""The profiles of a desk with their layers, and when they come."""

from __future__ import annotations

from typing import Any

from fenko.core.circumstances import Condition
from fenko.core.plan import BASE, Binding, Layer, Level, Profile, Surface
from fenko.core.verbs.desk import LAYER_MODES, PROFILE_WORDS
from fenko.core.words import nearest
from fenko.desk.bindings import BindingReader
from fenko.desk.cells import Scope
from fenko.desk.conditions import read_conditions
from fenko.desk.locate import KeyPath
from fenko.desk.sources import Sources
from fenko.desk.tables import table_of
from fenko.desk.times import read_times


def read_profiles(
    sources: Sources, table: dict[str, Any], surfaces: dict[str, Surface], reader: BindingReader
) -> tuple[dict[str, Profile], frozenset[str]]:
    """All profiles, and the cells that the `while` of a layer names."""
    chains = {name: _chain(sources, table, name) for name in {BASE: None, **table}}
    times = {
        name: read_times(sources, ("profile", name, "timing"), table_of(entry, "timing"), checked=True)
        for name, entry in table.items()
    }
    levels: dict[str, Level] = {BASE: Level(BASE, {})}
    layers: dict[str, dict[str, tuple[Level, tuple[str, ...] | None]]] = {}
    conditions: dict[str, tuple[Condition, ...]] = {}
    visits: dict[str, tuple[Binding | None, Binding | None]] = {}
    left: dict[str, tuple[str, ...]] = {}
    for name, entry in table.items():
        path = ("profile", name)
        if name in PROFILE_WORDS:
            sources.add(path, f"`{name}` has a meaning of its own in phrases", at_key=True, expected="another name")
        if name == BASE:
            for key in {"when", "extends"} & entry.keys() if isinstance(entry, dict) else ():
                sources.add((*path, key), f"`base` lies under every profile and takes no `{key}`", at_key=True)
        known = frozenset(layer for link in chains[name] for layer in table_of(table.get(link), "layer"))
        closer = tuple(times[link] for link in chains[name] if link in times)
        own = Scope(name, path, known, closer)
        levels[name] = reader.level(own, table_of(entry, "on"))
        layers[name] = {}
        for layer, layer_entry in table_of(entry, "layer").items():
            place = (*path, "layer", layer)
            if layer in LAYER_MODES:
                sources.add(
                    place, f"`{layer}` has a meaning of its own in phrases", at_key=True, expected="another name"
                )
            scope = Scope(f"{name}/{layer}", place, known, closer)
            level = reader.level(scope, table_of(layer_entry, "on"))
            layers[name][layer] = (level, _while(sources, (*place, "while"), layer_entry, surfaces))
        if isinstance(entry, dict):
            conditions[name] = tuple(read_conditions(sources, (*path, "when"), entry.get("when"), surfaces))
            enter, leave = (reader.on_its_own((*path, key), entry.get(key), own) for key in ("on-enter", "on-leave"))
            visits[name] = (enter, leave)
            left[name] = _left(sources, (*path, "leaves"), entry.get("leaves"), surfaces)
    stacked = {name: _stacked(layers, chain, left.get(name, ())) for name, chain in chains.items()}
    watched = frozenset(
        held for own in stacked.values() for layer in own.values() for held in layer.held if "." in held
    )
    compiled = {}
    for name in levels:
        leaves = left.get(name, ())
        chain = tuple(levels[link] if link == name else levels[link].without(leaves) for link in chains[name])
        visit = visits.get(name, (None, None))
        compiled[name] = Profile(name, conditions.get(name, ()), chain, stacked[name], *visit, frozenset(leaves))
    return compiled, watched


def _left(sources: Sources, path: KeyPath, names: Any, surfaces: dict[str, Surface]) -> tuple[str, ...]:
    """The surfaces that a profile leaves to the program."""
    for number, name in enumerate(names if isinstance(names, list) else ()):
        if isinstance(name, str) and name not in surfaces:
            sources.add((*path, number), f"unknown surface `{name}`", nearest=nearest(name, surfaces))
    return tuple(name for name in surfaces if isinstance(names, list) and name in names)


def _stacked(
    layers: dict[str, dict[str, tuple[Level, tuple[str, ...] | None]]], chain: list[str], left: tuple[str, ...]
) -> dict[str, Layer]:
    """The layers of a profile: of one that several levels define, the highest lies on top and says when it is on. Of surfaces
    that are `left` to the program only its own say anything."""
    found: dict[str, Layer] = {}
    for link in chain:
        for name, (level, held) in layers.get(link, {}).items():
            below = found.get(name, Layer(()))
            level = level if link == chain[-1] else level.without(left)
            found[name] = Layer((*below.levels, level), below.held if held is None else held)
    return found


_WHILE_MODIFIERS = ("ctrl", "alt", "shift", "super")


def _while(sources: Sources, path: KeyPath, entry: Any, surfaces: dict[str, Surface]) -> tuple[str, ...] | None:
    """What has to be held for a layer: modifiers and cells; None where the layer does not say."""
    value = entry.get("while") if isinstance(entry, dict) else None
    several = isinstance(value, list)
    if not isinstance(value, str | list):
        return None
    found: list[str] = []
    for number, text in enumerate(value if isinstance(value, list) else [value]):
        place = (*path, number) if several else path
        if not isinstance(text, str):
            continue
        if text in _WHILE_MODIFIERS:
            found.append(text)
            continue
        name, _, control = text.partition(".")
        control, _, direction = control.partition(".")
        surface = surfaces.get(name)
        shape = surface.shape(control) if surface is not None else None
        if surface is None or shape is None or (direction or None) not in (shape.cells or (None,)) or shape.turns:
            known = [*_WHILE_MODIFIERS, *(f"{one}.{own}" for one, surface in surfaces.items() for own in surface.names)]
            expected = f"{', '.join(_WHILE_MODIFIERS)}, or a control that can be held, as SURFACE.CONTROL"
            sources.add(place, f"`{text}` cannot be held", expected=expected, nearest=nearest(text, known))
            continue
        own = surface.own_name(surface.kernel_name(control) or control)
        found.append(f"{name}.{own}.{direction}" if direction else f"{name}.{own}")
    if value == []:
        sources.add(path, "nothing in this list has to be held, so the layer would always be on")
    return tuple(dict.fromkeys(found))


def _chain(sources: Sources, table: dict[str, Any], name: str) -> list[str]:
    """The levels of a profile, lowest first: base, what it extends, itself."""
    chain = [name]
    while True:
        entry = table.get(chain[-1])
        parent = entry.get("extends") if isinstance(entry, dict) else None
        if not isinstance(parent, str) or parent == BASE:
            break
        path = ("profile", chain[-1], "extends")
        if parent not in table:
            if len(chain) == 1:
                sources.add(path, f"unknown profile `{parent}`", nearest=nearest(parent, table))
            break
        if parent in chain:
            if parent == name:
                sources.add(path, f"`{name}` extends itself: {' -> '.join([*chain, parent])}")
            break
        chain.append(parent)
    return [*([] if name == BASE else [BASE]), *reversed(chain)]
