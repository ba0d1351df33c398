"""Raw tables of desk files: what is in them, as far as they have the right form."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from fenko.core.patterns import BadPattern, Pattern, compile_pattern
from fenko.desk.locate import KeyPath
from fenko.desk.sources import Sources


def table_of(data: Any, key: str) -> dict[str, Any]:
    """A table of raw data; empty where it is missing, or is no table (which has been noted)."""
    value = data.get(key) if isinstance(data, dict) else None
    return value if isinstance(value, dict) else {}


def texts_of(value: Any) -> list[str]:
    """The texts of a setting that is one or a list of them."""
    return [text for text in (value if isinstance(value, list) else [value]) if isinstance(text, str)]


def read_patterns(sources: Sources, path: KeyPath, texts: list[Any]) -> Iterator[Pattern]:
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
