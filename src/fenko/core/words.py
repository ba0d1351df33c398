"""Small shared words: times as people write them, and the nearest known name to a misspelt one."""

from __future__ import annotations

import difflib
import re
import unicodedata
from collections.abc import Iterable

_TIME = re.compile(r"(\d+(?:\.\d+)?)(ms|s)")
LONGEST_TIME = 3600.0


def parse_time(text: str) -> float:
    """Seconds in a time such as ``220ms`` or ``1.5s`` (0 to 3600 s). Raises ValueError with what is wrong."""
    found = _TIME.fullmatch(text)
    if found is None:
        raise ValueError(f"`{text}` is not a time; write it like 220ms or 1.5s")
    seconds = float(found[1]) / (1000 if found[2] == "ms" else 1)
    if seconds > LONGEST_TIME:
        raise ValueError(f"`{text}` is longer than an hour")
    return seconds


def format_time(seconds: float) -> str:
    """The shortest spelling that `parse_time` reads back to the same number: 0.22 -> ``220ms``, 2.0 -> ``2s``."""
    if seconds >= 1:
        return f"{_plain(seconds)}s"
    return f"{_plain(round(seconds * 1000, 9))}ms"


def _plain(number: float) -> str:
    """A number without exponent and without a useless `.0`."""
    return f"{number:.12f}".rstrip("0").rstrip(".")


def reason(why: OSError) -> str:
    """What the system says went wrong, as the end of a sentence."""
    return (why.strerror or str(why)).lower()


def nearest(word: str, known: Iterable[str], alike: float = 0.6) -> str | None:
    """The known name that is most like `word`, or None when nothing is so much `alike` (0 to 1)."""
    found = difflib.get_close_matches(word, list(known), n=1, cutoff=alike)
    return found[0] if found else None


LONGEST_SHOWN = 60


def shortened(text: str, most: int = LONGEST_SHOWN) -> str:
    """A text for one line: if it is longer than `most` characters, its beginning."""
    return text if len(text) <= most else f"{text[: most - 1]}…"


def slug_of(text: str) -> str:
    """A text as a name: lower-case letters and digits with hyphens between; `thing` if nothing is left of it."""
    return re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-") or "thing"


def width(text: str) -> int:
    """How many terminal columns a text takes: wide characters two, combining ones none."""
    if text.isascii():
        return len(text)
    columns = 0
    for character in text:
        if not unicodedata.combining(character):
            columns += 2 if unicodedata.east_asian_width(character) in "WF" else 1
    return columns
