"""From a folder to a desk that can run: read, check everything, and compile the plan."""

from __future__ import annotations

import gc
from collections.abc import Iterator, Mapping
from pathlib import Path as FilePath
from typing import Any

from msgspec import Struct

from fenko.core.controls import KINDS, names_another
from fenko.core.descriptions import Description, burst_of
from fenko.core.patterns import BadPattern, Pattern, compile_pattern, sample_of
from fenko.core.phrase import Phrase
from fenko.core.plan import (
    BASE,
    Cell,
    Condition,
    Layer,
    Level,
    Plan,
    Profile,
    Surface,
    Timing,
)
from fenko.core.verbs.desk import LAYER_MODES, PROFILE_WORDS
from fenko.core.words import nearest
from fenko.desk.bindings import MOST_UNKNOWN, BindingReader, Scope, read_time, read_times
from fenko.desk.descriptions import FOLDER, Catalogue
from fenko.desk.expectations import Expectation, read_expectations
from fenko.desk.locate import Path
from fenko.desk.model import LIMITS, DeskFile, DeskTimingFile, OutputFile, When
from fenko.desk.problems import DeskError, Problem
from fenko.desk.shortcuts import ShortcutList, read_list
from fenko.desk.sources import Sources
from fenko.desk.structure import read
from fenko.system.files import real_path


class SurfaceLinks(Struct, frozen=True):
    """How to find a surface among what is plugged in, and whether to keep it from other programs."""

    links: tuple[str, ...]
    exclusive: bool
    description: str | None = None


class App(Struct, frozen=True):
    """A program that the desk works with: the patterns of its app id, and its shortcut list if it has one."""

    name: str
    patterns: tuple[Pattern, ...]
    samples: tuple[str, ...]
    """App ids that fit."""
    shortcuts: ShortcutList | None = None


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
    places: dict[tuple[str, str, str], Path]
    """Where each binding stands, by its level, cell and gesture."""
    apps: dict[str, App]
    expectations: tuple[Expectation, ...]
    sources: Sources

    def where(self, cell: Cell, gesture: str) -> str:
        """The file and line in which a binding stands; empty if it stands nowhere."""
        return self.sources.where(self.places.get((cell.profile, cell.address, gesture), ()))


def load_desk(folder: FilePath, instead: Mapping[FilePath, str] | None = None) -> Desk:
    """The desk in `folder`, with these texts `instead` of some files. Raises DeskError with every problem of every file
    at once."""
    collected = gc.isenabled()
    # Everything that is made here stays; looking for rubbish among it again and again takes a quarter of the time.
    gc.disable()
    try:
        return _load(Sources(folder, instead))
    finally:
        gc.freeze()
        if collected:
            gc.enable()


def _load(sources: Sources) -> Desk:
    sources.read()
    data = sources.data
    known_before = len(sources.problems)
    file = read(sources, (), data, DeskFile)
    described = {
        name: found
        for name, entry in _table(data, "surface").items()
        if (found := _described(sources, name, entry)) is not None
    }
    surfaces = _surfaces(sources, _table(data, "surface"), described)
    timing = Timing(**read_times(sources, ("timing",), _table(data, "timing"), DeskTimingFile, checked=True))
    surface_times = {
        name: read_times(sources, ("surface", name, "timing"), _table(entry, "timing"), checked=True)
        for name, entry in _table(data, "surface").items()
    }
    apps = dict(_apps(sources, _table(data, "app")))
    lists = {name: app.shortcuts for name, app in apps.items() if app.shortcuts is not None}
    names = {*_table(data, "profile"), BASE}
    broken = frozenset(
        name for name, entry in _table(data, "app").items()
        if isinstance(entry, dict) and "shortcuts" in entry and (name not in lists or lists[name].broken)
    )  # fmt: skip
    silent = {name: description.silent for name, description in described.items()}
    reader = BindingReader(sources, surfaces, names, timing, surface_times, lists, broken, silent)
    profiles, watched = _profiles(sources, _table(data, "profile"), surfaces, reader)
    if reader.unknown > MOST_UNKNOWN:
        sources.add(("profile",), f"{reader.unknown - MOST_UNKNOWN} more controls are unknown", at_key=True)
    expectations = tuple(read_expectations(sources, data.get("expect"), surfaces, names, lists, broken))
    if file is None or sources.problems:
        problems = sources.problems if known_before == 0 else _without_echoes(sources.problems)
        raise DeskError(sorted(set(problems)))
    output = file.output or OutputFile()
    entries = file.surface or {}
    return Desk(
        folder=sources.folder,
        name=file.name or real_path(sources.folder).name,
        plan=Plan(surfaces, profiles, timing, watched),
        links={
            name: SurfaceLinks(tuple(entry.links or ()), entry.exclusive is not False, entry.description or None)
            for name, entry in entries.items()
        },
        keys=output.keys or "auto",
        layout=output.layout or None,
        phrases=reader.phrases,
        places=reader.places,
        apps=apps,
        expectations=expectations,
        sources=sources,
    )


