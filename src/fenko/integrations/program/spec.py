"""Programs and their windows: started, brought to the front, closed; and what the desktop opens with its own program."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Mapping
from typing import Any

from fenko.core.reader import NAME, Reader, in_quotes
from fenko.core.registration import Act, Argument, Output, Queued, Said, Surrounding, Unsettled, Verb
from fenko.core.steps import Send
from fenko.core.words import nearest, shortened
from fenko.integrations.wording import entry

WINDOW = "window"


class Start(Said, frozen=True):
    """A program is started."""

    name: str


class Front(Said, frozen=True):
    """A program's window comes to the front; one that does not run is started, if the desk knows how."""

    name: str


class Close(Said, frozen=True):
    """A program's windows are asked to close, or the window in front (`window`)."""

    name: str


class Open(Said, frozen=True):
    """A file or address is opened with whatever the desktop opens it with."""

    what: str


def _read(reader: Reader, verb: str) -> str:
    word, start = reader.argument(verb, "the name of an [app.NAME]")
    if NAME.fullmatch(word) is None:
        raise reader.error(f"`{word}` cannot be a program's name", word, start)
    return word


def _settle(said: Start | Front | Close | Open, around: Surrounding) -> Iterable[Said]:
    if isinstance(said, Open) or (isinstance(said, Close) and said.name == WINDOW):
        return (said,)
    known = around.table("app")
    if said.name not in known:
        raise Unsettled(
            f"unknown program `{said.name}`",
            said.name,
            ", ".join(known) or "an [app.NAME] in this desk",
            nearest(said.name, known),
        )
    if isinstance(said, Start) and not command_of(around.tables, said.name):
        raise Unsettled(
            f"the desk does not say how `{said.name}` is started", said.name, f'`command = ["…"]` in [app.{said.name}]'
        )
    return (said,)


def command_of(tables: Mapping[str, Any], name: str) -> list[str]:
    """How a program is started; empty if the desk does not say."""
    command = entry(tables, "app", name).get("command")
    return [word for word in command if isinstance(word, str)] if isinstance(command, list) else []


def _risk(effect: tuple[Any, ...], tables: Mapping[str, Any]) -> str:
    act, what = effect[:2]
    if act == "open":
        return f"opens {what}"
    command = command_of(tables, what) if act in ("start", "front") and what else []
    return f"starts {what}: {shlex.join(command)}" if command else ""


PROGRAM = Argument("NAME", _read, str, ("snipwell",), "app")
PROGRAM_OR_WINDOW = Argument("NAME|window", _read, str, ("snipwell", WINDOW), "app", (WINDOW,))
WHAT = Argument(
    '"FILE or URI"', lambda reader, verb: reader.quoted(verb), in_quotes, ("notes.txt", "https://lantern.example/")
)

OUTPUT = Output(
    "program",
    "Programs and windows",
    "Starts programs, brings their windows to the front, asks them to close, opens files and addresses.",
    "fenko.integrations.program.worker:ProgramWorker",
    reads=("app",),
    verbs=(
        Verb("start", Start, (PROGRAM,), lambda said: (Send("program", "start", (said.name,)),), "start snipwell",
             "starts a program, by the `command` of its [app.NAME]"),
        Verb("front", Front, (PROGRAM,), lambda said: (Send("program", "front", (said.name,)),), "front snipwell",
             "brings a program's window to the front, and starts what does not run"),
        Verb("close", Close, (PROGRAM_OR_WINDOW,),
             lambda said: (Send("program", "close", (None if said.name == WINDOW else said.name,)),), "close window",
             "asks the window in front (`close window`), or a program, to close"),
        Verb("open", Open, (WHAT,), lambda said: (Send("program", "open", (said.what,)),), 'open "https://lantern.example/"',
             "opens a file or an address with what the desktop opens it with"),
    ),
    acts=(
        *(
            Act("program", act, ("name",), lambda name, act=act: f"{act} {name or 'window'}", about, mood="change",
                queued=lambda name, act=act: Queued("newest", (act,)) if act == "front" else Queued("all"))
            for act, about in (
                ("start", "an [app.NAME] of the desk"), ("front", "an [app.NAME] of the desk"),
                ("close", "an [app.NAME] of the desk; null for the window in front"),
            )
        ),
        Act("program", "open", ("what",), lambda what: f'opens "{shortened(what)}"', "a file or an address", mood="change"),
    ),
    settle=_settle,
    risk=_risk,
    ready="fenko.integrations.program.worker:ready",
    offers="fenko.integrations.program.worker:offers",
    simulation="fenko.integrations.program.simulation:ProgramSimulation",
    place=40,
)  # fmt: skip
