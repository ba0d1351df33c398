"""Where things stand in a TOML text: the line and column of every key and value.

The standard parser says what a file means but not where. This scanner says only where: it walks a text that the
parser has already accepted, so it need not judge. It runs when there is something to report, and not otherwise.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator

from msgspec import Struct, structs

KeyPath = tuple[str | int, ...]


class Extent(Struct, frozen=True):
    """A stretch of a text: where it begins (0-based character offset) and how long it is."""

    start: int
    length: int


class Place(Struct, frozen=True):
    """Where an entry stands: its key and its value. A table's value is its header's last key."""

    key: Extent
    value: Extent


class Section(Struct, frozen=True):
    """A table's header with all that stands under it, up to the next header: the path of its entries, where it begins,
    and where its last entry (or the header, if it has none) ends. The first section of a text has no header."""

    path: KeyPath
    start: int
    end: int


_BARE = frozenset("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-")


_PLAIN = re.compile(r"\"(?:[^\"\\\n]|\\.)*\"|'[^'\n]*'")
"""A string in one line."""


class _Scanner:
    def __init__(self, text: str) -> None:
        self.text = text
        self.at = 0
        self.places: dict[KeyPath, Place] = {}
        self.keys: list[tuple[KeyPath, Extent]] = []
        self.counts: dict[KeyPath, int] = {}
        self.sections: list[Section] = []

    def run(self) -> dict[KeyPath, Place]:
        section = Section((), 0, 0)
        while self._skip(" \t\r\n"):
            start = self.at
            if self.text[start] == "[":
                self.sections.append(section)
                section = Section(self._header(), start, self.at)
            else:
                self._entry(section.path)
                section = structs.replace(section, end=self.at)
        self.sections.append(section)
        return self.places

    def _skip(self, blanks: str) -> bool:
        """Moves past blanks and comments; False at the end of the text."""
        text = self.text
        while self.at < len(text):
            if text[self.at] == "#":
                end = text.find("\n", self.at)
                self.at = len(text) if end < 0 else end
            elif text[self.at] in blanks:
                self.at += 1
            else:
                return True
        return False

    def _header(self) -> KeyPath:
        listed = self.text.startswith("[[", self.at)
        self.at += 2 if listed else 1
        path: KeyPath = ()
        keys = list(self._keys())
        for number, (key, spot) in enumerate(keys):
            path = self._inside((*path, key), last=listed and number == len(keys) - 1)
            self.keys.append((path, spot))
            self.places.setdefault(path, Place(spot, spot))
        self.at = self.text.index("]", self.at) + (2 if listed else 1)
        return path

    def _inside(self, path: KeyPath, last: bool) -> KeyPath:
        """The path with the number of its newest element, where it is a list of tables."""
        if last:
            self.counts[path] = self.counts.get(path, -1) + 1
        return (*path, self.counts[path]) if path in self.counts else path

    def _keys(self) -> Iterator[tuple[str, Extent]]:
        """The parts of a dotted key, up to what ends it."""
        while True:
            self._skip(" \t")
            start = self.at
            if self.text[start] in "\"'":
                key = self._string()
            else:
                while self.at < len(self.text) and self.text[self.at] in _BARE:
                    self.at += 1
                key = self.text[start : self.at]
            yield key, Extent(start, self.at - start)
            self._skip(" \t")
            if self.text[self.at] != ".":
                return
            self.at += 1

    def _entry(self, table: KeyPath) -> None:
        path, spots = table, []
        for key, spot in self._keys():
            path = (*path, key)
            spots.append((path, spot))
        self.keys += spots
        self.at = self.text.index("=", self.at) + 1
        self._skip(" \t")
        start = self.at
        self._value(path)
        value = Extent(start, self.at - start)
        for sub, spot in spots[:-1]:
            self.places.setdefault(sub, Place(spot, spot))
        self.places[path] = Place(spots[-1][1], value)

    def _value(self, path: KeyPath) -> None:
        character = self.text[self.at]
        if character in "\"'":
            self._past_string()
        elif character == "[":
            self.at += 1
            number = 0
            while self._skip(" \t\r\n,") and self.text[self.at] != "]":
                start = self.at
                self._value((*path, number))
                spot = Extent(start, self.at - start)
                self.places[(*path, number)] = Place(spot, spot)
                number += 1
            self.at += 1
        elif character == "{":
            self.at += 1
            while self._skip(" \t\r\n,") and self.text[self.at] != "}":
                self._entry(path)
            self.at += 1
        else:
            while self.at < len(self.text) and self.text[self.at] not in ",]}#\r\n":
                self.at += 1
            self.at = len(self.text[: self.at].rstrip(" \t"))

    def _string(self) -> str:
        """Moves past a string; returns what it says, or how it is written where it has several lines."""
        start, written = self.at, self._past_string()
        return str(tomllib.loads(f"k={written}")["k"]) if not self.text.startswith(written[0] * 3, start) else written

    def _past_string(self) -> str:
        """Moves past a string; returns how it is written."""
        plain = _PLAIN.match(self.text, self.at)
        if plain is not None and not self.text.startswith(plain[0][0] * 3, self.at):
            self.at = plain.end()
            return plain[0]
        start = self.at
        quote = self.text[start]
        closing = quote * 3 if self.text.startswith(quote * 3, start) else quote
        self.at += len(closing)
        while not self.text.startswith(closing, self.at):
            self.at += 2 if self.text[self.at] == "\\" and quote == '"' else 1
        self.at += len(closing)
        while len(closing) == 3 and self.text.startswith(quote, self.at):
            self.at += 1  # a multi-line string may end in one or two quotes of its own
        return self.text[start : self.at]


def locate(text: str) -> dict[KeyPath, Place]:
    """The place of every entry of a valid TOML text, by its path of keys and list positions."""
    return _Scanner(text.replace("\r\n", " \n")).run()


def keys(text: str) -> list[tuple[KeyPath, Extent]]:
    """Every key that is written in a valid TOML text, also where several lines say something of the same, with its path."""
    scanner = _Scanner(text.replace("\r\n", " \n"))
    scanner.run()
    return scanner.keys


def sections(text: str) -> list[Section]:
    """The sections of a valid TOML text, in its order."""
    scanner = _Scanner(text.replace("\r\n", " \n"))
    scanner.run()
    return scanner.sections


def line_and_column(text: str, offset: int) -> tuple[int, int]:
    """The line and column (both from 1) of a character."""
    before = text[:offset]
    return before.count("\n") + 1, offset - (before.rfind("\n") + 1) + 1
