"""When a lamp is on: what a binding says with `lit`, read and written."""

from __future__ import annotations

import re

from msgspec import Struct

from fenko.core.reader import NAME, PhraseError, Reader
from fenko.core.words import nearest

ALONE = ("pressed", "toggled", "paused", "always")
"""Words that say everything."""
NAMED = ("layer", "profile", "state")
"""Words with a name behind them."""
WORDS = (*ALONE, *NAMED, "volume", "microphone", "player", "value", "machine")
HOWS = ("above", "below", "is")
_NUMBER = re.compile(r"[+-]?\d{1,9}(\.\d{1,9})?")


class Lit(Struct, frozen=True):
    """A condition: its word, whose name it asks for, how (`above`, `below`, `is` of a value; the state of a machine), and the
    number; `denied` is the contrary."""

    word: str
    name: str = ""
    how: str = ""
    number: float = 0.0
    denied: bool = False

    def __str__(self) -> str:
        of = f" of {self.name}" if self.word in ("volume", "player") and self.name else ""
        rest = {
            "volume": f"{of} muted", "microphone": " muted", "player": f"{of} playing",
            "value": f" {self.name} {self.how} {self.number:.9g}", "machine": f" {self.name} {self.how}",
        }.get(self.word, f" {self.name}" if self.name else "")  # fmt: skip
        return f"{'not ' if self.denied else ''}{self.word}{rest}"


def read_lit(text: str) -> Lit:
    """The condition that a text says. Raises PhraseError."""
    reader = Reader(text)
    denied = reader.peek() == "not"
    if denied:
        reader.word()
    word, start = reader.word()
    if word not in WORDS:
        what = f"a lamp cannot be lit by `{word}`" if word else "it does not say when the lamp is lit"
        raise PhraseError(f"{what}: {', '.join(WORDS)}", start, max(1, len(word)), nearest(word, WORDS))
    name = how = ""
    number = 0.0
    if word in NAMED:
        name = reader.text[reader.at :].strip() if word == "state" else _name(reader, word)
        if word == "state":
            reader.at = len(text)
            if not name:
                raise PhraseError("`state` needs the name of a state", start, len(word))
    elif word in ("volume", "microphone", "player"):
        if word != "microphone" and reader.peek() == "of":
            reader.word()
            name = reader.quoted("of") if reader.peek()[:1] in ('"', "'") else reader.argument("of", "a name")[0]
        _only(reader, word, "playing" if word == "player" else "muted")
    elif word == "value":
        name = _name(reader, word)
        how, start = reader.argument(f"value {name}", "above, below or is")
        if how not in HOWS:
            raise PhraseError(f"a value is not `{how}`: above, below or is", start, len(how), nearest(how, HOWS))
        written, start = reader.argument(how, "a number")
        if _NUMBER.fullmatch(written) is None:
            raise PhraseError(f"`{written}` is not a number", start, len(written))
        number = float(written)
    elif word == "machine":
        name = _name(reader, word)
        how = _name(reader, f"machine {name}")
    more = reader.peek()
    if more:
        raise PhraseError(f"`{more}` means nothing here", reader.at, len(more))
    return Lit(word, name, how, number, denied)


def _name(reader: Reader, word: str) -> str:
    name, start = reader.argument(word, "a name")
    if NAME.fullmatch(name) is None:
        raise PhraseError(f"`{name}` cannot be a name", start, len(name))
    return name


def _only(reader: Reader, word: str, wanted: str) -> None:
    found, start = reader.word()
    if found != wanted:
        raise PhraseError(f"`{word}` lights a lamp while it is `{wanted}`", start, max(1, len(found)), wanted)
