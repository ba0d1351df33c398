"""The phrase language: what a binding does, as a person writes it and reads it aloud.

    ctrl+shift+z
    ctrl+z x3
    ctrl+s then wait 200ms then f5
    type "Reel 2" then enter
    profile next

A phrase is one or more steps joined by `then`. A step is either keys (joined by `+`, repeated with `xN`, spaced or
repeated while held with `every TIME`), a command of a program, whose keys stand in its shortcut list (`snipwell: split
all`), or a verb with its arguments. A mouse button (`button left`) stands where a key can stand. All verbs stand in `VERBS`; the parser, the printer and the help read that one table, so a verb that can be
read can be printed and is documented.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from functools import lru_cache
from typing import Any, TypeAlias

from msgspec import Struct

from fenko.core.keys import MOUSE_BUTTONS, UnknownKey, canonical_key, format_key
from fenko.core.words import format_time, nearest, parse_time

MOST_REPEATS = 999


class Keys(Struct, frozen=True):
    """Keys that go down in order and come up in reverse, `times` times (1 to 999).

    With `every` (seconds from one press to the next) and once, again and again as long as the control is held."""

    keys: tuple[str, ...]
    times: int = 1
    every: float | None = None


class Tap(Struct, frozen=True):
    """Keys that go down and come up at once, however long the control is held."""

    keys: tuple[str, ...]


class Toggle(Struct, frozen=True):
    """Keys that go down and stay, and come up with the next time."""

    keys: tuple[str, ...]


class Press(Struct, frozen=True):
    """Keys that go down and stay until the action lifts them, or is through: how a recorded macro holds Shift."""

    keys: tuple[str, ...]


class Lift(Struct, frozen=True):
    """Keys that the same action pressed come up."""

    keys: tuple[str, ...]


class Wait(Struct, frozen=True):
    """A pause of `seconds` before the next step."""

    seconds: float


class Type(Struct, frozen=True):
    """Text that arrives as if typed, in any script."""

    text: str


class Profile(Struct, frozen=True):
    """Put profile `name` in force, or the `next` or `previous` one, or let the focus decide again (`auto`)."""

    name: str


class Layer(Struct, frozen=True):
    """Put a layer of the profile on top: while the control is held (mode empty), until the same again (`locked`), or
    for the next action (`once`)."""

    name: str
    mode: str = ""


class Command(Struct, frozen=True):
    """A command of a program, whose keys its shortcut list tells; otherwise like `Keys`."""

    app: str
    command: str
    times: int = 1
    every: float | None = None


class Pause(Struct, frozen=True):
    """Stop Fenko; the same again starts it."""


class Nothing(Struct, frozen=True):
    """Owns the control and does nothing."""


Step: TypeAlias = Keys | Command | Tap | Toggle | Press | Lift | Wait | Type | Layer | Profile | Pause | Nothing


class Phrase(Struct, frozen=True):
    """One or more steps, in order."""

    steps: tuple[Step, ...]

    def __str__(self) -> str:
        return " then ".join(_format_step(step) for step in self.steps)


def counted(steps: Iterable[Step]) -> list[Step]:
    """Steps in which the same keys several times in a row are one with a number: `ctrl+z x3`."""
    found: list[Step] = []
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


PROFILE_WORDS = ("next", "previous", "auto")
LAYER_MODES = ("locked", "once")
BUTTON = "button"
"""The word before a mouse button's name; a button among keys is `button left`, which no key is called."""
NAME = re.compile(r"[a-z0-9](?:[a-z0-9_-]*[a-z0-9])?")
"""Names of surfaces, profiles and controls: lower-case letters, digits, hyphens and underscores."""


class PhraseError(ValueError):
    """A phrase that does not say anything. `offset` and `length` mark the characters at fault (0-based)."""

    def __init__(self, message: str, offset: int, length: int, hint: str | None = None) -> None:
        super().__init__(message)
        self.offset = offset
        self.length = length
        self.hint = hint


_WORD = re.compile(r"\s*(\S*)")


