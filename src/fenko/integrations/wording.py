"""Words that the phrases of several outputs have in common: `of NAME`, `to NAME`, numbers within limits."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from msgspec import structs

from fenko.core.reader import NAME, PhraseError, Reader, in_quotes
from fenko.core.registration import Argument, Said, Surrounding, Unsettled
from fenko.core.value import Value
from fenko.core.words import nearest

_WHOLE = re.compile(r"\d{1,9}")


def read_of(reader: Reader, verb: str) -> str:
    """`of NAME`, where NAME is a word or a text in quotes; empty if that does not follow."""
    if reader.peek() != "of":
        return ""
    reader.word()
    if reader.peek()[:1] in ('"', "'"):
        return reader.quoted(f"{verb} of")
    return reader.argument(f"{verb} of", "a name")[0]


def write_of(name: str) -> str:
    """The same, written."""
    if not name:
        return ""
    plain = not re.search(r"[\s\"'\\]", name) and name.isprintable()
    return f"of {name if plain else in_quotes(name)}"


OF = Argument("[of NAME]", read_of, write_of, ("", "front", "hushdesk", "Two words", "*radio*"))


def read_to(reader: Reader, verb: str, preposition: str = "to") -> str:
    """`to NAME`, where NAME is that of a table; empty if that does not follow."""
    if reader.peek() != preposition:
        return ""
    reader.word()
    word, start = reader.argument(f"{verb} … {preposition}", "a name")
    if NAME.fullmatch(word) is None:
        raise reader.error(f"`{word}` cannot be a name", word, start)
    return word


def write_to(name: str) -> str:
    """The same, written."""
    return f"to {name}" if name else ""


def whole_number(reader: Reader, verb: str, what: str, least: int, most: int) -> int:
    """A whole number within limits."""
    word, start = reader.argument(verb, f"{what}: {least} to {most}")
    if _WHOLE.fullmatch(word) is None or not least <= int(word) <= most:
        raise PhraseError(f"`{word}` is no {what}: {least} to {most}", start, len(word))
    return int(word)


def the_one(around: Surrounding, table: str, name: str, needed: str) -> str:
    """The name of a table's entry: this, or the first. Raises Unsettled if there is none."""
    known = around.table(table)
    if name in known:
        return name
    if name:
        raise Unsettled(f"unknown {table} `{name}`", name, ", ".join(known) or needed, nearest(name, known))
    if not known:
        raise Unsettled(f"this desk says nothing of where that goes: it has no [{table}.NAME]", "", needed)
    return next(iter(known))


def entry(tables: Mapping[str, Any], table: str, name: str) -> dict[str, Any]:
    """One entry of a table, as it is written; empty if there is none."""
    found = tables.get(table)
    one = found.get(name) if isinstance(found, dict) else None
    return one if isinstance(one, dict) else {}


def range_of(tables: Mapping[str, Any], table: str, name: str, of: str) -> list[Any] | None:
    """The two ends that the `range` of a table's entry gives something; None where it gives none."""
    known = entry(tables, table, name).get("range")
    ends = known.get(of) if isinstance(known, dict) else None
    good = isinstance(ends, list) and len(ends) == 2 and all(isinstance(end, int | float) for end in ends)
    return ends if good else None


def ranged(name: str, ends: list[Any] | None, usual: tuple[float, float]) -> Value:
    """A number between these ends; where there are none, or they are no range, free, and `usual` is what `%` means."""
    if ends is None or not ends[0] < ends[1]:
        return Value(name, *usual, free=True)
    return Value(name, float(ends[0]), float(ends[1]), float(ends[0]))


def check_range(around: Surrounding, table: str, name: str, of: str) -> None:
    """Raises Unsettled if the ends that an entry gives something are no range."""
    ends = range_of(around.tables, table, name, of)
    if ends is not None and not ends[0] < ends[1]:
        raise Unsettled(f"the range of `{of}` in [{table}.{name}] is none: {ends}", of, "the least first")


def filled(said: Said, **fields: Any) -> Said:
    """The same with other fields."""
    return structs.replace(said, **fields)
