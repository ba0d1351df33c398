"""A desk's surfaces ready to be drawn: where each control sits, and what stands on it with a profile and layers in force."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from typing import NamedTuple

from msgspec import Struct

from fenko.core.controls import HELD_BY_HAND
from fenko.core.descriptions import Description
from fenko.core.plan import Surface
from fenko.core.stack import Stack, stack_of
from fenko.core.words import shortened
from fenko.desk.descriptions import Catalogue, kind_description
from fenko.desk.load import Desk
from fenko.desk.meanings import Meaning, meanings
from fenko.drawing.labels import Label, labels

_LONGEST = 100
"""Characters of one line on a plan: of a long text that is typed, its beginning tells which one it is."""


class Shown(Struct, frozen=True):
    """One control as it is drawn, and what it means."""

    label: Label
    meaning: Meaning


class _Placed(NamedTuple):
    """What stays the same of a surface: its description, a label for each control that has a place, those by name, and which
    controls lie on which."""

    description: Description
    labels: list[Label]
    names: list[str]
    riding: dict[str, list[str]]


class Surfaces:
    """The surfaces of one desk."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self._catalogue = Catalogue.usual(desk.folder)
        self._known: dict[str, _Placed] = {}

    def described(self, surface: Surface) -> Description:
        """Its description, with a place for every control that it has or the desk names."""
        return self._placed(surface).description

    def controls(self, surface: Surface) -> list[str]:
        """Its controls by the desk's names, in the order in which one reads them."""
        placed = self._placed(surface)
        by_place = sorted(zip(placed.labels, placed.names, strict=True), key=lambda one: reading_order(one[0]))
        return [one for _, name in by_place for one in (name, *placed.riding.get(name, ()))]

    def _placed(self, surface: Surface) -> _Placed:
        known = self._known.get(surface.name)
        if known is None:
            description = description_of(self.desk, surface, self._catalogue).laid_out(mentioned(self.desk, surface))
            found = labels(description, surface)
            riding: dict[str, list[str]] = {}
            for spot in description.spots:
                if spot.on is not None:
                    riding.setdefault(surface.own_name(spot.on), []).append(surface.own_name(spot.control))
            names = [surface.own_name(label.spot.control) for label in found]
            known = self._known[surface.name] = _Placed(description, found, names, riding)
        return known

    def shown(
        self, surface: Surface, stack: Stack, states: Mapping[str, str] | None = None, pressed: Collection[str] = ()
    ) -> list[Shown]:
        """Every control with what it does; `pressed` are lit."""
        placed = self._placed(surface)
        told = meanings(stack, surface, placed.names, states or {}, placed.riding)
        return [
            Shown(_with(label, meaning, meaning.control in pressed), meaning)
            for label, meaning in zip(placed.labels, told, strict=True)
        ]


def on_a_plan(text: str) -> str:
    """What stands on a plan of what a control does."""
    return shortened(text, _LONGEST)


def _with(label: Label, meaning: Meaning, lit: bool) -> Label:
    bound = bool(meaning.title or meaning.more)
    return Label(
        label.spot, on_a_plan(meaning.title) or label.title, tuple(map(on_a_plan, meaning.more)),
        label.sort, whole=bound, colour=meaning.colour,
        icon=meaning.icon, bound=bound, lit=lit,
    )  # fmt: skip


def description_of(desk: Desk, surface: Surface, catalogue: Catalogue) -> Description:
    """The description that the desk names, else one with a link of the surface, else what is usual for its kind."""
    entry = desk.links[surface.name]
    named = catalogue.all().get(entry.description) if entry.description else None
    matching = catalogue.matching(lambda link: link in entry.links)
    if named is None and matching is not None and matching[1].kind == surface.kind:
        named = matching[1]
    return named or kind_description(surface.kind)


def mentioned(desk: Desk, surface: Surface) -> list[str]:
    """The controls, by the kernel's names, that the desk names or binds; also those that no description knows."""
    found = list(surface.names.values())
    for profile in desk.plan.profiles.values():
        for address in stack_of(desk.plan, profile.name, *profile.layers).table():
            name, _, rest = address.partition(".")
            kernel = surface.kernel_name(rest.partition(".")[0]) if name == surface.name else None
            if kernel is not None and kernel not in HELD_BY_HAND:
                found.append(kernel)
    return list(dict.fromkeys(found))


def reading_order(label: Label) -> tuple[float, float]:
    """Row by row, from left to right."""
    return (round(label.box[1] / 10), label.box[0])
