"""From a folder to a desk that can run: read, check everything, and compile the plan."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path as FilePath
from typing import Any

from msgspec import Struct

from fenko.core.controls import KINDS, names_another
from fenko.core.descriptions import Description
from fenko.core.phrase import PROFILE_WORDS, Phrase
from fenko.core.plan import (
    BASE,
    Condition,
    Level,
    Plan,
    Profile,
    Surface,
    Timing,
    compile_pattern,
    compile_profile,
)
from fenko.core.words import nearest, parse_time
from fenko.desk.bindings import BindingReader
from fenko.desk.descriptions import FOLDER, Catalogue
from fenko.desk.locate import Path
from fenko.desk.model import TIMING_RANGES, DeskFile, OutputFile, When
from fenko.desk.problems import DeskError, Problem
from fenko.desk.sources import Sources
from fenko.desk.structure import read


class SurfaceLinks(Struct, frozen=True):
    """How to find a surface among what is plugged in, and whether to keep it from other programs."""

    links: tuple[str, ...]
    exclusive: bool
    description: str | None = None


class Desk(Struct, frozen=True):
    """A desk without a fault."""

    folder: FilePath
    name: str
    plan: Plan
    links: dict[str, SurfaceLinks]
    keys: str
    layout: str | None
    phrases: list[tuple[Path, Phrase]]
    """Every phrase of the desk, with its place in the files."""
    sources: Sources


def load_desk(folder: FilePath) -> Desk:
    """The desk in `folder`. Raises DeskError with every problem of every file at once."""
    sources = Sources(folder)
    sources.read()
    data = sources.data
    known_before = len(sources.problems)
    file = read(sources, (), data, DeskFile)
    surfaces = _surfaces(sources, _table(data, "surface"))
    timing = _timing(sources, _table(data, "timing"))
    reader = BindingReader(sources, surfaces, {*_table(data, "profile"), BASE})
    profiles = _profiles(sources, _table(data, "profile"), surfaces, reader)
    if file is None or sources.problems:
        problems = sources.problems if known_before == 0 else _without_echoes(sources.problems)
        raise DeskError(sorted(set(problems)))
    output = file.output or OutputFile()
    entries = file.surface or {}
    return Desk(
        folder=sources.folder,
        name=file.name or sources.folder.resolve().name,
        plan=Plan(surfaces, profiles, timing),
        links={
            name: SurfaceLinks(tuple(entry.links or ()), entry.exclusive is not False, entry.description or None)
            for name, entry in entries.items()
        },
        keys=output.keys or "auto",
        layout=output.layout or None,
        phrases=reader.phrases,
        sources=sources,
    )


def _without_echoes(problems: list[Problem]) -> list[Problem]:
    """Where a file could not be read, names that it might have brought are not called unknown."""
    return [problem for problem in problems if not problem.message.startswith(("unknown surface", "unknown profile"))]


def _table(data: Any, key: str) -> dict[str, Any]:
    """A table of raw data; empty where it is missing, or is no table (which has been noted)."""
    value = data.get(key) if isinstance(data, dict) else None
    return value if isinstance(value, dict) else {}


def _surfaces(sources: Sources, table: dict[str, Any]) -> dict[str, Surface]:
    surfaces: dict[str, Surface] = {}
    claimed: dict[str, str] = {}
    for name, entry in table.items():
        described = _described(sources, name, entry)
        kind = entry.get("kind") if isinstance(entry, dict) else None
        kind = kind if isinstance(kind, str) and kind in KINDS else described.kind if described else "other"
        if described is not None and kind != described.kind:
            message = f"the description says that this is a {described.kind}"
            sources.add(("surface", name, "kind"), message, expected=f"{described.kind}, or no kind at all")
        written = {kernel: own for kernel, own in _table(entry, "names").items() if isinstance(own, str)}
        _check_names(sources, name, kind, _table(entry, "names"), described)
        names = {} if described is None else described.names
        names = {own: kernel for own, kernel in names.items() if kernel not in written}
        names |= {own: kernel for kernel, own in written.items()}
        passes = isinstance(entry, dict) and entry.get("unbound") != "drop" and entry.get("exclusive") is not False
        surfaces[name] = Surface(name, kind, passes, names)
        links = entry.get("links", []) if isinstance(entry, dict) else []
        for number, link in enumerate(links if isinstance(links, list) else []):
            if not isinstance(link, str):
                continue
            if link in claimed:
                whose = f"surface `{claimed[link]}`" if claimed[link] != name else "this surface"
                sources.add(("surface", name, "links", number), f"`{link}` already belongs to {whose}")
            claimed.setdefault(link, name)
    return surfaces


def _described(sources: Sources, surface: str, entry: Any) -> Description | None:
    """The description that a surface names; None if it names none, or none that can be read (which is noted)."""
    wanted = entry.get("description") if isinstance(entry, dict) else None
    if not isinstance(wanted, str):
        return None
    catalogue = Catalogue.usual(sources.folder)
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
    known = KINDS[kind]
    seen = {own: kernel for own, kernel in described.names.items() if kernel not in names} if described else {}
    for kernel, own in names.items():
        path = ("surface", surface, "names", kernel)
        if kernel not in known:
            sources.add(path, f"a {kind} has no control `{kernel}`", at_key=True, nearest=nearest(kernel, known))
        if not isinstance(own, str):
            continue
        if own in seen:
            sources.add(path, f"`{own}` is already the name of `{seen[own]}`")
        elif names_another(kind, own) and own not in names:
            sources.add(path, f"`{own}` is another control of a {kind}", expected="a name of your own")
        seen.setdefault(own, kernel)


def _timing(sources: Sources, table: dict[str, Any]) -> Timing:
    times: dict[str, float] = {}
    for name, (least, most) in TIMING_RANGES.items():
        text = table.get(name)
        if not isinstance(text, str):
            continue
        try:
            times[name] = parse_time(text)
        except ValueError:
            continue  # noted with the structure
        if not least <= times[name] <= most:
            sources.add(("timing", name), f"`{text}` is out of range", expected=f"{least:g}s to {most:g}s")
    return Timing(**times)


def _profiles(
    sources: Sources, table: dict[str, Any], surfaces: dict[str, Surface], reader: BindingReader
) -> dict[str, Profile]:
    levels: dict[str, Level] = {BASE: Level(BASE, {})}
    conditions: dict[str, tuple[Condition, ...]] = {}
    for name, entry in table.items():
        path = ("profile", name)
        if name in PROFILE_WORDS:
            sources.add(path, f"`{name}` has a meaning of its own in phrases", at_key=True, expected="another name")
        if name == BASE:
            for key in {"when", "extends"} & entry.keys() if isinstance(entry, dict) else ():
                sources.add((*path, key), f"`base` lies under every profile and takes no `{key}`", at_key=True)
        levels[name] = reader.level(name, _table(entry, "on"))
        conditions[name] = tuple(_conditions(sources, name, entry))
    compiled: dict[str, Profile] = {}
    for name in levels:
        chain = [levels[link] for link in _chain(sources, table, name)]
        compiled[name] = compile_profile(name, conditions.get(name, ()), chain, surfaces)
    return compiled


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


def _conditions(sources: Sources, profile: str, entry: Any) -> Iterator[Condition]:
    when = entry.get("when") if isinstance(entry, dict) else None
    several = isinstance(when, list)
    for number, one in enumerate(when if isinstance(when, list) else [when]):
        path = ("profile", profile, "when", number) if several else ("profile", profile, "when")
        if not isinstance(one, dict):
            continue
        if not one:
            sources.add(path, "`when` without a condition never holds", expected=", ".join(When.__struct_fields__))
        patterns: dict[str, tuple[re.Pattern[str], ...]] = {}
        for field, value in one.items():
            texts = value if isinstance(value, list) else [value]
            found = []
            for text in texts:
                try:
                    if isinstance(text, str):
                        found.append(compile_pattern(text))
                except (re.error, RecursionError, OverflowError) as why:
                    sources.add((*path, field), f"`{text}` is not a regular expression: {why}")
            if not texts:
                sources.add((*path, field), "an empty list never matches")
            patterns[field] = tuple(found)
        if patterns and all(field in When.__struct_fields__ for field in patterns):
            yield Condition(patterns)