def _without_echoes(problems: list[Problem]) -> list[Problem]:
    """Where a file could not be read, names that it might have brought are not called unknown."""
    return [problem for problem in problems if not problem.message.startswith(("unknown surface", "unknown profile"))]


def _table(data: Any, key: str) -> dict[str, Any]:
    """A table of raw data; empty where it is missing, or is no table (which has been noted)."""
    value = data.get(key) if isinstance(data, dict) else None
    return value if isinstance(value, dict) else {}


def _apps(sources: Sources, table: dict[str, Any]) -> Iterator[tuple[str, App]]:
    """The programs, with their shortcut lists."""
    for name, entry in table.items():
        path: Path = ("app", name)
        if not isinstance(entry, dict):
            continue
        texts = entry.get("app", name)
        patterns = tuple(_patterns(sources, (*path, "app"), texts if isinstance(texts, list) else [texts]))
        wanted = entry.get("shortcuts")
        shortcuts = None
        if isinstance(wanted, str):
            file = sources.folder / wanted
            if "\0" in wanted or not real_path(file).is_relative_to(real_path(sources.folder)):
                sources.add((*path, "shortcuts"), f"`{wanted}` lies outside the desk's folder")
            elif not file.is_file():
                hint = nearest(wanted, (one.name for one in sources.folder.glob("*.csv")))
                sources.add((*path, "shortcuts"), f"there is no file `{wanted}` in {sources.folder}", nearest=hint)
            else:
                shortcuts, problems = read_list(name, file)
                sources.problems += problems
        samples = tuple(filter(None, map(sample_of, _texts(texts))))
        yield name, App(name, patterns, samples, shortcuts)


def _texts(value: Any) -> list[str]:
    """The texts of a setting that is one or a list of them."""
    return [text for text in (value if isinstance(value, list) else [value]) if isinstance(text, str)]


def _patterns(sources: Sources, path: Path, texts: list[Any]) -> Iterator[Pattern]:
    """The patterns that these texts write; a faulty one is noted."""
    for text in texts:
        try:
            if text == "":
                sources.add(path, "an empty text never matches", expected="a text, or `*` for any")
            elif isinstance(text, str):
                yield compile_pattern(text)
        except BadPattern as why:
            sources.add(path, f"`{text}` is not a regular expression that Fenko can use: {why}")
    if not texts:
        sources.add(path, "an empty list never matches")


def _surfaces(sources: Sources, table: dict[str, Any], descriptions: Mapping[str, Description]) -> dict[str, Surface]:
    surfaces: dict[str, Surface] = {}
    claimed: dict[str, str] = {}
    for name, entry in table.items():
        described = descriptions.get(name)
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
        debounce = entry.get("debounce") if isinstance(entry, dict) else None
        seconds = read_time(sources, ("surface", name, "debounce"), debounce, *LIMITS["debounce"])
        shapes = {} if described is None else described.shapes
        surfaces[name] = Surface(name, kind, passes, names, seconds or 0.0, shapes)
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