class _Reader:
    """A phrase and how far it has been read."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.at = 0

    def skip_space(self) -> None:
        found = _WORD.match(self.text, self.at)
        assert found is not None  # every part of the pattern may be empty
        self.at = found.start(1)

    def peek(self) -> str:
        """The next word, without moving past it; empty at the end."""
        found = _WORD.match(self.text, self.at)
        assert found is not None
        self.at = found.start(1)
        return found[1]

    def word(self) -> tuple[str, int]:
        """The next word and where it starts."""
        found = self.peek()
        start = self.at
        self.at += len(found)
        return found, start

    def error(self, message: str, word: str, start: int, hint: str | None = None) -> PhraseError:
        return PhraseError(message, start, max(1, len(word)), hint)


# --- Arguments: each kind can read itself from a phrase and write itself back. ---


def _read_time(reader: _Reader, verb: str) -> float:
    word, start = reader.word()
    if not word:
        raise reader.error(f"`{verb}` needs a time, such as `{verb} 200ms`", word, start)
    try:
        seconds = parse_time(word)
    except ValueError as why:
        raise reader.error(str(why), word, start) from None
    if seconds <= 0:
        raise reader.error("a time of nothing", word, start, "1ms")
    return seconds


_ESCAPES = {"n": "\n", "t": "\t", "\\": "\\", '"': '"', "'": "'"}
_ESCAPED = {"\n": "\\n", "\t": "\\t", "\\": "\\\\", '"': '\\"'}


def _read_text(reader: _Reader, verb: str) -> str:
    reader.skip_space()
    start = reader.at
    quote = reader.text[start : start + 1]
    if quote not in ('"', "'") or not quote:
        word = reader.peek()
        raise reader.error(f"`{verb}` needs a text in quotes", word, start, f'"{word}"' if word else None)
    characters: list[str] = []
    at = start + 1
    while at < len(reader.text):
        character = reader.text[at]
        if character == quote:
            reader.at = at + 1
            if not characters:
                raise PhraseError("an empty text", start, 2)
            return "".join(characters)
        if character == "\\":
            at += 1
            escaped = _ESCAPES.get(reader.text[at : at + 1])
            if escaped is None:
                raise PhraseError("after a backslash comes n, t, a quote or a backslash", at - 1, 2)
            character = escaped
        elif character != "\t" and not character.isprintable() and not _joins(character):
            raise PhraseError(f"U+{ord(character):04X} cannot be typed", at, 1)
        characters.append(character)
        at += 1
    raise PhraseError(f"the text has no closing {quote}", start, len(reader.text) - start)


def _joins(character: str) -> bool:
    """Whether a character that shows nothing belongs to what stands around it: joiners of scripts and of emoji, marks of
    direction, tags of flags."""
    return character in "\u200c\u200d\u200e\u200f\u2060" or "\U000e0020" <= character <= "\U000e007f"


def _write_text(text: str) -> str:
    return '"' + "".join(_ESCAPED.get(character, character) for character in text) + '"'


def _read_layer(reader: _Reader, verb: str) -> str:
    word, start = reader.word()
    if not word or word == "then":
        raise reader.error(f"`{verb}` needs a layer's name", word, start)
    if NAME.fullmatch(word) is None or word in LAYER_MODES:
        raise reader.error(f"`{word}` cannot be a layer's name", word, start)
    return word


def _read_mode(reader: _Reader, verb: str) -> str:
    return reader.word()[0] if reader.peek() in LAYER_MODES else ""


def _read_key_words(reader: _Reader, verb: str) -> tuple[str, ...]:
    word, start = reader.word()
    if not word or word == "then":
        raise reader.error(f"`{verb}` needs keys, such as `{verb} ctrl+s`", word, start)
    return _read_keys(reader, word, start)


def _write_keys(keys: tuple[str, ...]) -> str:
    return "+".join(format_key(key) for key in keys)


def _read_profile(reader: _Reader, verb: str) -> str:
    word, start = reader.word()
    if not word:
        raise reader.error(f"`{verb}` needs a profile's name, or next, previous or auto", word, start)
    if NAME.fullmatch(word) is None:
        raise reader.error(f"`{word}` cannot be a profile's name", word, start)
    return word


class Argument(Struct, frozen=True):
    """One kind of argument: how it is read from a phrase and written back, and the word for it in help."""

    word: str
    read: Callable[[_Reader, str], Any]
    write: Callable[[Any], str]


TIME = Argument("TIME", _read_time, format_time)
TEXT = Argument('"TEXT"', _read_text, _write_text)
PROFILE = Argument("NAME|next|previous|auto", _read_profile, str)
LAYER = Argument("NAME", _read_layer, str)
MODE = Argument("[locked|once]", _read_mode, str)
KEYS = Argument("KEYS", _read_key_words, _write_keys)


class Verb(Struct, frozen=True):
    """One word of the language: the step that it makes, its arguments in order, and what to tell a person."""

    word: str
    step: type[Struct]
    arguments: tuple[Argument, ...]
    example: str
    help: str


VERBS: dict[str, Verb] = {
    verb.word: verb
    for verb in (
        Verb("tap", Tap, (KEYS,), "tap ctrl+s", "keys that come up at once, however long the control is held"),
        Verb("toggle", Toggle, (KEYS,), "toggle shift", "keys that stay down until the next time"),
        Verb("press", Press, (KEYS,), "press shift", "keys that stay down until `lift`, or to the end of the action"),
        Verb("lift", Lift, (KEYS,), "lift shift", "lifts what `press` pressed"),
        Verb("wait", Wait, (TIME,), "wait 200ms", "waits before the next step"),
        Verb("type", Type, (TEXT,), 'type "Reel 2"', "types a text, in any script"),
        Verb(
            "profile",
            Profile,
            (PROFILE,),
            "profile next",
            "changes the profile; `auto` follows the focus again",
        ),
        Verb("layer", Layer, (LAYER, MODE), "layer trim", "a layer on top: while held, `locked`, or `once`"),
        Verb("pause", Pause, (), "pause", "stops Fenko and starts it again"),
        Verb("nothing", Nothing, (), "nothing", "does nothing, and hides what lies below"),
    )
}
_VERB_FOR_STEP = {verb.step: verb for verb in VERBS.values()}
_TIMES = re.compile(r"x(\d+)")
_APP = re.compile(rf"({NAME.pattern}):")
EVERY = "every"
LEAST_EVERY = 0.005
"""Seconds; keys that come faster are nothing that a program could follow."""


@lru_cache(maxsize=4096)
def parse_phrase(text: str) -> Phrase:
    """The phrase that `text` writes. Raises PhraseError, and nothing else."""
    reader = _Reader(text)
    steps: list[Step] = []
    if not reader.peek():
        raise PhraseError("an empty phrase; `nothing` does nothing on purpose", 0, max(1, len(text)), "nothing")
    while True:
        steps.append(_read_step(reader))
        word, start = reader.word()
        if not word:
            return Phrase(tuple(steps))
        if word != "then":
            hint = "then" if nearest(word, ["then"]) else None
            raise reader.error(f"expected `then` and another step, not `{word}`", word, start, hint)


def _read_step(reader: _Reader) -> Step:
    word, start = reader.word()
    if not word or word == "then":
        raise reader.error("`then` needs a step on both sides", word, max(0, min(start, len(reader.text) - 1)))
    verb = VERBS.get(word)
    if verb is not None:
        step: Any = verb.step(*(argument.read(reader, word) for argument in verb.arguments))
        return step  # type: ignore[no-any-return]
    if _TIMES.fullmatch(word):
        raise reader.error(f"`{word}` repeats keys and stands after them", word, start)
    app = _APP.fullmatch(word)
    if app is not None:
        return Command(app[1], _read_command(reader, word), _read_times(reader), _read_every(reader))
    before, colon, after = word.partition(":")
    if colon and after and NAME.fullmatch(before) and len(before) > 1:
        raise reader.error("a space stands before a command", word, start, f"{before}: {after}")
    return Keys(_read_keys(reader, word, start), _read_times(reader), _read_every(reader))


def _read_command(reader: _Reader, verb: str) -> str:
    """A command's name: in quotes, or all words up to what cannot be a part of it."""
    word = reader.peek()
    if word and word[0] in "\"'":
        start = reader.at
        text = " ".join(_read_text(reader, verb).split())
        if not text:
            raise PhraseError("an empty command", start, reader.at - start)
        return text
    words: list[str] = []
    while (word := reader.peek()) and word not in ("then", EVERY) and not _TIMES.fullmatch(word):
        for at, character in enumerate(word):
            if not character.isprintable():
                raise PhraseError(f"U+{ord(character):04X} cannot stand here", reader.at + at, 1)
        words.append(reader.word()[0])
    if not words:
        raise reader.error(f"`{verb}` needs a command of its shortcut list", word, reader.at)
    return " ".join(words)


