"""From a folder to a desk that can run: read, check everything, and compile the plan."""

from __future__ import annotations

import gc
from collections.abc import Mapping
from pathlib import Path

from msgspec import Struct

from fenko.core.phrase import Phrase
from fenko.core.plan import (
    BASE,
    Cell,
    Plan,
    Timing,
)
from fenko.core.registration import Surrounding
from fenko.desk.apps import App, read_apps
from fenko.desk.bindings import MOST_UNKNOWN, BindingReader
from fenko.desk.conditions import read_conditions
from fenko.desk.expectations import Expectation, read_expectations
from fenko.desk.locate import KeyPath
from fenko.desk.model import DeskTimingFile, OutputFile, desk_file
from fenko.desk.numbers import read_values
from fenko.desk.problems import DeskError, Problem
from fenko.desk.profiles import read_profiles
from fenko.desk.sources import Sources
from fenko.desk.structure import read
from fenko.desk.surfaces import SurfaceLinks, described_by, read_surfaces, wires
from fenko.desk.tables import table_of
from fenko.desk.times import read_times
from fenko.integrations import load
from fenko.system.files import real_path

BROUGHT = load()
"""Outputs have to be known before a phrase is read. What is wrong with those that others ship."""


class Desk(Struct, frozen=True):
    """A desk without a fault."""

    folder: Path
    name: str
    plan: Plan
    links: dict[str, SurfaceLinks]
    keys: str
    layout: str | None
    phrases: list[tuple[KeyPath, Phrase]]
    """Every phrase of the desk, with its place in the files."""
    places: dict[tuple[str, str, str], KeyPath]
    """Where each binding stands, by its level, cell and gesture."""
    apps: dict[str, App]
    expectations: tuple[Expectation, ...]
    sources: Sources

    def where(self, cell: Cell, gesture: str) -> str:
        """The file and line in which a binding stands; empty if it stands nowhere."""
        return self.sources.where(self.places.get((cell.profile, cell.address, gesture), ()))


def load_desk(folder: Path, instead: Mapping[Path, str] | None = None) -> Desk:
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
    file = read(sources, (), data, desk_file())
    described = {
        name: found
        for name, entry in table_of(data, "surface").items()
        if (found := described_by(sources, name, entry)) is not None
    }
    surfaces = read_surfaces(sources, table_of(data, "surface"), described)
    timing = Timing(**read_times(sources, ("timing",), table_of(data, "timing"), DeskTimingFile, checked=True))
    surface_times = {
        name: read_times(sources, ("surface", name, "timing"), table_of(entry, "timing"), checked=True)
        for name, entry in table_of(data, "surface").items()
    }
    apps = dict(read_apps(sources, table_of(data, "app")))
    lists = {name: app.shortcuts for name, app in apps.items() if app.shortcuts is not None}
    names = {*table_of(data, "profile"), BASE}
    broken = frozenset(
        name for name, entry in table_of(data, "app").items()
        if isinstance(entry, dict) and "shortcuts" in entry and (name not in lists or lists[name].broken)
    )  # fmt: skip
    focus = table_of(data, "focus")
    ignored = tuple(read_conditions(sources, ("focus", "ignore"), focus.get("ignore"), surfaces))
    values = read_values(sources, table_of(data, "value"))
    silent = {name: description.silent for name, description in described.items()}
    around = Surrounding(sources.folder, data)
    reader = BindingReader(sources, surfaces, names, timing, surface_times, lists, around, broken, silent, values)
    profiles, watched = read_profiles(sources, table_of(data, "profile"), surfaces, reader)
    if reader.unknown > MOST_UNKNOWN:
        sources.add(("profile",), f"{reader.unknown - MOST_UNKNOWN} more controls are unknown", at_key=True)
    expectations = tuple(read_expectations(sources, data.get("expect"), surfaces, names, lists, broken, values))
    if file is None or sources.problems:
        problems = sources.problems if known_before == 0 else _without_echoes(sources.problems)
        raise DeskError(sorted(set(problems)), sources.digests)
    output = file.output or OutputFile()
    entries = file.surface or {}
    return Desk(
        folder=sources.folder,
        name=file.name or real_path(sources.folder).name,
        plan=Plan(surfaces, profiles, timing, watched, reader.values, ignored, focus.get("by-hand") == "until-focus"),
        links={
            name: SurfaceLinks(
                tuple(entry.links or ()),
                entry.exclusive is not False,
                entry.description or None,
                wires(table_of(data, "surface").get(name), surfaces[name], described.get(name)),
            )
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
