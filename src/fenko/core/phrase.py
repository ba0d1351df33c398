"""The phrase language: what a binding does, as a person writes it and reads it aloud.

    ctrl+shift+z
    ctrl+z x3
    ctrl+s then wait 200ms then f5
    type "Reel 2" then enter
    profile next

A phrase is one or more steps joined by `then`. A step is either keys (joined by `+`, repeated with `xN`, spaced or
repeated while held with `every TIME`), a command of a program, whose keys stand in its shortcut list (`snipwell: split
all`), or a verb with its arguments. A mouse button (`button left`) stands where a key can stand. All verbs stand in
`fenko.core.verbs`; the parser, the printer and the help read that one table, so a verb that can be read can be printed
and is documented.
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache
from typing import Any

from msgspec import Struct

from fenko.core.reader import NAME, PhraseError, Reader
from fenko.core.registration import Said
from fenko.core.steps import Step
from fenko.core.verbs import VERB_OF, VERBS
from fenko.core.verbs.keys import (
    APP,
    MOST_REPEATS,
    TIMES,
    Command,
    Keys,
    read_command,
    read_repeated_keys,
    write_form,
)
from fenko.core.words import nearest


class Phrase(Struct, frozen=True):
    """One or more steps, in order."""

    steps: tuple[Said, ...]

    def __str__(self) -> str:
        return " then ".join(_written(said) for said in self.steps)


@lru_cache(maxsize=4096)
def parse_phrase(text: str) -> Phrase:
    """The phrase that `text` writes. Raises PhraseError, and nothing else."""
    reader = Reader(text, VERBS)
    steps: list[Said] = []
    if not reader.peek():
        raise PhraseError("an empty phrase; `nothing` does nothing on purpose", 0, max(1, len(text)), "nothing")
    while True:
        steps.append(_read(reader))
        word, start = reader.word()
        if not word:
            return Phrase(tuple(steps))
        if word != "then":
            hint = "then" if nearest(word, ["then"]) else None
            raise reader.error(f"expected `then` and another step, not `{word}`", word, start, hint)


def _read(reader: Reader) -> Said:
    word, start = reader.word()
    if not word or word == "then":
        raise reader.error("`then` needs a step on both sides", word, max(0, min(start, len(reader.text) - 1)))
    verb = VERBS.get(word)
    if verb is not None:
        make: Any = verb.said
        said: Said = make(*(argument.read(reader, word) for argument in verb.arguments))
        return said
    if TIMES.fullmatch(word):
        raise reader.error(f"`{word}` repeats keys and stands after them", word, start)
    app = APP.fullmatch(word)
    if app is not None:
        return read_command(reader, app[1])
    before, colon, after = word.partition(":")
    if colon and after and NAME.fullmatch(before) and len(before) > 1:
        raise reader.error("a space stands before a command", word, start, f"{before}: {after}")
    return read_repeated_keys(reader, word, start)


def _written(said: Said) -> str:
    if isinstance(said, Keys | Command):
        return write_form(said)
    verb = VERB_OF[type(said)]
    values = (getattr(said, field) for field in said.__struct_fields__)
    written = (argument.write(value) for argument, value in zip(verb.arguments, values, strict=True))
    return " ".join(word for word in (verb.word, *written) if word)


def steps_of(phrase: Phrase) -> tuple[Step, ...]:
    """What a phrase comes down to for the engine."""
    return tuple(step for said in phrase.steps for step in VERB_OF[type(said)].steps(said))


def counted(steps: Iterable[Said]) -> list[Said]:
    """Steps in which the same keys several times in a row are one with a number: `ctrl+z x3`."""
    found: list[Said] = []
    for step in steps:
        last = found[-1] if found else None
        if (
            isinstance(step, Keys)
            and isinstance(last, Keys)
            and last.keys == step.keys
            and last.times + step.times <= MOST_REPEATS
        ):
            found[-1] = Keys(step.keys, last.times + step.times)
        else:
            found.append(step)
    return found
