"""A desk without what is nobody's business: no texts, no titles, no comments, no addresses, no secrets; what is left tells what it is made of."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from fenko.desk.locate import KeyPath
from fenko.desk.writing import key

HIDDEN = "…"
_QUOTED = re.compile(r'"(?:[^"\\]|\\.)*"')
_KEPT = frozenset(
    "kind description links app program running surface machine keys layout by-hand unbound hold double chord burst fast stroke gap settle tick "
    "debounce smooth latest curve response dead-zone outer press release range start step unit keep show lit lamp group while sort coding "
    "icon colour dialect link step-sizes not include extends names spin jog orientation mode order".split()
)
"""Names of settings whose texts tell nothing of a person."""
_HOSTS = re.compile(r"\b(?:[a-z]+://|(?:tcp|udp) )\S+")
_SERIALS = re.compile(r"(/dev/serial/by-id/)\S+")


def masked(data: dict[str, Any]) -> Iterator[str]:
    """A desk's files in lines of dotted TOML, one for each value."""
    for path, value in _leaves((), data):
        yield f"{'.'.join(key(str(part)) for part in path)} = {_shown(path, value)}"


def hidden(data: dict[str, Any]) -> list[str]:
    """The texts of a desk that are not shown, the longest first, and what stands in quotes or addresses within others: they are not to be
    seen elsewhere either."""
    found: set[str] = set()
    for path, value in _leaves((), data):
        for text in value if isinstance(value, list) else [value]:
            if isinstance(text, str) and _text(path, text) != text:
                found |= {text, *(one[0][1:-1] for one in _QUOTED.finditer(text))}
                found |= {one for address in _HOSTS.finditer(text) for one in _parts(address[0])}
    # A bare word, such as ready, stands in many places that have nothing to do with it.
    return sorted((one for one in found if len(one) > 5 and not one.isalpha()), key=len, reverse=True)


def without_serials(text: str) -> str:
    """A text without what tells one's boards from others'."""
    return _SERIALS.sub(rf"\1{HIDDEN}", text)


def _parts(address: str) -> Iterator[str]:
    """An address, and the name of whoever it leads to."""
    host = re.sub(r"^[a-z]+(://| )", "", address).partition("/")[0].rpartition("@")[2]
    yield from (address, host, host.partition(":")[0])


def _leaves(path: KeyPath, value: Any) -> Iterator[tuple[KeyPath, Any]]:
    if isinstance(value, dict) and value:
        for name, one in value.items():
            yield from _leaves((*path, name), one)
    elif isinstance(value, list) and any(isinstance(one, dict) for one in value):
        for number, one in enumerate(value):
            yield from _leaves((*path, number), one)
    else:
        yield path, value


def _shown(path: KeyPath, value: Any) -> str:
    if isinstance(value, list):
        return f"[{', '.join(_shown(path, one) for one in value)}]"
    if isinstance(value, str):
        return f"'{_text(path, value)}'"
    return str(value).lower() if isinstance(value, bool) else str(value)


def _text(path: KeyPath, text: str) -> str:
    name = str(path[-1] if isinstance(path[-1], str) else path[-2] if len(path) > 1 else "")
    phrase = "on" in path[:-1] and name not in ("label", "note", "states") and path[0] == "profile"
    if phrase or (path[0] == "expect" and name in ("sends", "holds", "profile", "layers")):
        text = _QUOTED.sub(f'"{HIDDEN}"', text)
    elif name not in _KEPT:
        return HIDDEN
    return _SERIALS.sub(rf"\1{HIDDEN}", _HOSTS.sub(HIDDEN, text)).replace("'", "").replace("\n", " ")
