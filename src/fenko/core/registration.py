"""How a verb, the effects that it has, and what it can hold are made known.

A file of `fenko.core.verbs` has `VERBS`, `ACTS` and `HELD` with entries of these kinds. The parser and printer of
phrases, the engine, the timeline, the JSON Schema, the tables in the docs, completion and the property tests read them;
nothing else has to know of a verb.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Literal

from msgspec import Struct

from fenko.core.reader import Reader
from fenko.core.steps import Step


class Said(Struct, frozen=True):
    """One step of a phrase as it is written. Each verb has a kind of its own, whose fields are its arguments in order."""


class Argument(Struct, frozen=True):
    """One kind of argument: the word for it in help, how it is read from a phrase and written back, and some values.

    `names`: the sort of thing of the desk (`profile`, `layer`) that it names, which has to be there; `besides` are words
    that it can be instead."""

    word: str
    read: Callable[[Reader, str], Any]
    write: Callable[[Any], str]
    samples: tuple[Any, ...]
    names: str = ""
    besides: tuple[str, ...] = ()


class Verb(Struct, frozen=True):
    """One word of the language: what is said with it, its arguments in order, what it comes down to, and what to tell a
    person. Without a `word` it is a form of its own, which the grammar knows: keys, and commands of programs."""

    word: str
    said: type[Said]
    arguments: tuple[Argument, ...]
    steps: Callable[[Any], tuple[Step, ...]]
    example: str
    help: str


class Act(Struct, frozen=True):
    """One sort of effect, ``(t, out, act, *values)``: the names of its values, how it reads in a timeline, and what its
    values are (`about`, for the docs).

    `queues` says what may be left out where the other end is slower than the hand: of `all` nothing, of `newest` all but
    the last, and `summed` ones are added up. `mood` says how it stands out: `change` of what is in force, or `alert`."""

    out: str
    act: str
    fields: tuple[str, ...]
    words: Callable[..., str]
    about: str
    queues: Literal["all", "newest", "summed"] = "all"
    mood: Literal["", "change", "alert"] = ""


class Held(Struct, frozen=True):
    """What can be held of an out: the effects (act and values) with which an item begins and ends, and how a phrase
    spells it."""

    out: str
    begins: Callable[[str], Sequence[Any]]
    ends: Callable[[str], Sequence[Any]]
    spelled: Callable[[str], str] = str
