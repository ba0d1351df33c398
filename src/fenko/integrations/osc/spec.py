"""Open Sound Control 1.0: messages with their arguments, and numbers within their ranges."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from typing import Annotated, Any

from msgspec import UNSET, Meta, UnsetType
from msgspec.json import decode, encode

from fenko.core.reader import Reader, in_quotes
from fenko.core.registration import Act, Argument, Output, Queued, Said, Surrounding, Table, Target, Unsettled, Verb
from fenko.core.steps import Amount, Send, Step
from fenko.core.value import Value
from fenko.core.verbs.value import By, Change, Following, To, is_change, lowered, read_change, write_change
from fenko.core.words import nearest
from fenko.integrations.telling import Tells, asked, risk
from fenko.integrations.wording import check_range, entry, filled, range_of, ranged, read_to, the_one, write_to

_ADDRESS = re.compile(r"(/[^\s#*,/?\[\]{}\x00-\x20\x7f-\uffff]+)+")
_INT = re.compile(r"[+-]?\d{1,10}")
_FLOAT = re.compile(r"[+-]?\d+\.\d+(e[+-]?\d+)?")
_WORDS: dict[str, Any] = {"true": True, "false": False, "nil": None}
_PEER = re.compile(r"(udp|tcp) (\[[0-9a-fA-F:.]+\]|[^\s:]+):(\d{1,5})")
_LEAST_INT, _MOST_INT = -(2**31), 2**31 - 1
_MOST_ARGUMENTS = 64
Plain = bool | int | float | str | None


class SendOsc(Said, frozen=True):
    """A message with these arguments; with a change, its number comes after them."""

    address: str
    arguments: tuple[Plain, ...] = ()
    change: Change | None = None
    peer: str = ""


class OscTable(Table):
    """A program that messages go to."""

    to: Annotated[
        str,
        Meta(
            description="Where it listens",
            examples=["udp 127.0.0.1:57110"],
            pattern=r"^(udp|tcp) (\[[0-9a-fA-F:.]+\]|[^\s:]+):\d{1,5}$",
        ),
    ]
    listen: (
        Annotated[
            int,
            Meta(
                description="The UDP port at which it answers, on this machine. Default: answers come to where the messages went out.",
                ge=1,
                le=65535,
            ),
        ]
        | UnsetType
    ) = UNSET
    range: (
        Annotated[
            dict[str, Annotated[list[float], Meta(min_length=2, max_length=2)]],
            Meta(
                description='The least and the most that goes to an address: `"/grain/size" = [0, 2]`. Default: 0 to 1.'
            ),
        ]
        | UnsetType
    ) = UNSET
    hears: (
        Annotated[
            dict[str, str],
            Meta(
                description='What its answers set: `"/main/level" = "value loudness"` a value of the desk, `"/main/mute" = "state '
                'pad.start"` where a binding that does several things in turn has come to.'
            ),
        ]
        | UnsetType
    ) = UNSET
    first: (
        Annotated[list[str], Meta(description='What is said when it is there: `["osc /notify 1"]`, phrases of osc.')]
        | UnsetType
    ) = UNSET
    tells: Tells | UnsetType = UNSET
    tells_on: (
        Annotated[
            str,
            Meta(
                description="The address below which that is told: `/ADDRESS/SURFACE/CONTROL`. Default: /fenko.",
                pattern=r"^(/[A-Za-z0-9_.-]+)+$",
            ),
        ]
        | UnsetType
    ) = UNSET
    note: Annotated[str, Meta(description="Anything worth knowing about it.")] | UnsetType = UNSET


def _read_address(reader: Reader, verb: str) -> str:
    word, start = reader.argument(verb, "an address, such as /grain/size")
    if _ADDRESS.fullmatch(word) is None:
        raise reader.error(
            f"`{word}` is no address: / and a name, again and again, without # * , ? [ ] {{ }}", word, start
        )
    return word


def _read_arguments(reader: Reader, verb: str) -> tuple[Plain, ...]:
    found: list[Plain] = []
    while (word := reader.peek()) not in ("", "then", "to") and not is_change(reader):
        if len(found) == _MOST_ARGUMENTS:
            raise reader.error(f"more than {_MOST_ARGUMENTS} arguments", word, reader.at)
        if word[:1] in ('"', "'"):
            found.append("" if word[:2] in ('""', "''") else reader.quoted(verb))
            if found[-1] == "":
                reader.word()
            continue
        start = reader.at
        reader.word()
        if word in _WORDS:
            found.append(_WORDS[word])
        elif _INT.fullmatch(word) and _LEAST_INT <= int(word) <= _MOST_INT:
            found.append(int(word))
        elif _FLOAT.fullmatch(word) and abs(float(word)) < 3e38:
            found.append(float(word))
        else:
            raise reader.error(f'`{word}` is no argument: 1, 1.0, "text", true, false or nil', word, start)
    return tuple(found)


def _read_change(reader: Reader, verb: str) -> Change | None:
    return read_change(reader, verb) if is_change(reader) else None


def _write_arguments(arguments: tuple[Plain, ...]) -> str:
    return " ".join(map(plain, arguments))


def plain(argument: Plain) -> str:
    """An argument as a phrase writes it."""
    if isinstance(argument, str):
        return in_quotes(argument)
    for word, what in _WORDS.items():
        if argument is what:
            return word
    return repr(argument)


def _steps(said: SendOsc) -> tuple[Step, ...]:
    if said.change is None:
        return (Send("osc", "send", (said.peer, said.address, list(said.arguments))),)
    # One name for one number: where it goes, and with which arguments before it.
    return lowered(("osc", f"{said.peer} {said.address} {encode(said.arguments).decode()}"), said.change)


def _parted(name: str) -> tuple[str, str, list[Plain]]:
    peer, address, arguments = name.split(" ", 2)
    return peer, address, decode(arguments)


def _value(name: str, tables: Mapping[str, Any]) -> Value:
    peer, address, _ = _parted(name)
    return ranged(name, range_of(tables, "osc", peer, address), (0.0, 1.0))


def _tells(name: str) -> Callable[[float], tuple[Any, ...]]:
    peer, address, arguments = _parted(name)
    return lambda number: ("send", peer, address, [*arguments, float(number)])


def _settle(said: SendOsc, around: Surrounding) -> Iterable[Said]:
    peer = the_one(around, "osc", said.peer, 'an [osc.NAME] with `to = "udp 127.0.0.1:9000"`')
    check_range(around, "osc", peer, said.address)
    try:
        heard(around.tables, peer)
    except ValueError as why:
        raise Unsettled(f"[osc.{peer}] hears: {why}", said.address) from None
    return (filled(said, peer=peer),)


def heard(tables: Mapping[str, Any], peer: str) -> dict[str, tuple[str, str]]:
    """What the answers of a peer set: by address, `value` or `state`, and of what. Raises ValueError."""
    known = entry(tables, "osc", peer).get("hears")
    found: dict[str, tuple[str, str]] = {}
    for address, what in known.items() if isinstance(known, dict) else ():
        kind, _, name = str(what).partition(" ")
        if kind not in ("value", "state") or not name:
            raise ValueError(f"`{what}` sets nothing: `value NAME` or `state SURFACE.CONTROL`")
        if kind == "value" and name not in (tables.get("value") or {}):
            hint = nearest(name, tables.get("value") or {})
            raise ValueError(f"`{name}` is no value of the desk" + (f"; `{hint}` is" if hint else ""))
        found[address] = (kind, name)
    return found


def place_of(to: str) -> tuple[str, str, int]:
    """`udp` or `tcp`, host and port. Raises ValueError."""
    found = _PEER.fullmatch(to)
    if found is None or not 0 < int(found[3]) < 65536:
        raise ValueError(f"`{to}` is no place: `udp HOST:PORT` or `tcp HOST:PORT`")
    return found[1], found[2].strip("[]"), int(found[3])


ADDRESS = Argument("/ADDRESS", _read_address, str, ("/grain/size", "/c_set"))
ARGUMENTS = Argument(
    "[ARGUMENT…]", _read_arguments, _write_arguments, ((), (1,), (1.0, -2.5), ("a b", True, False, None), (3, "x"))
)
CHANGE = Argument(
    "[CHANGE]", _read_change, lambda change: write_change(change) if change is not None else "",
    (None, To(Amount(0.5)), By(Amount(-0.1)), Following(), Following(Amount(0), Amount(2))),
)  # fmt: skip
PEER = Argument("[to PEER]", read_to, write_to, ("", "granular"))


def _moved(name: str, before: Mapping[str, Any], now: Mapping[str, Any]) -> str:
    peer, address = name.split(" ", 1)
    return f"osc {address} follow to {peer}"


OUTPUT = Output(
    "osc",
    "OSC",
    "Open Sound Control: lighting desks, sound engines, shows (UDP, or TCP with SLIP).",
    "fenko.integrations.osc.worker:OscWorker",
    reads=("value",),
    verbs=(
        Verb("osc", SendOsc, (ADDRESS, ARGUMENTS, CHANGE, PEER), _steps, "osc /grain/size follow 0 to 2",
             'sends a message: `osc /cue/go 7 "fast"` (`1` is an int, `1.0` a float, `"x"` a text, `true`, `false`, `nil`), or a number '
             "after the arguments: `to 0.5`, `by -0.1`, `follow`, `rate`; `to PEER`. What `then` joins goes as one bundle"),
    ),
    acts=(
        Act("osc", "send", ("to", "address", "arguments"),
            lambda to, address, arguments: f"{to}: {address} {_write_arguments(tuple(arguments))}".rstrip(),
            "an [osc.NAME]; its address; what goes with it", queued=lambda to, address, arguments: _queued(to, address, arguments)),
        Act("osc", "tell", ("to", "address", "arguments"),
            lambda to, address, arguments: f"{to}: {address} {_write_arguments(tuple(arguments))}".rstrip(),
            "the same, of what hands do: 1 or 0; how far, in percent, as it is shown, which way, raw; how far turned; a number",
            queued=lambda to, address, arguments: Queued("all") if len(arguments) == 1 and type(arguments[0]) is int
            else Queued("newest", (to, address))),
    ),
    targets=(Target("osc", _value, lambda name: f"osc {_parted(name)[1]}", _tells),),
    tables={"osc": dict[str, OscTable]},
    settle=_settle,
    ready="fenko.integrations.osc.worker:ready",
    offers="fenko.integrations.osc.worker:offers",
    risk=lambda effect, tables: risk(effect, effect[1], tables, "osc", "to"),
    asks=lambda tables: asked(tables, "osc", "to"),
    listens=lambda tables: any(
        entry(tables, "osc", name).get("hears") or entry(tables, "osc", name).get("tells") for name in tables.get("osc") or {}
    ),
    each="osc",
    end=lambda to, address, arguments: to,
    moved=_moved,
    simulation="fenko.integrations.osc.simulation:OscSimulation",
    place=60,
)  # fmt: skip


def _queued(to: str, address: str, arguments: list[Plain]) -> Queued:
    """A single number that is no whole one is a value that moves, and only the newest counts."""
    if arguments and isinstance(arguments[-1], float):
        return Queued("newest", (to, address, *map(repr, arguments[:-1])))
    return Queued("all")
