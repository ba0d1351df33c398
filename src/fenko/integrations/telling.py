"""What a desk tells others of its controls and values: which, by patterns, and that a person has to agree to it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from fnmatch import fnmatchcase
from typing import Annotated, Any

from msgspec import Meta

Tells = Annotated[
    list[str],
    Meta(
        min_length=1,
        description="What it is told of: controls as SURFACE.CONTROL and values as `value NAME`; `*` and `?` match.",
        examples=['["pad.*", "value exposure"]'],
    ),
]


def tells_of(tables: Mapping[str, Any], table: str) -> dict[str, list[str]]:
    """The patterns of each entry of a table that is told anything."""
    entries = tables.get(table)
    found = {}
    for name, entry in entries.items() if isinstance(entries, dict) else ():
        patterns = entry.get("tells") if isinstance(entry, dict) else None
        if isinstance(patterns, list) and patterns:
            found[name] = [str(pattern) for pattern in patterns]
    return found


def is_told(patterns: Iterable[str], what: str) -> bool:
    """Whether it is meant by one of these."""
    return any(fnmatchcase(what, pattern) for pattern in patterns)


def asked(tables: Mapping[str, Any], table: str, where: str) -> Iterator[tuple[tuple[str | int, ...], str]]:
    """What a person has to agree to, each with its place: whoever is told what hands do on a keypad knows what is typed there.
    `where` is the setting that says where it goes."""
    for name, patterns in tells_of(tables, table).items():
        yield (table, name, "tells"), told(tables, table, name, where, patterns)


def told(tables: Mapping[str, Any], table: str, name: str, where: str, patterns: Iterable[str]) -> str:
    """The same of one entry, in words."""
    return f"tells {name} ({tables[table][name].get(where)}) what hands do: {', '.join(patterns)}"


def risk(effect: tuple[Any, ...], name: str, tables: Mapping[str, Any], table: str, where: str) -> str:
    """The same of an effect, if it is one of telling."""
    patterns = tells_of(tables, table).get(name)
    return told(tables, table, name, where, patterns) if effect[0] == "tell" and patterns else ""
