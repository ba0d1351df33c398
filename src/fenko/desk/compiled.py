"""What of a desk it takes to run it: its plan, its links, its settings; without the files it was read from."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from msgspec import Struct, structs

from fenko.core.phrase import steps_of
from fenko.core.plan import Layer, Level, Plan, Profile
from fenko.core.steps import Begin, End, Hold, Repeat, Send, Strike, Toggle
from fenko.desk.load import Desk, SurfaceLinks

ALWAYS = ("keys", "pointer")
"""Outs that every desk has: unbound controls are handed on."""


class Compiled(Struct, frozen=True):
    """A desk that is ready to run. `outs` are those that its bindings use, `tables` all that its files say."""

    folder: str
    name: str
    plan: Plan
    links: dict[str, SurfaceLinks]
    outs: tuple[str, ...]
    tables: dict[str, Any]

    @property
    def keys(self) -> str:
        """The port of keys and pointer that the desk names, or `auto`."""
        return str(self.tables.get("output", {}).get("keys", "auto"))

    def levels(self) -> Iterator[Level]:
        """Every level once."""
        found: dict[str, Level] = {}
        for profile in self.plan.profiles.values():
            for level in (*profile.levels, *(one for layer in profile.layers.values() for one in layer.levels)):
                found.setdefault(level.name, level)
        yield from found.values()

    def skeleton(self) -> Skeleton:
        """The same without what the levels say."""
        profiles = {}
        for name, profile in self.plan.profiles.items():
            layers = {own: (_names(layer.levels), layer.held) for own, layer in profile.layers.items()}
            profiles[name] = (structs.replace(profile, levels=(), layers={}), _names(profile.levels), layers)
        return Skeleton(structs.replace(self, plan=structs.replace(self.plan, profiles={})), profiles)


_Layers = dict[str, tuple[tuple[str, ...], tuple[str, ...]]]


class Skeleton(Struct, frozen=True):
    """A desk whose profiles and layers name their levels."""

    desk: Compiled
    profiles: dict[str, tuple[Profile, tuple[str, ...], _Layers]]

    def level_names(self) -> list[str]:
        """The levels that it takes."""
        names: dict[str, None] = {}
        for _, levels, layers in self.profiles.values():
            names.update(dict.fromkeys(levels))
            for own, _ in layers.values():
                names.update(dict.fromkeys(own))
        return list(names)

    def filled(self, levels: dict[str, Level]) -> Compiled:
        """The desk with these levels."""
        profiles = {}
        for name, (profile, own, layers) in self.profiles.items():
            filled = {
                layer: Layer(tuple(levels[one] for one in names), held) for layer, (names, held) in layers.items()
            }
            profiles[name] = structs.replace(profile, levels=tuple(levels[one] for one in own), layers=filled)
        return structs.replace(self.desk, plan=structs.replace(self.desk.plan, profiles=profiles))


def _names(levels: tuple[Level, ...]) -> tuple[str, ...]:
    return tuple(level.name for level in levels)


def compiled(desk: Desk) -> Compiled:
    """What it takes to run a desk."""
    return Compiled(str(desk.folder), desk.name, desk.plan, desk.links, tuple(_outs_of(desk)), desk.sources.data)


def _outs_of(desk: Desk) -> list[str]:
    used = dict.fromkeys(ALWAYS)
    seen: set[int] = set()
    for _, phrase in desk.phrases:
        if id(phrase) in seen:
            continue
        seen.add(id(phrase))
        for step in steps_of(phrase):
            if isinstance(step, Send):
                used[step.out] = None
            elif isinstance(step, Hold | Strike | Repeat | Begin | End | Toggle):
                used.update(dict.fromkeys(out for out, _ in step.items))
    return list(used)