def _profiles(
    sources: Sources, table: dict[str, Any], surfaces: dict[str, Surface], reader: BindingReader
) -> tuple[dict[str, Profile], frozenset[str]]:
    """All profiles, and the cells that the `while` of a layer names."""
    chains = {name: _chain(sources, table, name) for name in {BASE: None, **table}}
    times = {
        name: read_times(sources, ("profile", name, "timing"), _table(entry, "timing"), checked=True)
        for name, entry in table.items()
    }
    levels: dict[str, Level] = {BASE: Level(BASE, {})}
    layers: dict[str, dict[str, tuple[Level, tuple[str, ...] | None]]] = {}
    conditions: dict[str, tuple[Condition, ...]] = {}
    for name, entry in table.items():
        path = ("profile", name)
        if name in PROFILE_WORDS:
            sources.add(path, f"`{name}` has a meaning of its own in phrases", at_key=True, expected="another name")
        if name == BASE:
            for key in {"when", "extends"} & entry.keys() if isinstance(entry, dict) else ():
                sources.add((*path, key), f"`base` lies under every profile and takes no `{key}`", at_key=True)
        known = frozenset(layer for link in chains[name] for layer in _table(table.get(link), "layer"))
        closer = tuple(times[link] for link in chains[name] if link in times)
        levels[name] = reader.level(Scope(name, path, known, closer), _table(entry, "on"))
        layers[name] = {}
        for layer, layer_entry in _table(entry, "layer").items():
            place = (*path, "layer", layer)
            if layer in LAYER_MODES:
                sources.add(
                    place, f"`{layer}` has a meaning of its own in phrases", at_key=True, expected="another name"
                )
            scope = Scope(f"{name}/{layer}", place, known, closer)
            level = reader.level(scope, _table(layer_entry, "on"))
            layers[name][layer] = (level, _while(sources, (*place, "while"), layer_entry, surfaces))
        conditions[name] = tuple(_conditions(sources, name, entry))
    stacked = {name: _stacked(layers, chain) for name, chain in chains.items()}
    watched = frozenset(
        held for own in stacked.values() for layer in own.values() for held in layer.held if "." in held
    )
    compiled = {
        name: Profile(name, conditions.get(name, ()), tuple(levels[link] for link in chains[name]), stacked[name])
        for name in levels
    }
    return compiled, watched


def _stacked(layers: dict[str, dict[str, tuple[Level, tuple[str, ...] | None]]], chain: list[str]) -> dict[str, Layer]:
    """The layers of a profile: of one that several levels define, the highest lies on top and says when it is on."""
    found: dict[str, Layer] = {}
    for link in chain:
        for name, (level, held) in layers.get(link, {}).items():
            below = found.get(name, Layer(()))
            found[name] = Layer((*below.levels, level), below.held if held is None else held)
    return found


_WHILE_MODIFIERS = ("ctrl", "alt", "shift", "super")


def _while(sources: Sources, path: Path, entry: Any, surfaces: dict[str, Surface]) -> tuple[str, ...] | None:
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


def _conditions(sources: Sources, profile: str, entry: Any) -> Iterator[Condition]:
    when = entry.get("when") if isinstance(entry, dict) else None
    several = isinstance(when, list)
    for number, one in enumerate(when if isinstance(when, list) else [when]):
        path = ("profile", profile, "when", number) if several else ("profile", profile, "when")
        if not isinstance(one, dict):
            continue
        if not one:
            sources.add(path, "`when` without a condition never holds", expected=", ".join(When.__struct_fields__))
        patterns: dict[str, tuple[Pattern, ...]] = {}
        for field, value in one.items():
            texts = value if isinstance(value, list) else [value]
            patterns[field] = tuple(_patterns(sources, (*path, field), texts))
        if patterns and all(field in When.__struct_fields__ for field in patterns):
            yield Condition(patterns)
