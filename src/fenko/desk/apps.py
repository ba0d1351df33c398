"""The programs that a desk works with, and their shortcut lists."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from msgspec import Struct

from fenko.core.patterns import Pattern, sample_of
from fenko.core.words import nearest
from fenko.desk.locate import KeyPath
from fenko.desk.shortcuts import ShortcutList, read_list
from fenko.desk.sources import Sources
from fenko.desk.tables import read_patterns, texts_of
from fenko.system.files import real_path


class App(Struct, frozen=True):
    """A program that the desk works with: the patterns of its app id, and its shortcut list if it has one."""

    name: str
    patterns: tuple[Pattern, ...]
    samples: tuple[str, ...]
    """App ids that fit."""
    shortcuts: ShortcutList | None = None


def read_apps(sources: Sources, table: dict[str, Any]) -> Iterator[tuple[str, App]]:
    """The programs, with their shortcut lists."""
    for name, entry in table.items():
        path: KeyPath = ("app", name)
        if not isinstance(entry, dict):
            continue
        texts = entry.get("app", name)
        patterns = tuple(read_patterns(sources, (*path, "app"), texts if isinstance(texts, list) else [texts]))
        wanted = entry.get("shortcuts")
        shortcuts = None
        if isinstance(wanted, str):
            file = sources.folder / wanted
            if "\0" in wanted or not real_path(file).is_relative_to(real_path(sources.folder)):
                sources.add((*path, "shortcuts"), f"`{wanted}` lies outside the desk's folder")
            elif not file.is_file():
                sources.also(file)
                hint = nearest(wanted, (one.name for one in sources.folder.glob("*.csv")))
                sources.add((*path, "shortcuts"), f"there is no file `{wanted}` in {sources.folder}", nearest=hint)
            else:
                sources.also(file)  # before it is read: one that changes in between is seen to have changed
                shortcuts, problems = read_list(name, file)
                sources.problems += problems
        samples = tuple(filter(None, map(sample_of, texts_of(texts))))
        yield name, App(name, patterns, samples, shortcuts)
