"""The surfaces of a desk: their kinds, names and descriptions."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from msgspec import Struct, structs

from fenko.core.controls import KINDS, SORTS, Shape, has_control, names_another
from fenko.core.descriptions import Description, burst_of
from fenko.core.links import has_transport
from fenko.core.plan import (
    Surface,
)
from fenko.core.words import nearest
from fenko.desk.descriptions import FOLDER, Catalogue
from fenko.desk.model import LIMITS
from fenko.desk.numbers import read_conditioning
from fenko.desk.problems import DeskError
from fenko.desk.sources import Sources
from fenko.desk.surface_sorts import can_be
from fenko.desk.tables import table_of
from fenko.desk.times import read_time


class SurfaceLinks(Struct, frozen=True):
    """How to find a surface among what is plugged in, and whether to keep it from other programs."""

    links: tuple[str, ...]
    exclusive: bool
    description: str | None = None
    controls: dict[str, dict[str, Any]] = {}
    """How controls talk, of a surface that is no kernel device."""

    @property
    def far(self) -> tuple[str, ...]:
        """The links by which it turns up otherwise than as a kernel device."""
        return tuple(link for link in self.links if has_transport(link))


def read_surfaces(
    sources: Sources, table: dict[str, Any], descriptions: Mapping[str, Description]
) -> dict[str, Surface]:
    """The surfaces by name, each with its kind, its names of controls and how these act; what is wrong is noted."""
    surfaces: dict[str, Surface] = {}
    claimed: dict[str, str] = {}
    for name, entry in table.items():
        described = descriptions.get(name)
        kind = entry.get("kind") if isinstance(entry, dict) else None
        kind = kind if isinstance(kind, str) and kind in KINDS else described.kind if described else "other"
        if described is not None and kind != described.kind:
            message = f"the description says that this is a {described.kind}"
            sources.add(("surface", name, "kind"), message, expected=f"{described.kind}, or no kind at all")
        written = {kernel: own for kernel, own in table_of(entry, "names").items() if isinstance(own, str)}
        others = {} if described is None else described.names
        _check_names(
            sources,
            name,
            kind,
            table_of(entry, "names"),
            others,
            _known(kind, entry, described),
        )
        names = {own: kernel for own, kernel in others.items() if kernel not in written}
        names |= {own: kernel for kernel, own in written.items()}
        passes = isinstance(entry, dict) and entry.get("unbound") != "drop" and entry.get("exclusive") is not False
        debounce = entry.get("debounce") if isinstance(entry, dict) else None
        seconds = read_time(sources, ("surface", name, "debounce"), debounce, *LIMITS["debounce"])
        read_time(
            sources, ("surface", name, "network", "latest"), table_of(entry, "network").get("latest"), *LIMITS["latest"]
        )
        shapes = ({} if described is None else described.shapes) | _sorts(sources, name, kind, names, entry)
        surface = Surface(name, kind, passes, names, seconds or 0.0, shapes)
        conditioning = read_conditioning(sources, surface, table_of(entry, "control"))
        surfaces[name] = structs.replace(surface, conditioning=conditioning) if conditioning else surface
        for colour in table_of(entry, "colours"):
            if re.fullmatch("#[0-9a-fA-F]{6}", colour) is None:
                path = ("surface", name, "colours", colour)
                sources.add(path, f"`{colour}` is no colour", expected="#rrggbb", at_key=True)
        links = entry.get("links", []) if isinstance(entry, dict) else []
        for number, link in enumerate(links if isinstance(links, list) else []):
            if not isinstance(link, str):
                continue
            if link in claimed:
                whose = f"surface `{claimed[link]}`" if claimed[link] != name else "this surface"
                sources.add(("surface", name, "links", number), f"`{link}` already belongs to {whose}")
            claimed.setdefault(link, name)
    return surfaces


def described_by(sources: Sources, surface: str, entry: Any) -> Description | None:
    """The description that a surface names; None if it names none, or none that can be read (which is noted)."""
    wanted = entry.get("description") if isinstance(entry, dict) else None
    if not isinstance(wanted, str):
        return None
    catalogue = Catalogue.usual(sources.folder)
    file = catalogue.path(wanted)
    if file is not None:
        sources.also(file)
    try:
        found = catalogue.get(wanted)
    except DeskError as error:
        sources.problems += error.problems
        return None
    if found is None:
        known = [name for name, _ in catalogue.paths()]
        expected = f"a file in the folder {FOLDER}, or one of {', '.join(known)}"
        path = ("surface", surface, "description")
        sources.add(path, f"there is no description `{wanted}`", expected=expected, nearest=nearest(wanted, known))
    return found


def _sorts(sources: Sources, surface: str, kind: str, names: Mapping[str, str], entry: Any) -> dict[str, Shape]:
    """How controls act of which the desk itself says so, by the kernel's names."""
    found: dict[str, Shape] = {}
    for name, one in table_of(entry, "control").items():
        sort = one.get("sort") if isinstance(one, dict) else None
        if not isinstance(sort, str):
            continue
        path = ("surface", surface, "control", name, "sort")
        control = names.get(name, name)
        known = can_be(kind, control)
        if sort in known:
            found[control] = SORTS[sort]
        elif not known:
            sources.add(path, f"what `{control}` is, its name says", expected="no `sort`", at_key=True)
        else:
            sources.add(
                path, f"`{control}` cannot be `{sort}`", expected=", ".join(known), nearest=nearest(sort, known)
            )
    return found


def wires(entry: Any, surface: Surface, described: Description | None) -> dict[str, dict[str, Any]]:
    """How the controls of a surface talk that is no kernel device, by the kernel's names: their sort, coding and bits, and
    whether they show the value that they drive."""
    found: dict[str, dict[str, Any]] = {
        spot.control: {"coding": spot.coding, "bits": spot.bits, "shows-value": spot.shows_value}
        for spot in (described.spots if described is not None else ())
    }
    for name, one in table_of(entry, "control").items():
        kernel = surface.kernel_name(name)
        if isinstance(one, dict) and kernel is not None:
            said = {key: one[key] for key in ("coding", "bits", "shows-value") if key in one}
            found[kernel] = found.get(kernel, {}) | said
    for control, shape in surface.shapes.items():
        found.setdefault(control, {})["sort"] = shape.name
    return {control: {key: value for key, value in one.items() if value} for control, one in found.items()}


def _known(kind: str, entry: Any, described: Description | None) -> frozenset[str]:
    """The controls of a surface by their usual names, but for those of MIDI's other channels."""
    declared = {name for name, one in table_of(entry, "control").items() if isinstance(one, dict) and "sort" in one}
    return KINDS[kind] | (described.shapes.keys() if described else frozenset()) | declared


def _check_names(
    sources: Sources, surface: str, kind: str, names: dict[str, Any], others: Mapping[str, str], known: frozenset[str]
) -> None:
    """`others` are the names that its description gives."""
    seen = {own: kernel for own, kernel in others.items() if kernel not in names}
    for kernel, own in names.items():
        path = ("surface", surface, "names", kernel)
        burst = burst_of(kernel)
        base = burst[0] if burst else kernel
        if base not in known and not has_control(kind, base):
            sources.add(path, f"a {kind} has no control `{kernel}`", at_key=True, nearest=nearest(kernel, known))
        if not isinstance(own, str):
            continue
        if own in seen:
            sources.add(path, f"`{own}` is already the name of `{seen[own]}`")
        elif names_another(kind, own) and own not in names:
            sources.add(path, f"`{own}` is another control of a {kind}", expected="a name of your own")
        seen.setdefault(own, kernel)
