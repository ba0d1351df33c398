"""How a verb, the effects that it has, and what it can hold are made known; and an output, which brings such verbs.

A file of `fenko.core.verbs` has `VERBS`, `ACTS`, `HELD` and `TARGETS` with entries of these kinds; an output has the same,
and what it takes from the desk file, and who does its work. The parser and printer of phrases, the engine, the timeline,
the JSON Schema, the tables in the docs, completion, `check`, `ready` and the property tests read them; nothing else has to
know of a verb.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any, Literal, NamedTuple, TypeAlias

from msgspec import Struct

from fenko.core.reader import Reader
from fenko.core.steps import Amount, Step
from fenko.core.value import Value


class Said(Struct, frozen=True):
    """One step of a phrase as it is written. Each verb has a kind of its own, whose fields are its arguments in order."""

    def back(self) -> Said | None:
        """The same the other way, for a dial that is turned back; None for what has no other way."""
        return None


class Argument(Struct, frozen=True):
    """One kind of argument: the word for it in help, how it is read from a phrase and written back, and some values.

    `names`: the sort of thing of the desk (`profile`, `layer`, or a table of an output) that it names, which has to be there;
    `besides` are words that it can be instead."""

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


class Queued(NamedTuple):
    """How an effect waits where the other end is slower than the hand, or away.

    `all`: each for itself; what is too much, or too old when the other end is back, is left out. `newest`: only the last of
    a `key`. `summed`: those of a key are added up, each value but the key's. `begin` and `end` of a key: an end is never left
    out. `last`: only the last of a key, and that never left out. `flip`: the same, and turns over what waits, or itself."""

    how: Literal["all", "newest", "summed", "begin", "end", "last", "flip"]
    key: Hashable = ()


class Act(Struct, frozen=True):
    """One sort of effect, ``(t, out, act, *values)``: the names of its values, how it reads in a timeline, and what its
    values are (`about`, for the docs). Values at the end may be missing where nothing is to be said of them.

    `queues` says what may be left out where the other end is slower than the hand: of `all` nothing, of `newest` all but
    the last, and `summed` ones are added up; `queued`, of its values, says it where that depends on them. `mood` says how it
    stands out: `change` of what is in force, or `alert`."""

    out: str
    act: str
    fields: tuple[str, ...]
    words: Callable[..., str]
    about: str
    queues: Literal["all", "newest", "summed"] = "all"
    mood: Literal["", "change", "alert"] = ""
    queued: Callable[..., Queued] | None = None
    watched: float = 0.0
    """Seconds for which whoever does this is told again and again that the desk is at work, so that it can end what it does if
    the desk is not. What moves things is watched, and asks for more as long as they move."""
    leads_to: Callable[..., tuple[str, str, Any] | None] | None = None
    """Of its values, how something stands at the other end after it: the name of the fact, which part of it, and what that
    is. So a binding that does several things in turn knows where somebody else has brought it."""


class Held(Struct, frozen=True):
    """What can be held of an out: the effects (act and values) with which an item begins and ends, and how a phrase
    spells it. `felt`, where it matters how far a control is when it begins something: the item's name then (0 to 1). With
    `ends_with_profile` it lasts no longer than the profile in which it began, whatever hands do."""

    out: str
    begins: Callable[[str], Sequence[Any]]
    ends: Callable[[str], Sequence[Any]]
    spelled: Callable[[str], str] = str
    felt: Callable[[str, float], str] | None = None
    ends_with_profile: bool = False


class Target(Struct, frozen=True):
    """Numbers of an out that controls can drive: what the desk's tables say of one, how a phrase spells it, and the effect
    (act and values) by which it becomes a number. `moves`, where only the other end knows what it is: the effect by which it
    moves so far, in its own numbers or in dB."""

    out: str
    value: Callable[[str, Mapping[str, Any]], Value]
    spelled: Callable[[str], str]
    tells: Callable[[str], Callable[[float], tuple[Any, ...]]]
    moves: Callable[[str], Callable[[Amount], tuple[Any, ...]]] | None = None


class Table(Struct, forbid_unknown_fields=True, rename="kebab"):
    """One part of a desk file. A missing setting is UNSET and takes the default that its description names."""


class Surrounding(NamedTuple):
    """Of a desk, what an output can ask when it settles what is said: its folder, its tables as they are written, and where
    it is said."""

    folder: Path
    tables: Mapping[str, Any]
    surface: str = ""
    """That of the control for which it is said; empty where no control stands."""

    def table(self, name: str) -> dict[str, Any]:
        """A table; empty where it is missing, or is none (which has been noted)."""
        found = self.tables.get(name)
        return found if isinstance(found, dict) else {}


class Unsettled(ValueError):
    """Something said that the desk has no room for: what is wrong, with which word, what would do, and what is alike."""

    def __init__(self, message: str, word: str = "", expected: str = "", nearest: str | None = None) -> None:
        super().__init__(message)
        self.word = word
        self.expected = expected
        self.nearest = nearest


class Finding(NamedTuple):
    """What `check` says of something: a `warning` will not do what was meant, a `hint` may have been meant otherwise."""

    sort: str
    message: str
    severity: Literal["warning", "hint"] = "hint"
    expected: str | None = None


def as_it_is(said: Any, around: Surrounding) -> Iterable[Said]:
    """What is said needs nothing of the desk."""
    return (said,)


def no_findings(said: Any, around: Surrounding) -> Iterable[Finding]:
    """Nothing is wrong with it."""
    return ()


def fact_words(**known: Callable[[Any], str]) -> Callable[[Mapping[str, Any]], str]:
    """Return a function that puts a fact of an output into words: the `known` entries first, each by its own function (an empty word
    is left out), then the others as `name value`."""

    def words(fact: Mapping[str, Any]) -> str:
        told = [known[name](fact[name]) for name in known if name in fact]
        told += [f"{name} {value}" for name, value in fact.items() if name not in known]
        return ", ".join(filter(None, told))

    return words


Resolver: TypeAlias = Callable[[str, tuple[Any, ...]], tuple[Any, ...] | None]


class Output(Struct, frozen=True):
    """A way out of Fenko, with all that there is to know of it: one module, one of these.

    `title` and `help` are for people. `tables` are those that it takes from the desk file: `[NAME]` of this kind, or, where
    it is a `dict` of them, `[NAME.OWN]`. `settle` turns what a phrase says into what the desk means by it (defaults, files),
    several for one of which any will do; it raises Unsettled. `judge` is what `check` has to say. `risk` is what a person
    has to have agreed to before an effect of these values (act first) is done, in words; empty for what harms nobody; `asks`, of the desk's tables, are those that no phrase says, each with its place, and `allows`
    gives the tables without what is not agreed to, and what that is.

    `offers`, the same way, are phrases for what is there now, each with what that is, for `fenko learn`.

    With `listens` (of the desk's tables) it is at work also where no phrase uses it, for what it hears.

    `resolver`, of the desk's tables, gives what turns an effect's values (act first) into what is meant by them at that moment,
    where that depends on what was said before; None for what means nothing.

    Where the entries of its table `each` are ends that have nothing to do with one another, each has a worker of its own,
    which sees that entry alone; `end` says, of an effect's values, whose it is. `reads` are tables of others that its workers
    see too. Workers of outputs with the same `process` share one. With `by_surface`, what is meant depends on the surface.

    `worker` is the `module:class` (of `fenko.workers.worker.Worker`) that does its work, in a process of its own, and
    `ready` the `module:function` that says how things stand for `fenko ready`: of the desk's tables and folder, a list of
    (good, what is so, what helps: a text, or a Remedy)."""

    name: str
    title: str
    help: str
    worker: str
    verbs: tuple[Verb, ...]
    acts: tuple[Act, ...]
    held: tuple[Held, ...] = ()
    targets: tuple[Target, ...] = ()
    tables: Mapping[str, Any] = {}
    settle: Callable[[Any, Surrounding], Iterable[Said]] = as_it_is
    judge: Callable[[Any, Surrounding], Iterable[Finding]] = no_findings
    risk: Callable[[tuple[Any, ...], Mapping[str, Any]], str] | None = None
    asks: Callable[[Mapping[str, Any]], Iterable[tuple[tuple[str | int, ...], str]]] = lambda tables: ()
    allows: Callable[[Mapping[str, Any], Callable[[str], bool]], tuple[Mapping[str, Any], list[str]]] | None = None
    ready: str = ""
    offers: str = ""
    listens: Callable[[Mapping[str, Any]], bool] = lambda tables: False
    each: str = ""
    end: Callable[..., str] = lambda *values: ""
    resolver: Callable[[Mapping[str, Any]], Resolver] | None = None
    reads: tuple[str, ...] = ()
    process: str = "workers"
    moved: Callable[[str, Mapping[str, Any], Mapping[str, Any]], str] | None = None
    """For `fenko learn`: of an item's name, its fact before (empty if it was not known) and its fact now, the phrase that moves it;
    empty if nobody has moved it."""
    in_words: Callable[[Mapping[str, Any]], str] = fact_words(value="{:g}".format)
    """Put a fact of its peer into words for users."""
    simulation: str = ""
    """The `module:class` (of `fenko.integrations.simulation.Simulation`) that stands in for its peers in the demo."""
    checks: str = ""
    """The `module:function` that judges a whole desk for `fenko check`, beyond what each phrase says."""
    place: int = 1000
    """Its place among the outputs, in docs and reports."""
    by_surface: bool = False
