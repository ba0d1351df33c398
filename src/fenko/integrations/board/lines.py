"""What a board of one's own says on its line, and what is said to it: version 1 of the line protocol in `docs/boards.md`.

A board is believed nothing that is not plainly said: a line that is too long, no text, or none of these words is left out, and
counted."""

from __future__ import annotations

import re
from collections.abc import Callable
from contextlib import suppress
from typing import Any, TypeAlias

from msgspec import Struct

from fenko.core.axes import Detents
from fenko.core.controls import BUTTON, PLAIN_SORTS, SORTS, turning
from fenko.core.inputs import Raw
from fenko.core.reader import NAME

VERSION = 1
LONGEST = 120
"""Bytes of a line, without its end."""
MOST_CONTROLS = 200
_MOST_NUMBER = 1 << 31
_MOST_NAME = 40
_NUMBER = re.compile(r"-?\d{1,10}")

WORD_OF_SORT = {name.replace(" ", "-"): shape for name, shape in PLAIN_SORTS.items()}
"""The sorts of control that a board may have, as its lines write them."""


class Declared(Struct, frozen=True):
    """What a board says that it is. `sorts` are its controls, `ranges` the ends of what goes along a way; `lamps` say whether they
    have colours, `shown` are controls that can show where a value is; `text` is how many characters it can show."""

    name: str = ""
    title: str = ""
    version: int = VERSION
    sorts: dict[str, str] = {}
    ranges: dict[str, tuple[int, int]] = {}
    lamps: dict[str, bool] = {}
    shown: frozenset[str] = frozenset()
    tone: bool = False
    rumble: bool = False
    text: int = 0
    alive: bool = False
    """Whether it answers when it is asked whether it is alive."""

    @property
    def turning(self) -> frozenset[str]:
        """The controls that say how far they were turned."""
        return turning(self.sorts)


class Hello(Struct, frozen=True):
    """A board begins to say what it is: it is new here, or has begun anew."""

    version: int


class Ready(Struct, frozen=True):
    """It has said what it is."""

    what: Declared


class Said(Struct, frozen=True):
    """Controls have changed: names (of an axis with its part) and values."""

    changes: list[tuple[str, Any]]


class Alive(Struct, frozen=True):
    """It says that it is."""


Event: TypeAlias = Hello | Ready | Said | Alive


class BoardReader:
    """Puts together what comes on a line, and says what it means. `left_out` counts lines that mean nothing."""

    def __init__(self) -> None:
        self.left_out = 0
        self._data = bytearray()
        self._skipping = False
        self._draft: dict[str, Any] | None = None
        self._declared: Declared | None = None
        self._words: dict[str, Callable[[list[str]], Event | None]] = {
            "board": self._hello, "has": self._has, "can": self._can, "ready": self._ready, "is": self._is,
            "turned": self._turned, "alive": lambda words: Alive(),
        }  # fmt: skip

    def feed(self, data: bytes) -> list[Event]:
        """What these bytes say, with those that came before."""
        self._data += data
        lines = self._data.split(b"\n")
        self._data = lines.pop()
        found: list[Event] = []
        for line in lines:
            if self._skipping or len(line) > LONGEST + 1:
                self.left_out += 1
                self._skipping = False
                continue
            event = self._line(bytes(line))
            if event is None:
                continue
            if isinstance(event, Said) and found and isinstance(found[-1], Said):
                found[-1].changes.extend(event.changes)
            else:
                found.append(event)
        if len(self._data) > LONGEST + 1:
            self._data.clear()
            self._skipping = True
        return found

    def _line(self, line: bytes) -> Event | None:
        text = line.decode("ascii", "replace").strip()
        words = text.split() if text.isprintable() and text.isascii() else ["?"]
        if not words:
            return None
        means = self._words.get(words[0])
        if means is not None:
            with suppress(ValueError, IndexError, KeyError):
                return means(words[1:])
        self.left_out += 1
        return None

    # --- What it is ---

    def _hello(self, words: list[str]) -> Event:
        version = _number(words[0])
        name = _name(words[1])
        self._declared = None
        self._draft = {
            "name": name, "title": " ".join(words[2:]) or name, "version": version, "sorts": {}, "ranges": {}, "lamps": {},
            "shown": set(),
        }  # fmt: skip
        return Hello(version)

    def _has(self, words: list[str]) -> None:
        draft = self._drafting()
        name, sort = _name(words[0]), WORD_OF_SORT[words[1]]
        if len(draft["sorts"]) >= MOST_CONTROLS:
            raise ValueError
        if sort.axes:
            least, most = map(_number, words[2:4])
            if not least < most:
                raise ValueError
            draft["ranges"][name] = (least, most)
        draft["sorts"][name] = sort.name

    def _can(self, words: list[str]) -> None:
        draft = self._drafting()
        match words:
            case ["lamp", name, *rest] if len(draft["lamps"]) < MOST_CONTROLS and rest in ([], ["colours"]):
                draft["lamps"][_name(name)] = bool(rest)
            case ["show", name] if name in draft["sorts"]:
                draft["shown"].add(name)
            case ["tone"] | ["rumble"] | ["alive"]:
                draft[words[0]] = True
            case ["text", width]:
                draft["text"] = max(0, min(200, _number(width)))
            case _:
                raise ValueError

    def _drafting(self) -> dict[str, Any]:
        if self._draft is None:
            raise ValueError
        return self._draft

    def _ready(self, words: list[str]) -> Event:
        draft, self._draft = self._drafting(), None
        draft["shown"] = frozenset(draft["shown"])
        self._declared = Declared(**draft)
        return Ready(self._declared)

    # --- What hands do ---

    def _is(self, words: list[str]) -> Event | None:
        if self._draft is not None:
            return None  # how things stand when it begins: nothing that a hand has done
        declared = self._known()
        name, numbers = words[0], list(map(_number, words[1:]))
        shape = SORTS[declared.sorts[name]]
        if shape is BUTTON:
            (value,) = numbers
            if value not in (0, 1):
                raise ValueError
            return Said([(name, value)])
        least, most = declared.ranges[name]
        parts = [f"{name}.{axis}" if axis else name for axis in shape.axes]
        values = [Raw(max(least, min(most, number)), least, most) for number in numbers]
        return Said(list(zip(parts, values, strict=True)))

    def _turned(self, words: list[str]) -> Event | None:
        if self._draft is not None:
            return None
        name, number = words[0], _number(words[1])
        if not SORTS[self._known().sorts[name]].turns or abs(number) > Detents.MOST_AT_ONCE:
            raise ValueError
        return Said([(name, number)])

    def _known(self) -> Declared:
        if self._declared is None:
            raise ValueError
        return self._declared


def _number(word: str) -> int:
    if _NUMBER.fullmatch(word) is None or abs(number := int(word)) >= _MOST_NUMBER:
        raise ValueError
    return number


def _name(word: str) -> str:
    if len(word) > _MOST_NAME or NAME.fullmatch(word) is None:
        raise ValueError
    return word


def line(*words: object) -> bytes:
    """A line to a board: ASCII, and no longer than it may be."""
    text = " ".join(map(str, words))
    clean = "".join(one if " " <= one <= "~" else "?" for one in text)
    return clean[:LONGEST].encode("ascii") + b"\n"
