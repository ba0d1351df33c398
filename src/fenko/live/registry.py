"""Which surface a device belongs to: by the links of a desk, or, where there is no desk, each thing is its own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

from fenko.core.plan import Surface
from fenko.core.words import slug_of
from fenko.desk.compiled import Compiled
from fenko.desk.descriptions import Catalogue
from fenko.desk.load import Desk
from fenko.system.things import Node, common_name, guess_kind, list_nodes


class Registry(Protocol):
    """Gives nodes to surfaces."""

    def claim(self, node: Node) -> Surface | None:
        """The surface that this node belongs to; None if nobody wants it."""

    def exclusive(self, surface: str) -> bool:
        """Whether the surface is kept from other programs."""

    def expected(self) -> Mapping[str, tuple[str, ...]]:
        """The surfaces that a person waits for, and the links by which they can turn up."""


class DeskRegistry:
    """The surfaces of a desk. With `share`, none is kept from other programs; `wanted` leaves the others out."""

    def __init__(self, desk: Desk | Compiled, share: bool = False, wanted: tuple[str, ...] = ()) -> None:
        self._surfaces = desk.plan.surfaces
        self._links = {name: links for name, links in desk.links.items() if not wanted or name in wanted}
        self._share = share

    def claim(self, node: Node) -> Surface | None:
        """By the links; one that says more (a serial, a port) wins."""
        found = [(len(link), name) for name, entry in self._links.items() for link in entry.links if node.matches(link)]
        return self._surfaces[max(found)[1]] if found else None

    def exclusive(self, surface: str) -> bool:
        """As the desk says."""
        return self._links[surface].exclusive and not self._share

    def expected(self) -> Mapping[str, tuple[str, ...]]:
        """All of them."""
        return {name: entry.links for name, entry in self._links.items()}


class OrdinaryKeyboards:
    """The keyboards on which people type: all that are no surface of the desk. They are kept from other programs only to
    `keep` what is performed on them for a moment."""

    def __init__(self, desk: Desk | Compiled, keep: bool = False) -> None:
        self._desk = DeskRegistry(desk)
        self._keep = keep

    def claim(self, node: Node) -> Surface | None:
        """One surface for each node of such a keyboard."""
        if guess_kind([node]) != "keyboard" or self._desk.claim(node) is not None:
            return None
        return Surface(slug_of(node.path), "keyboard")

    def exclusive(self, surface: str) -> bool:
        """As it was asked for."""
        return self._keep

    def expected(self) -> Mapping[str, tuple[str, ...]]:
        """Nothing in particular."""
        return {}


class EveryThing:
    """Every thing that is plugged in is a surface, named after itself, and shared. Of those that the catalogue
    describes, kind and names of controls are known.

    Ordinary keyboards are left out unless they are `wanted` by name, or `keyboards` asks for exactly that: what people
    type there is nobody's business."""

    def __init__(
        self, catalogue: Catalogue | None = None, wanted: tuple[str, ...] = (), keyboards: bool = False
    ) -> None:
        self._catalogue = catalogue or Catalogue(())
        self._wanted = wanted
        self._keyboards = keyboards
        self._nodes: list[Node] = []
        self._names: dict[tuple[int, int, int, str, str], str] = {}

    def claim(self, node: Node) -> Surface | None:
        """The thing's own surface."""
        if not (node.keys or node.axes or node.turns):
            return None
        if node not in self._nodes:
            self._nodes = list_nodes()
        parts = [other for other in self._nodes if other.thing == node.thing] or [node]
        described = self._catalogue.matching(node.matches)
        kind = described[1].kind if described else guess_kind(parts)
        name = self._name(node, parts)
        if name not in self._wanted if self._wanted else kind == "keyboard" and not self._keyboards:
            return None
        if described is None:
            return Surface(name, kind)
        return Surface(name, kind, names=described[1].names, shapes=described[1].shapes)

    def _name(self, node: Node, parts: list[Node]) -> str:
        if node.thing not in self._names:
            slug = slug_of(common_name(parts))
            taken = set(self._names.values())
            numbered = (slug, *(f"{slug}-{number}" for number in range(2, 1000)))
            self._names[node.thing] = next(name for name in numbered if name not in taken)
        return self._names[node.thing]

    def exclusive(self, surface: str) -> bool:
        """Never."""
        return False

    def expected(self) -> Mapping[str, tuple[str, ...]]:
        """Nothing in particular."""
        return {}


class OneThing:
    """One thing alone, kept from other programs as soon as all its keys are up."""

    def __init__(self, node: Node, surface: Surface) -> None:
        self._thing = node.thing
        self._surface = surface

    def claim(self, node: Node) -> Surface | None:
        """The surface, if the node is a part of the thing."""
        return self._surface if node.thing == self._thing else None

    def exclusive(self, surface: str) -> bool:
        """Always."""
        return True

    def expected(self) -> Mapping[str, tuple[str, ...]]:
        """Nothing in particular."""
        return {}
