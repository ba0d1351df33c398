"""The audio server: how loud its output is, its input, and each program's stream; and whether they are muted."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Annotated, Any

from msgspec import UNSET, Meta, Struct, UnsetType

from fenko.core.reader import Reader
from fenko.core.registration import Act, Argument, Output, Queued, Said, Table, Target, Verb, fact_words
from fenko.core.steps import Amount, Send, Step
from fenko.core.value import Value
from fenko.core.verbs.value import By, Change, Moving, To, lowered, read_change, write_change
from fenko.integrations.wording import OF, write_of

OUTPUT_NAME, INPUT_NAME = "output", "input"
FRONT = "front"
_MOST = 150


class Mute(Struct, frozen=True):
    """It is silent, or heard again (`on`, `off`), or the other of the two (empty)."""

    to: str = ""


class ChangeVolume(Said, frozen=True):
    """How loud the output is, or one program's stream."""

    of: str
    change: Change | Mute


class ChangeMicrophone(Said, frozen=True):
    """How loud the input is."""

    change: Change | Mute


class AudioTable(Table):
    """What holds for the audio server."""

    most: (
        Annotated[
            int,
            Meta(description="How loud anything may be made, in percent: 10 to 150. Default: 100.", ge=10, le=_MOST),
        ]
        | UnsetType
    ) = UNSET


def _read(reader: Reader, verb: str) -> Change | Mute:
    if reader.peek() == "mute":
        reader.word()
        return Mute(reader.word()[0] if reader.peek() in ("on", "off") else "")
    at = reader.at
    change = read_change(reader, verb)
    if isinstance(change, Moving) and change.speed.unit == "dB":
        raise reader.error("a volume moves by percent a second", reader.text[at : reader.at].strip(), at, "rate 30%")
    return change


def _write(change: Change | Mute) -> str:
    return f"mute {change.to}".strip() if isinstance(change, Mute) else write_change(change)


CHANGE = Argument(
    "CHANGE|mute [on|off]", _read, _write,
    (To(Amount(40, "%")), By(Amount(5, "%")), By(Amount(-3, "dB")), Moving(Amount(30, "%")), Mute(), Mute("on"), Mute("off")),
)  # fmt: skip


def _steps(of: str, change: Change | Mute) -> tuple[Step, ...]:
    if isinstance(change, Mute):
        return (Send("audio", "mute", (of, change.to or "switch")),)
    return lowered(("audio", of), change)


def _value(name: str, tables: Mapping[str, Any]) -> Value:
    table = tables.get("audio")
    most = table.get("most", 100) if isinstance(table, dict) else 100
    return Value(name, 0.0, float(most) if isinstance(most, int) else 100.0, 0.0, 0.0, "%", full=100.0)


def _tells(name: str) -> Callable[[float], tuple[Any, ...]]:
    return lambda number: ("level", name, round(number / 100, 6))


def _moves(name: str) -> Callable[[Amount], tuple[Any, ...]]:
    def move(amount: Amount) -> tuple[Any, ...]:
        if amount.unit == "dB":
            return ("gain", name, amount.number)
        return ("step", name, round(amount.number / 100, 9))

    return move


def _spelled(name: str) -> str:
    return "microphone" if name == INPUT_NAME else f"volume {'' if name == OUTPUT_NAME else write_of(name)}".strip()


_ABOUT = "`output`, `input`, the name of a stream, or `front`"


def _moved(name: str, before: Mapping[str, Any], now: Mapping[str, Any]) -> str:
    if not before:
        return ""  # a program that begins to play
    return f"{_spelled(name)} {'mute' if before['muted'] != now['muted'] else 'by +5%'}"


OUTPUT = Output(
    "audio",
    "Audio server",
    "The volume of the output, the microphone, or of one program's stream (PulseAudio, PipeWire).",
    "fenko.integrations.audio.worker:AudioWorker",
    reads=("app",),
    verbs=(
        Verb("volume", ChangeVolume, (OF, CHANGE), lambda said: _steps(said.of or OUTPUT_NAME, said.change),
             "volume of front by +5%",
             "how loud the output is, or (`of NAME`, `of front`) one program: `to 40%`, `by +5%`, `by -3dB`, `follow`, "
             "`rate 30%`, `mute`, `mute on`, `mute off`"),
        Verb("microphone", ChangeMicrophone, (CHANGE,), lambda said: _steps(INPUT_NAME, said.change),
             "microphone mute", "the same of the audio server's input"),
    ),
    acts=(
        Act("audio", "level", ("of", "level"), lambda of, level: f"{_spelled(of)} {level * 100:.4g}%",
            f"{_ABOUT}; 1 is 100 %", queues="newest", mood="change"),
        Act("audio", "step", ("of", "by"), lambda of, by: f"{_spelled(of)} {by * 100:+.4g}%",
            f"{_ABOUT}; 0.05 is 5 %", queues="summed", queued=lambda of, by: Queued("summed", (of,))),
        Act("audio", "gain", ("of", "by"), lambda of, by: f"{_spelled(of)} {by:+.4g} dB",
            f"{_ABOUT}; decibels", queues="summed", queued=lambda of, by: Queued("summed", (of,))),
        Act("audio", "mute", ("of", "to"), lambda of, to: f"{_spelled(of)} mute {to}",
            f"{_ABOUT}; `on`, `off` or `switch`", mood="change",
            queued=lambda of, to: Queued("flip" if to == "switch" else "last", (of,)),
            leads_to=lambda of, to: None if to == "switch" else (of, "muted", to == "on")),
    ),
    targets=(Target("audio", _value, _spelled, _tells, _moves),),
    tables={"audio": AudioTable},
    ready="fenko.integrations.audio.worker:ready",
    offers="fenko.integrations.audio.worker:offers",
    moved=_moved,
    in_words=fact_words(level=lambda level: f"{level * 100:.0f}%", muted=lambda muted: "muted" if muted else ""),
    simulation="fenko.integrations.audio.simulation:AudioSimulation",
    place=10,
)  # fmt: skip
