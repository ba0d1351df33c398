"""What of a desk it takes to run it: its plan, its links, its settings; without the files it was read from."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from typing import Any

from msgspec import Struct, structs

from fenko.core.controls import HELD_BY_HAND
from fenko.core.lights import Lamps, lamps_of
from fenko.core.phrase import steps_of
from fenko.core.plan import Layer, Level, Plan, Profile, Surface
from fenko.core.steps import Begin, End, Follow, Hold, Rate, Repeat, Send, Set, Steer, Strike, Toggle
from fenko.core.verbs import OUTPUTS
from fenko.core.words import parse_time
from fenko.desk.load import Desk
from fenko.desk.model import LATEST
from fenko.desk.surfaces import SurfaceLinks

LINKED = "linked"
"""The table, of Fenko's own making, of surfaces as their workers see them."""
ALWAYS = ("keys", "pointer")
"""Outs that every desk has: unbound controls are handed on."""


class Compiled(Struct, frozen=True):
    """A desk that is ready to run. `outs` are those that its bindings use, `tables` what its files say besides
    profiles and expectations."""

    folder: str
    name: str
    plan: Plan
    links: dict[str, SurfaceLinks]
    outs: tuple[str, ...]
    tables: dict[str, Any]
    motion: frozenset[str] = frozenset()
    """The surfaces on whose motion something is bound, so that it does not go on as it comes."""
    felt: frozenset[str] = frozenset()
    """The surfaces of which it matters how they are held."""
    lamps: Lamps = Lamps()
    """What its bindings light, and the controls that show values."""
    digests: dict[str, str] = {}
    """The files that it was read from, each with what tells its text from others."""
    given: str = ""
    """What was asked for: its folder, or a file in it."""

    @property
    def version(self) -> str:
        """What tells it from the desk that it was before its files changed."""
        return version_of(self.digests)

    @property
    def keys(self) -> str:
        """The port of keys and pointer that the desk names, or `auto`."""
        return str(self.tables.get("output", {}).get("keys", "auto"))

    @property
    def far(self) -> tuple[str, ...]:
        """Of its outs, those that workers do."""
        return tuple(out for out in self.outs if out in OUTPUTS)

    @property
    def latest(self) -> dict[str, float]:
        """How old a press on another computer may be when it arrives, by surface, in seconds."""
        return {name: entry["latest"] for name, entry in self.tables.get(LINKED, {}).items()}

    @property
    def processes(self) -> dict[str, tuple[str, ...]]:
        """The same, by the process that they share."""
        found: dict[str, tuple[str, ...]] = {}
        for out in self.far:
            found[OUTPUTS[out].process] = (*found.get(OUTPUTS[out].process, ()), out)
        return found

    def skeleton(self) -> Skeleton:
        """The same without what the levels say."""
        profiles = {}
        for name, profile in self.plan.profiles.items():
            layers = {own: (_names(layer.levels), layer.held) for own, layer in profile.layers.items()}
            profiles[name] = (structs.replace(profile, levels=(), layers={}), _names(profile.levels), layers)
        return Skeleton(structs.replace(self, plan=structs.replace(self.plan, profiles={})), profiles)


def showing_of(plan: Plan, links: Mapping[str, SurfaceLinks]) -> dict[str, bool]:
    """The controls that may show where the value is that they drive, by address, each with whether that is felt by a hand: all on
    boards, which say themselves what they can, and of the others those of which the desk says so."""
    found: dict[str, bool] = {}
    for name, surface in plan.surfaces.items():
        for control, wire in links[name].controls.items() if name in links else ():
            own = surface.own_name(control)
            shape = surface.shape(own)
            if shape is not None and (wire.get("shows-value") or surface.kind == "board"):
                found[f"{name}.{own}"] = not shape.turns
    return found


def version_of(digests: Mapping[str, str]) -> str:
    """What tells files that a desk was read from, from the same files at another time."""
    said = "\n".join(f"{name} {digest}" for name, digest in sorted(digests.items()))
    return hashlib.blake2b(said.encode("utf-8", "surrogateescape"), digest_size=8).hexdigest()


