"""Reads a phrase word by word, and says where it goes wrong."""

from __future__ import annotations

import re
from collections.abc import Collection

NAME = re.compile(r"[a-z0-9](?:[a-z0-9_-]*[a-z0-9])?")
"""Names of surfaces, profiles and controls: lower-case letters, digits, hyphens and underscores."""
_WORD = re.compile(r"\s*(\S*)")
_ESCAPES = {"n": "\n", "t": "\t", "\\": "\\", '"': '"', "'": "'"}
_ESCAPED = {"\n": "\\n", "\t": "\\t", "\\": "\\\\", '"': '\\"'}


class PhraseError(ValueError):
    """A phrase that does not say anything. `offset` and `length` mark the characters at fault (0-based)."""

    def __init__(self, message: str, offset: int, length: int, hint: str | None = None) -> None:
        super().__init__(message)
        self.offset = offset
        self.length = length
        self.hint = hint


class Reader:
    """A phrase and how far it has been read. `verbs` are the words that begin a step of their own."""

    def __init__(self, text: str, verbs: Collection[str] = ()) -> None:
        self.text = text
        self.verbs = verbs
        self.at = 0

    def peek(self) -> str:
        """The next word, without moving past it; empty at the end."""
        found = _WORD.match(self.text, self.at)
        assert found is not None  # every part of the pattern may be empty
        self.at = found.start(1)
        return found[1]

    def word(self) -> tuple[str, int]:
        """The next word and where it starts."""
        found = self.peek()
        start = self.at
        self.at += len(found)
        return found, start

    def argument(self, verb: str, needs: str) -> tuple[str, int]:
        """The next word and where it starts, of a verb that `needs` it."""
        word, start = self.word()
        if not word or word == "then":
            raise self.error(f"`{verb}` needs {needs}", word, start)
        return word, start

    def error(self, message: str, word: str, start: int, hint: str | None = None) -> PhraseError:
        """A fault of a word."""
        return PhraseError(message, start, max(1, len(word)), hint)

    def quoted(self, verb: str) -> str:
        """A text in quotes, with its escapes undone."""
        word = self.peek()
        start = self.at
        quote = word[:1]
        if quote not in ('"', "'") or not quote:
            raise self.error(f"`{verb}` needs a text in quotes", word, start, f'"{word}"' if word else None)
        characters: list[str] = []
        at = start + 1
        while at < len(self.text):
            character = self.text[at]
            if character == quote:
                self.at = at + 1
                if not characters:
                    raise PhraseError("an empty text", start, 2)
                return "".join(characters)
            if character == "\\":
                at += 1
                escaped = _ESCAPES.get(self.text[at : at + 1])
                if escaped is None:
                    raise PhraseError("after a backslash comes n, t, a quote or a backslash", at - 1, 2)
                character = escaped
            elif character != "\t" and not character.isprintable() and not _joins(character):
                raise PhraseError(f"U+{ord(character):04X} cannot be typed", at, 1)
            characters.append(character)
            at += 1
        raise PhraseError(f"the text has no closing {quote}", start, len(self.text) - start)


def _joins(character: str) -> bool:
    """Whether a character that shows nothing belongs to what stands around it: joiners of scripts and of emoji, marks of
    direction, tags of flags."""
    return character in "\u200c\u200d\u200e\u200f\u2060" or "\U000e0020" <= character <= "\U000e007f"


def in_quotes(text: str) -> str:
    """A text as `Reader.quoted` reads it."""
    return '"' + "".join(_ESCAPED.get(character, character) for character in text) + '"'
