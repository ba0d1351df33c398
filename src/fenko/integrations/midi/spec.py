"""MIDI out: notes, controllers, programs, bend, pressure, transport and anything else, as MIDI 1.0 has them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from functools import lru_cache
from typing import Annotated, Any

from msgspec import UNSET, Meta, Struct, UnsetType

from fenko.core.links import LinkKind
from fenko.core.reader import PhraseError, Reader
from fenko.core.registration import (
    Act,
    Argument,
    Finding,
    Held,
    Output,
    Queued,
    Said,
    Surrounding,
    Table,
    Target,
    Verb,
    fact_words,
)
from fenko.core.steps import Amount, Hold, Send, Step
from fenko.core.value import Value
from fenko.core.verbs.value import By, Change, Following, Moving, To, lowered, read_change, write_change
from fenko.integrations.midi.ports import fits
from fenko.integrations.wording import filled, read_to, the_one, whole_number, write_to

USUAL_PORT = "fenko"
"""The port of a desk that names none."""
USUAL_VELOCITY = 100
_LETTERS = {"c": 0, "d": 2, "e": 4, "f": 5, "g": 7, "a": 9, "b": 11}
_NOTE = re.compile(r"([a-g])([#b]?)(-1|\d)")
_NAMES = ("c", "c#", "d", "d#", "e", "f", "f#", "g", "g#", "a", "a#", "b")
_HEX = re.compile(r"[0-9a-fA-F]{2}")
_MOST_BYTES = 4096
TRANSPORT = {"play": 0xFA, "continue": 0xFB, "stop": 0xFC}
"""System real-time messages: start, continue, stop."""
NOTE_OFF, NOTE_ON, CONTROLLER, PROGRAM, PRESSURE, BEND = 0x80, 0x90, 0xB0, 0xC0, 0xD0, 0xE0
SUSTAIN = 64
"""The controller of a pedal."""
SYSEX, SYSEX_END = 0xF0, 0xF7
LENGTHS = {0x8: 3, 0x9: 3, 0xA: 3, 0xB: 3, 0xC: 2, 0xD: 2, 0xE: 3, 0xF1: 2, 0xF2: 3, 0xF3: 2}
"""Bytes of a message, by its first one, or by the upper half of it; those that are not here have one."""
_BEND_STEPS = 8192


class Note(Struct, frozen=True):
    """A note, 0 to 127, as loud as `velocity` (1 to 127; None as far as the control is)."""

    number: int
    velocity: int | None = USUAL_VELOCITY


class Number(Struct, frozen=True):
    """A controller (`cc`, its number), the bend or the pressure of a channel (no number) changes."""

    kind: str
    number: int
    change: Change


class Program(Struct, frozen=True):
    """Another program: 1 to 128."""

    number: int


class Message(Struct, frozen=True):
    """Bytes as they are: transport by its word, or anything by its bytes."""

    data: tuple[int, ...]
    word: str = ""


What = Note | Number | Program | Message


class SendMidi(Said, frozen=True):
    """Something is sent on a channel (1 to 16) of a port."""

    what: What
    channel: int = 1
    port: str = ""


class MidiTable(Table):
    """A port that MIDI goes to."""

    port: (
        Annotated[
            str,
            Meta(
                description="A port of another program or thing, by its name as `fenko ready` lists it (`*` and `?` match). "
                "Default: a port of Fenko's own, which other programs find as `Fenko:NAME`."
            ),
        ]
        | UnsetType
    ) = UNSET
    through: (
        Annotated[
            str, Meta(description="`alsa`, `jack`, or what is there. Default: auto.", pattern="^(auto|alsa|jack)$")
        ]
        | UnsetType
    ) = UNSET
    note: Annotated[str, Meta(description="Anything worth knowing about it.")] | UnsetType = UNSET


def note_number(text: str) -> int | None:
    """The number of a note such as `c4` (60), `f#2`, `eb-1`; None if it is none between 0 and 127."""
    found = _NOTE.fullmatch(text.lower())
    if found is None:
        return int(text) if text.isascii() and text.isdigit() and len(text) < 4 and int(text) < 128 else None
    number = _LETTERS[found[1]] + {"#": 1, "b": -1, "": 0}[found[2]] + 12 * (int(found[3]) + 1)
    return number if 0 <= number < 128 else None


def note_name(number: int) -> str:
    """The name of a note: 60 is `c4`."""
    return f"{_NAMES[number % 12]}{number // 12 - 1}"


def _read(reader: Reader, verb: str) -> What:
    word, start = reader.argument(verb, "note, cc, program, bend, pressure, play, stop, continue or send")
    match word:
        case "note":
            return _read_note(reader)
        case "cc":
            number = whole_number(reader, "midi cc", "controller", 0, 127)
            return Number("cc", number, read_change(reader, "midi cc"))
        case "bend" | "pressure":
            return Number(word, 0, read_change(reader, f"midi {word}"))
        case "program":
            return Program(whole_number(reader, "midi program", "program", 1, 128))
        case "send":
            return Message(_read_bytes(reader))
        case _ if word in TRANSPORT:
            return Message((TRANSPORT[word],), word)
    from fenko.core.words import nearest

    known = ("note", "cc", "program", "bend", "pressure", *TRANSPORT, "send")
    raise reader.error(f"MIDI has no `{word}` here: {', '.join(known)}", word, start, nearest(word, known))


def _read_note(reader: Reader) -> Note:
    word, start = reader.argument("midi note", "a note, such as c4")
    number = note_number(word)
    if number is None:
        raise reader.error(f"`{word}` is no note: c-1 to g9 (c4 is 60), or 0 to 127", word, start)
    velocity: int | None = USUAL_VELOCITY
    if reader.peek() == "velocity":
        reader.word()
        if reader.peek() == "follow":
            reader.word()
            velocity = None
        else:
            velocity = whole_number(reader, "velocity", "velocity", 1, 127)
    return Note(number, velocity)


def _read_bytes(reader: Reader) -> tuple[int, ...]:
    _, start = reader.peek(), reader.at
    data: list[int] = []
    while _HEX.fullmatch(reader.peek()) and len(data) < _MOST_BYTES:
        data.append(int(reader.word()[0], 16))
    length = max(1, reader.at - start)
    if not data:
        raise reader.error("`midi send` needs bytes as two hex digits each: `f0 7e 7f 09 01 f7`", reader.peek(), start)
    try:
        messages(bytes(data))
    except ValueError as why:
        raise PhraseError(f"these bytes are no MIDI: {why}", start, length) from None
    return tuple(data)


def messages(data: bytes) -> list[bytes]:
    """Bytes as whole messages. Raises ValueError with what is wrong with them."""
    found = []
    at = 0
    while at < len(data):
        first = data[at]
        if first < 0x80:
            raise ValueError(f"{first:02x} is where a message has to begin (80 to ff)")
        if first == SYSEX:
            end = data.find(SYSEX_END, at)
            if end < 0:
                raise ValueError("f0 has no f7 behind it")
        elif first == SYSEX_END:
            raise ValueError("f7 has no f0 before it")
        else:
            end = at + LENGTHS.get(first, LENGTHS.get(first >> 4, 1) if first < 0xF0 else 1) - 1
        message = data[at : end + 1]
        if end >= len(data):
            raise ValueError(f"{first:02x} needs {end - at} bytes behind it")
        if any(byte >= 0x80 for byte in message[1 : None if first != SYSEX else -1]):
            raise ValueError(f"behind {first:02x} come bytes of 00 to 7f")
        found.append(message)
        at = end + 1
    return found


def _write(what: What) -> str:
    match what:
        case Note(number, velocity):
            loud = "" if velocity == USUAL_VELOCITY else f" velocity {'follow' if velocity is None else velocity}"
            return f"note {note_name(number)}{loud}"
        case Number(kind, number, change):
            return f"{kind} {f'{number} ' if kind == 'cc' else ''}{write_change(change)}"
        case Program(number):
            return f"program {number}"
        case Message(data, word):
            return word or f"send {' '.join(f'{byte:02x}' for byte in data)}"


def _read_channel(reader: Reader, verb: str) -> int:
    if reader.peek() != "channel":
        return 1
    reader.word()
    return whole_number(reader, "channel", "channel", 1, 16)


# --- What it comes down to. Names of items and numbers: `note 60 100 1 stage`, `cc 74 1 stage` ---


def _steps(said: SendMidi) -> tuple[Step, ...]:
    channel, port = said.channel, said.port or USUAL_PORT
    match said.what:
        case Note(number, velocity):
            return (Hold((("midi", f"note {number} {velocity or 'follow'} {channel} {port}"),)),)
        case Number(kind, number, change):
            return lowered(("midi", f"{kind} {number} {channel} {port}"), change)
        case Program(number):
            return (_send(port, PROGRAM + channel - 1, number - 1),)
        case Message(data):
            return (_send(port, *data),)


def _send(port: str, *data: int) -> Send:
    return Send("midi", "send", (port, list(data)))


def _parted(name: str) -> tuple[str, str, int, str]:
    kind, *numbers, channel, port = name.split(" ")
    return kind, " ".join(numbers), int(channel), port


def _begins(name: str) -> tuple[Any, ...]:
    _, numbers, channel, port = _parted(name)
    number, velocity = numbers.split()
    return (
        "send",
        port,
        [NOTE_ON + channel - 1, int(number), USUAL_VELOCITY if velocity == "follow" else int(velocity)],
    )


def _ends(name: str) -> tuple[Any, ...]:
    _, numbers, channel, port = _parted(name)
    return ("send", port, [NOTE_OFF + channel - 1, int(numbers.split()[0]), 0])


def _felt(name: str, depth: float) -> str:
    return name.replace(" follow ", f" {max(1, round(depth * 127))} ", 1)


def _value(name: str, tables: Mapping[str, Any]) -> Value:
    kind = name.split(" ", 1)[0]
    if kind == "bend":
        return Value(name, -1.0, 1.0, 0.0, 1 / _BEND_STEPS)
    return Value(name, 0.0, 127.0, 0.0, 1.0)


@lru_cache(maxsize=1024)
def _tells(name: str) -> Callable[[float], tuple[Any, ...]]:
    kind, numbers, channel, port = _parted(name)
    if kind == "cc":
        return lambda number: ("send", port, [CONTROLLER + channel - 1, int(numbers), round(number)])
    if kind == "pressure":
        return lambda number: ("send", port, [PRESSURE + channel - 1, round(number)])

    def bend(number: float) -> tuple[Any, ...]:
        most = 2 * _BEND_STEPS - 1
        steps = min(most, round((number + 1) * _BEND_STEPS))
        return ("send", port, [BEND + channel - 1, steps & 0x7F, steps >> 7])

    return bend


def _spelled_value(name: str) -> str:
    kind, numbers, _, _ = _parted(name)
    return f"midi {kind} {numbers}" if kind == "cc" else f"midi {kind}"


def _spelled_note(name: str) -> str:
    return f"midi note {note_name(int(name.split(' ')[1]))}"


# --- How it reads, how it waits, and what the desk makes of it ---


def described(data: list[int]) -> str:
    """A message in words."""
    kind, channel, more = data[0] & 0xF0, data[0] & 0x0F, data[1:]
    where = f" channel {channel + 1}" if data[0] < 0xF0 and channel else ""
    word = next((word for word, byte in TRANSPORT.items() if data == [byte]), None)
    if word is not None:
        return word
    if kind == NOTE_ON and len(data) == 3 and more[1]:
        return f"note {note_name(more[0])} on {more[1]}{where}"
    if kind in (NOTE_ON, NOTE_OFF) and len(data) == 3:
        return f"note {note_name(more[0])} off{where}"
    if kind == CONTROLLER and len(data) == 3:
        return f"cc {more[0]} = {more[1]}{where}"
    if kind == PROGRAM and len(data) == 2:
        return f"program {more[0] + 1}{where}"
    if kind == PRESSURE and len(data) == 2:
        return f"pressure {more[0]}{where}"
    if kind == BEND and len(data) == 3:
        return f"bend {(more[0] + (more[1] << 7)) / _BEND_STEPS - 1:+.3f}{where}"
    return " ".join(f"{byte:02x}" for byte in data[:24]) + (" …" if len(data) > 24 else "")


def queued(port: str, data: list[int]) -> Queued:
    """How a message waits: notes by their ends, of what is continuous only the newest."""
    kind = data[0] & 0xF0
    if kind == NOTE_OFF or (kind == NOTE_ON and data[2] == 0):
        return Queued("end", (port, data[0] & 0x0F, data[1]))
    if kind == NOTE_ON:
        return Queued("begin", (port, data[0] & 0x0F, data[1]))
    if kind == CONTROLLER:
        return Queued("newest", (port, data[0], data[1]))
    if kind in (PRESSURE, BEND):
        return Queued("newest", (port, data[0]))
    return Queued("all")


def _settle(said: SendMidi, around: Surrounding) -> Iterable[Said]:
    if not said.port and not around.table("midi"):
        return (filled(said, port=USUAL_PORT),)
    return (filled(said, port=the_one(around, "midi", said.port, "a [midi.NAME] in this desk")),)


def _judge(said: SendMidi, around: Surrounding) -> Iterable[Finding]:
    what = said.what
    if (
        isinstance(what, Message)
        and not what.word
        and what.data[0] & 0xF0 == NOTE_ON
        and len(what.data) == 3
        and what.data[2]
    ):
        yield Finding(
            "notes without an end",
            "this note begins and nothing ends it",
            "warning",
            f"`midi note {note_name(what.data[1])}`",
        )


WHAT = Argument(
    "note NOTE [velocity N|follow] | cc N CHANGE | program N | bend CHANGE | pressure CHANGE | play | stop | continue | send HEX…",
    _read, _write,
    (Note(60), Note(1, 1), Note(127, None), Number("cc", 64, To(Amount(127))), Number("cc", 1, Following()),
     Number("cc", 7, By(Amount(-5))), Number("bend", 0, Following()), Number("pressure", 0, Moving(Amount(30, "%"))),
     Program(1), Program(128), Message((0xFA,), "play"), Message((0xF0, 0x7E, 0x7F, 0x09, 0x01, 0xF7))),
)  # fmt: skip
CHANNEL = Argument("[channel N]", _read_channel, lambda channel: f"channel {channel}" if channel != 1 else "", (1, 16))
PORT = Argument("[to PORT]", read_to, write_to, ("", "stage"))

OUTPUT = Output(
    "midi",
    "MIDI",
    "Notes, controllers and everything else, to ports of Fenko's own that programs find, or to any that is there (ALSA, JACK).",
    "fenko.integrations.midi.worker:MidiWorker",
    verbs=(
        Verb("midi", SendMidi, (WHAT, CHANNEL, PORT), _steps, "midi note c4 velocity follow",
             "sends MIDI: `note c4` sounds as long as the control is held (c4 is 60), `velocity 80` or `velocity follow`; `cc 74 to "
             "127`, `by`, `follow`, `rate`; `program 5`, `bend follow`, `pressure follow`, `play`, `stop`, `continue`, `send f0 … f7`; "
             "`channel 2`, `to PORT`"),
    ),
    acts=(
        Act("midi", "send", ("port", "bytes"), lambda port, data: f"{port}: {described(data)}",
            "a [midi.NAME]; the bytes of the message", queued=queued),
    ),
    held=(Held("midi", _begins, _ends, _spelled_note, _felt),),
    targets=(Target("midi", _value, _spelled_value, _tells),),
    tables={"midi": dict[str, MidiTable]},
    settle=_settle,
    judge=_judge,
    ready="fenko.integrations.midi.worker:ready",
    offers="fenko.integrations.midi.worker:offers",
    in_words=fact_words(to=lambda to: f"connected with {', '.join(to) or 'nobody'}"),
    simulation="fenko.integrations.midi.simulation:MidiSimulation",
    place=50,
)  # fmt: skip

LINKS = (
    LinkKind(
        "midi",
        "fenko.integrations.midi.transport:MidiWay",
        form="midi PORT",
        pattern=r"midi \S.*",
        surface_kind="midi",
        title=lambda rest: rest.strip("*"),
        find="fenko.integrations.midi.found:controllers",
        heard_unasked=True,
        fits=fits,
        ready="fenko.integrations.midi.found:ready",
        place=10,
    ),
)