Bones = tuple[Profile, tuple[str, ...], dict[str, tuple[tuple[str, ...], tuple[str, ...]]]]
"""A profile without its levels, their names, and of each layer the same, with what has to be held for it."""


class Skeleton(Struct, frozen=True):
    """A desk without its profiles, and these with the names of their levels in place of the levels."""

    desk: Compiled
    profiles: dict[str, Bones]


def filled(bones: Bones, levels: dict[str, Level]) -> Profile:
    """The profile with these levels."""
    profile, own, layers = bones

    def laid(names: tuple[str, ...]) -> tuple[Level, ...]:
        """The levels of these names, as they lie under the profile."""
        return tuple(
            levels[one] if one.partition("/")[0] == profile.name else levels[one].without(profile.leaves)
            for one in names
        )

    whole = {layer: Layer(laid(names), held) for layer, (names, held) in layers.items()}
    return structs.replace(profile, levels=laid(own), layers=whole)


def _names(levels: tuple[Level, ...]) -> tuple[str, ...]:
    return tuple(level.name for level in levels)


def compiled(desk: Desk) -> Compiled:
    """What it takes to run a desk."""
    tables = {name: table for name, table in desk.sources.data.items() if name not in ("profile", "expect")}
    lamps = lamps_of(desk.plan, showing_of(desk.plan, desk.links))
    outs = tuple(_outs_of(desk, bool(lamps.lit)))
    if "feedback" in outs:
        tables[LINKED] = linked(desk)
    return Compiled(
        str(desk.folder), desk.name, desk.plan, desk.links, outs, tables, *_heard(desk.plan),
        lamps, desk.sources.digests, str(desk.sources.given),
    )  # fmt: skip


def linked(desk: Desk) -> dict[str, Any]:
    """Of each surface of a desk, what those need who look after its lamps, and after its links where it is no kernel device."""
    surfaces = desk.sources.data.get("surface", {})
    return {name: _linked(surface, desk.links[name], surfaces[name]) for name, surface in desk.plan.surfaces.items()}


def linked_entry(desk: Compiled, name: str) -> dict[str, Any]:
    """The same of one surface of a compiled desk, whether it answers anything in that desk or not."""
    return _linked(desk.plan.surfaces[name], desk.links[name], desk.tables["surface"][name])


def _linked(surface: Surface, found: SurfaceLinks, entry: dict[str, Any]) -> dict[str, Any]:
    network = entry.get("network", {})
    return {
        "kind": surface.kind, "links": list(found.links), "controls": found.controls, "names": surface.names,
        "colours": entry.get("colours", {}), "latest": parse_time(network["latest"]) if "latest" in network else LATEST,
    }  # fmt: skip


def _heard(plan: Plan) -> tuple[frozenset[str], frozenset[str]]:
    """The surfaces on whose motion something is bound, and those of which it matters how they are held."""
    motion, felt = set(), set()
    for address in {control for level in plan.levels.values() for control in level.controls} | plan.watched:
        surface, _, rest = address.partition(".")
        for part in rest.split("+"):
            own = part.partition(".")[0]
            kernel = plan.surfaces[surface].kernel_name(own) or own
            if kernel == "motion":
                motion.add(surface)
            elif kernel in HELD_BY_HAND:
                felt.add(surface)
    return frozenset(motion), frozenset(felt)


def _outs_of(desk: Desk, lit: bool) -> list[str]:
    """The outs that a desk uses, where it has lamps `lit`."""
    used = dict.fromkeys((*ALWAYS, "feedback") if lit else ALWAYS)
    used.update(dict.fromkeys(output.name for output in OUTPUTS.values() if output.listens(desk.sources.data)))
    seen: set[int] = set()
    for _, phrase in desk.phrases:
        if id(phrase) in seen:
            continue
        seen.add(id(phrase))
        for step in steps_of(phrase):
            if isinstance(step, Send | Steer):
                used[step.out] = None
            elif isinstance(step, Set | Follow | Rate):
                used[step.target[0]] = None
            elif isinstance(step, Hold | Strike | Repeat | Begin | End | Toggle):
                used.update(dict.fromkeys(out for out, _ in step.items))
    return list(used)
