"""Keys and mouse buttons: what a control holds down, strikes, and presses until it lifts it again."""

from __future__ import annotations

import re
from collections.abc import Iterator

from fenko.core import steps
from fenko.core.keys import MOUSE_BUTTONS, UnknownKey, canonical_key, format_key
from fenko.core.reader import NAME, PhraseError, Reader, in_quotes
from fenko.core.registration import Act, Argument, Held, Said, Verb
from fenko.core.words import format_time, nearest, parse_time

MOST_REPEATS = 999
LEAST_EVERY = 0.005
"""Seconds; keys that come faster are nothing that a program could follow."""
EVERY = "every"
BUTTON = "button"
"""The word before a mouse button's name; a button among keys is `button left`, which no key is called."""
TIMES = re.compile(r"x(\d+)")


class Keys(Said, frozen=True):
    """Keys that go down in order and come up in reverse, `times` times (1 to 999).

    With `every` (seconds from one press to the next) and once, again and again as long as the control is held."""

    keys: tuple[str, ...]
    times: int = 1
    every: float | None = None


class Command(Said, frozen=True):
    """A command of a program, whose keys its shortcut list tells; otherwise like `Keys`."""

    app: str
    command: str
    times: int = 1
    every: float | None = None


class Tap(Said, frozen=True):
    """Keys that go down and come up at once, however long the control is held."""

    keys: tuple[str, ...]


class Toggle(Said, frozen=True):
    """Keys that go down and stay, and come up with the next time."""

    keys: tuple[str, ...]


class Press(Said, frozen=True):
    """Keys that go down and stay until the action lifts them, or is through: how a recorded macro holds Shift."""

    keys: tuple[str, ...]


class Lift(Said, frozen=True):
    """Keys that the same action pressed come up."""

    keys: tuple[str, ...]


def items_of(keys: tuple[str, ...]) -> tuple[steps.Item, ...]:
    """Keys and mouse buttons, as a phrase spells them, as what the engine holds."""
    return tuple(item_of(key) for key in keys)


def item_of(key: str) -> steps.Item:
    """A key, or `button left`, as what the engine holds."""
    return ("pointer", key[len(BUTTON) + 1 :]) if key.startswith(f"{BUTTON} ") else ("keys", key)


# --- Reading and writing ---


def read_keys(reader: Reader, word: str, start: int) -> tuple[str, ...]:
    """The keys of a word; a mouse button, whose name is the next word, can only be the last of them."""
    if word != BUTTON and not word.endswith(f"+{BUTTON}"):
        return tuple(_each_key(reader, word, start))
    before = word[: -len(BUTTON) - 1]
    name, name_start = reader.word()
    if name not in MOUSE_BUTTONS:
        message = f"`{name}` is no mouse button" if name else "which mouse button?"
        raise reader.error(message, name, name_start, nearest(name, MOUSE_BUTTONS))
    return (*(_each_key(reader, before, start) if word != BUTTON else ()), f"{BUTTON} {name}")


def _each_key(reader: Reader, word: str, start: int) -> Iterator[str]:
    seen: set[str] = set()
    at = start
    for part in word.split("+"):
        if not part:
            raise PhraseError(
                "a `+` stands between two keys; the character itself is `plus`",
                min(at, start + len(word) - 1),
                1,
            )
        if part in reader.verbs or part == BUTTON:
            raise PhraseError(f"`{part}` is no key; it begins a step of its own", at, len(part))
        try:
            key = canonical_key(part)
        except UnknownKey as why:
            hint = why.hint
            words = [*reader.verbs, BUTTON]
            if len(part) == len(word) and hint not in (*words, "button left") and (verb := nearest(part, words)):
                hint = verb if hint is None or part[:2] != hint[:2] else hint
            raise PhraseError(str(why), at, len(part), hint) from None
        if key in seen:
            raise PhraseError(f"`{part}` stands twice", at, len(part))
        seen.add(key)
        yield key
        at += len(part) + 1


def read_time(reader: Reader, verb: str) -> float:
    """A time of more than nothing, in seconds."""
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


def read_repeated_keys(reader: Reader, word: str, start: int) -> Keys:
    """Keys with how often they come."""
    return Keys(read_keys(reader, word, start), _read_times(reader), _read_every(reader))


def read_command(reader: Reader, app: str) -> Command:
    """A command's name, in quotes or all words up to what cannot be a part of it, with how often it comes."""
    return Command(app, _command_name(reader, f"{app}:"), _read_times(reader), _read_every(reader))


def _command_name(reader: Reader, verb: str) -> str:
    word = reader.peek()
    if word and word[0] in "\"'":
        start = reader.at
        text = " ".join(reader.quoted(verb).split())
        if not text:
            raise PhraseError("an empty command", start, reader.at - start)
        return text
    words: list[str] = []
    while (word := reader.peek()) and word not in ("then", EVERY) and not TIMES.fullmatch(word):
        for at, character in enumerate(word):
            if not character.isprintable():
                raise PhraseError(f"U+{ord(character):04X} cannot stand here", reader.at + at, 1)
        words.append(reader.word()[0])
    if not words:
        raise reader.error(f"`{verb}` needs a command of its shortcut list", word, reader.at)
    return " ".join(words)