def _write_command(step: Command) -> str:
    words = step.command.split(" ")
    plain = not any(word in ("then", EVERY) or _TIMES.fullmatch(word) for word in words) and words[0][0] not in "\"'"
    return f"{step.app}: {step.command if plain else _write_text(step.command)}"


def _read_every(reader: _Reader) -> float | None:
    if reader.peek() != EVERY:
        return None
    _, start = reader.word()
    every = _read_time(reader, EVERY)
    if every < LEAST_EVERY:
        raise reader.error("keys cannot follow one another that fast", EVERY, start, format_time(LEAST_EVERY))
    return every


def _read_times(reader: _Reader) -> int:
    found = _TIMES.fullmatch(reader.peek())
    if found is None:
        return 1
    word, start = reader.word()
    if len(found[1]) > 3 or not 1 <= int(found[1]) <= MOST_REPEATS:
        raise reader.error(f"keys can be repeated 1 to {MOST_REPEATS} times", word, start)
    return int(found[1])


def _read_keys(reader: _Reader, word: str, start: int) -> tuple[str, ...]:
    """The keys of a word; a mouse button, whose name is the next word, can only be the last of them."""
    if word != BUTTON and not word.endswith(f"+{BUTTON}"):
        return tuple(_each_key(word, start))
    before = word[: -len(BUTTON) - 1]
    name, name_start = reader.word()
    if name not in MOUSE_BUTTONS:
        message = f"`{name}` is no mouse button" if name else "which mouse button?"
        raise reader.error(message, name, name_start, nearest(name, MOUSE_BUTTONS))
    return (*(_each_key(before, start) if word != BUTTON else ()), f"{BUTTON} {name}")


