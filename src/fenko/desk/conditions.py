"""What has to be so for a profile to come by itself, and which windows do not count."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from fenko.core.circumstances import AROUND_FIELDS, FOCUS_FIELDS, Condition
from fenko.core.patterns import Pattern, Wildcard
from fenko.core.plan import Surface
from fenko.core.words import nearest
from fenko.desk.locate import KeyPath
from fenko.desk.sources import Sources
from fenko.desk.tables import read_patterns, texts_of

DENIED = "not"


def read_conditions(
    sources: Sources, path: KeyPath, value: Any, surfaces: Mapping[str, Surface]
) -> Iterator[Condition]:
    """The conditions that stand at `path`: one, or a list of which one has to hold. A faulty one is noted."""
    for number, one in enumerate(value if isinstance(value, list) else [value]):
        place = (*path, number) if isinstance(value, list) else path
        if not isinstance(one, dict):
            continue
        if not one:
            expected = ", ".join((*FOCUS_FIELDS, *AROUND_FIELDS))
            sources.add(place, f"`{path[-1]}` without a condition never holds", expected=expected)
        patterns: dict[str, tuple[Pattern, ...]] = {}
        denied: tuple[Condition, ...] = ()
        for field, texts in one.items():
            if field == DENIED:
                denied = tuple(read_conditions(sources, (*place, field), texts, surfaces))
            elif field == "surface":
                patterns[field] = tuple(_surfaces(sources, (*place, field), texts, surfaces))
            elif field in FOCUS_FIELDS or field in AROUND_FIELDS:
                listed = texts if isinstance(texts, list) else [texts]
                patterns[field] = tuple(read_patterns(sources, (*place, field), listed))
        if patterns or denied:
            yield Condition(patterns, denied)


def _surfaces(sources: Sources, path: KeyPath, value: Any, surfaces: Mapping[str, Surface]) -> Iterator[Pattern]:
    if value == []:
        sources.add(path, "an empty list never matches")
    for name in texts_of(value):
        if name in surfaces:
            yield Wildcard(name)
        else:
            sources.add(path, f"the desk has no surface `{name}`", nearest=nearest(name, surfaces))