def _read_times(reader: Reader, verb: str = "") -> int:
    found = TIMES.fullmatch(reader.peek())
    if found is None:
        return 1
    word, start = reader.word()
    if len(found[1]) > 3 or not 1 <= int(found[1]) <= MOST_REPEATS:
        raise reader.error(f"keys can be repeated 1 to {MOST_REPEATS} times", word, start)
    return int(found[1])


def _read_every(reader: Reader, verb: str = "") -> float | None:
    if reader.peek() != EVERY:
        return None
    _, start = reader.word()
    every = read_time(reader, EVERY)
    if every < LEAST_EVERY:
        raise reader.error("keys cannot follow one another that fast", EVERY, start, format_time(LEAST_EVERY))
    return every


def _write_keys(keys: tuple[str, ...]) -> str:
    return "+".join(format_key(key) for key in keys)


def _write_command(name: tuple[str, str]) -> str:
    app, command = name
    words = command.split(" ")
    plain = not any(word in ("then", EVERY) or TIMES.fullmatch(word) for word in words) and words[0][0] not in "\"'"
    return f"{app}: {command if plain else in_quotes(command)}"


def _read_key_words(reader: Reader, verb: str) -> tuple[str, ...]:
    return read_keys(reader, *reader.argument(verb, f"keys, such as `{verb} ctrl+s`"))


# --- What they come down to ---


def _keys_steps(said: Keys) -> tuple[steps.Step, ...]:
    items = items_of(said.keys)
    if said.times == 1:
        return (steps.Hold(items) if said.every is None else steps.Repeat(items, said.every),)
    apart = said.every or 0.0
    return (*(steps.Strike(items, apart),) * (said.times - 1), steps.Strike(items))


def _command_steps(said: Command) -> tuple[steps.Step, ...]:
    raise LookupError(f"nobody has said which keys `{said.app}: {said.command}` has")


# Some keys for tests and completion; all of them can stand together.
_SAMPLES = (("ctrl", "s"), ("shift",), ("a", "b"), ("f5",), ("ctrl", "shift", "button left"))
KEYS = Argument("KEYS", _read_key_words, _write_keys, _SAMPLES)

VERBS = (
    Verb("tap", Tap, (KEYS,), lambda said: (steps.Strike(items_of(said.keys)),), "tap ctrl+s",
         "the keys come up at once, however long the control is held"),
    Verb("toggle", Toggle, (KEYS,), lambda said: (steps.Toggle(items_of(said.keys)),), "toggle shift",
         "the keys stay down until the next time, until the profile changes, or Fenko pauses or ends"),
    Verb("press", Press, (KEYS,), lambda said: (steps.Begin(items_of(said.keys)),), "press shift",
         "keys that stay down while the action goes on, as in `press shift then right x3 then lift shift`"),
    Verb("lift", Lift, (KEYS,), lambda said: (steps.End(items_of(said.keys)),), "lift shift",
         "lifts what the same action pressed; what it does not lift comes up at its end"),
)  # fmt: skip


_TIMES = Argument("[xN]", _read_times, lambda times: f"x{times}" if times > 1 else "", (1, 2, 4))
_EVERY = Argument(
    "[every TIME]", _read_every, lambda every: "" if every is None else f"{EVERY} {format_time(every)}",
    (None, 0.005, 0.03, 0.2),
)  # fmt: skip
_APP = Argument("NAME:", lambda reader, verb: "", str, ("snipwell", "hushdesk"))
_COMMAND = Argument(
    "COMMAND", _command_name, str, ("Split all", "x3 then", '"', "every", "Größe", "'quoted'")
)  # fmt: skip

FORMS = (
    Verb("", Keys, (KEYS, _TIMES, _EVERY), _keys_steps, "ctrl+z x3", "keys, held as long as the control is"),
    Verb("", Command, (_APP, _COMMAND, _TIMES, _EVERY), _command_steps, "snipwell: Split all",
         "a command of a program's shortcut list"),
)  # fmt: skip


def write_form(said: Keys | Command) -> str:
    """Keys or a command as a phrase spells them."""
    what = _write_keys(said.keys) if isinstance(said, Keys) else _write_command((said.app, said.command))
    return " ".join(word for word in (what, _TIMES.write(said.times), _EVERY.write(said.every)) if word)


APP = re.compile(rf"({NAME.pattern}):")

ACTS = (
    Act("keys", "down", ("key",), lambda key: f"{format_key(key)}↓", "a key as phrases spell it"),
    Act("keys", "up", ("key",), lambda key: f"{format_key(key)}↑", "the same"),
    Act("pointer", "down", ("button",), lambda button: f"button {button}↓", "`left`, `middle`, `right` …"),
    Act("pointer", "up", ("button",), lambda button: f"button {button}↑", "the same"),
)
HELD = (
    Held("keys", lambda name: ("down", name), lambda name: ("up", name)),
    Held("pointer", lambda name: ("down", name), lambda name: ("up", name), lambda name: f"{BUTTON} {name}"),
)
