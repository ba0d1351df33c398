"""The surfaces of a desk: their kinds, names and descriptions."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from msgspec import Struct, structs

from fenko.core.controls import KINDS, names_another
from fenko.core.descriptions import Description, burst_of
from fenko.core.plan import (
    Surface,
)
from fenko.core.words import nearest
from fenko.desk.descriptions import FOLDER, Catalogue
from fenko.desk.model import LIMITS
from fenko.desk.numbers import read_conditioning
from fenko.desk.problems import DeskError
from fenko.desk.sources import Sources
from fenko.desk.tables import table_of
from fenko.desk.times import read_time


class SurfaceLinks(Struct, frozen=True):
    """How to find a surface among what is plugged in, and whether to keep it from other programs."""

    links: tuple[str, ...]
    exclusive: bool
    description: str | None = None


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
        _check_names(sources, name, kind, table_of(entry, "names"), described)
        names = {} if described is None else described.names
        names = {own: kernel for own, kernel in names.items() if kernel not in written}
        names |= {own: kernel for kernel, own in written.items()}
        passes = isinstance(entry, dict) and entry.get("unbound") != "drop" and entry.get("exclusive") is not False
        debounce = entry.get("debounce") if isinstance(entry, dict) else None
        seconds = read_time(sources, ("surface", name, "debounce"), debounce, *LIMITS["debounce"])
        shapes = {} if described is None else described.shapes
        surface = Surface(name, kind, passes, names, seconds or 0.0, shapes)
        conditioning = read_conditioning(sources, surface, table_of(entry, "control"))
        surfaces[name] = structs.replace(surface, conditioning=conditioning) if conditioning else surface
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


def _check_names(
    sources: Sources, surface: str, kind: str, names: dict[str, Any], described: Description | None
) -> None:
    known = KINDS[kind] | (described.shapes.keys() if described else frozenset())
    seen = {own: kernel for own, kernel in described.names.items() if kernel not in names} if described else {}
    for kernel, own in names.items():
        path = ("surface", surface, "names", kernel)
        burst = burst_of(kernel)
        if (burst[0] if burst else kernel) not in known:
            sources.add(path, f"a {kind} has no control `{kernel}`", at_key=True, nearest=nearest(kernel, known))
        if not isinstance(own, str):
            continue
        if own in seen:
            sources.add(path, f"`{own}` is already the name of `{seen[own]}`")
        elif names_another(kind, own) and own not in names:
            sources.add(path, f"`{own}` is another control of a {kind}", expected="a name of your own")
        seen.setdefault(own, kernel)
