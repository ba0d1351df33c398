"""Log files: lines that a phrase appends."""

from __future__ import annotations

from typing import Annotated, Any

from msgspec import UNSET, Meta, UnsetType

from fenko.core.reader import Reader, in_quotes
from fenko.core.registration import Act, Argument, Output, Said, Table, Verb
from fenko.core.steps import Send


class AppendLine(Said, frozen=True):
    """A line that is appended."""

    text: str


class LogTable(Table):
    """The log file."""

    file: (
        Annotated[str, Meta(description="Path of the log file, relative to the desk. Default: `log.txt`.")] | UnsetType
    ) = UNSET


def _read(reader: Reader, verb: str) -> str:
    return reader.quoted(verb)


def _steps(said: Any) -> tuple[Send, ...]:
    return (Send("log", "append", (said.text,)),)


TEXT = Argument("TEXT", _read, in_quotes, ("reel 2 begins",))
OUTPUT = Output(
    "log",
    "Log file",
    "Lines in a log file.",
    "fenko.integrations.log.worker:LogWorker",
    verbs=(Verb("log", AppendLine, (TEXT,), _steps, 'log "reel 2 begins"', "appends a line to the log file"),),
    acts=(Act("log", "append", ("text",), lambda text: f'log "{text}"', "a line"),),
    tables={"log": LogTable},
    place=200,
)