def _each_key(word: str, start: int) -> Iterator[str]:
    seen: set[str] = set()
    at = start
    for part in word.split("+"):
        if not part:
            raise PhraseError(
                "a `+` stands between two keys; the character itself is `plus`",
                min(at, start + len(word) - 1),
                1,
            )
        if part in VERBS or part == BUTTON:
            raise PhraseError(f"`{part}` is no key; it begins a step of its own", at, len(part))
        try:
            key = canonical_key(part)
        except UnknownKey as why:
            hint = why.hint
            words = [*VERBS, BUTTON]
            if len(part) == len(word) and nearest(part, words) and (hint is None or part[:2] != hint[:2]):
                hint = nearest(part, words)
            raise PhraseError(str(why), at, len(part), hint) from None
        if key in seen:
            raise PhraseError(f"`{part}` stands twice", at, len(part))
        seen.add(key)
        yield key
        at += len(part) + 1


def _format_step(step: Step) -> str:
    if isinstance(step, Keys | Command):
        times = f" x{step.times}" if step.times > 1 else ""
        every = f" {EVERY} {format_time(step.every)}" if step.every is not None else ""
        return f"{_write_keys(step.keys) if isinstance(step, Keys) else _write_command(step)}{times}{every}"
    verb = _VERB_FOR_STEP[type(step)]
    values = (getattr(step, field) for field in step.__struct_fields__)
    written = (argument.write(value) for argument, value in zip(verb.arguments, values, strict=True))
    return " ".join(word for word in (verb.word, *written) if word)
