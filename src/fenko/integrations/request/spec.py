"""Requests to web servers: named in the desk file, sent by their name."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Annotated, Any

from msgspec import UNSET, Meta, UnsetType
from msgspec.json import encode

from fenko.core.reader import NAME, Reader
from fenko.core.registration import Act, Argument, Output, Said, Surrounding, Table, Unsettled, Verb
from fenko.core.steps import Send
from fenko.integrations.wording import entry, the_one


class SendRequest(Said, frozen=True):
    """A request of the desk is sent."""

    name: str


class Secret(Table):
    """A text that stands somewhere else: in a file that only the person can read, or in the environment."""

    file: Annotated[str, Meta(description="A file of the person alone; `~` is the home folder.")] | UnsetType = UNSET
    env: Annotated[str, Meta(description="The name of a variable of the environment.")] | UnsetType = UNSET
    before: Annotated[str, Meta(description="What stands before it, such as `Bearer `.")] | UnsetType = UNSET


class RequestTable(Table):
    """A request."""

    url: Annotated[
        str, Meta(description="Where it goes", pattern=r"^https?://\S+$", examples=["https://lamps.example/scene"])
    ]
    method: (
        Annotated[
            str, Meta(description="Default: POST with a body, else GET.", pattern="^(GET|POST|PUT|PATCH|DELETE|HEAD)$")
        ]
        | UnsetType
    ) = UNSET
    headers: (
        Annotated[
            dict[str, str | Secret], Meta(description="Its headers; a secret is `{ file = … }` or `{ env = … }`.")
        ]
        | UnsetType
    ) = UNSET
    json: Annotated[Any, Meta(description="Its body: anything that JSON can say.")] | UnsetType = UNSET
    body: Annotated[str, Meta(description="Its body, as text.")] | UnsetType = UNSET
    limit: (
        Annotated[
            str, Meta(description="How long it may take, up to 60s. Default: 5s.", pattern=r"^\d+(\.\d+)?(ms|s)$")
        ]
        | UnsetType
    ) = UNSET
    ca: (
        Annotated[
            str,
            Meta(description="A file with the certificate that the server's is signed with. Default: the system's."),
        ]
        | UnsetType
    ) = UNSET
    note: Annotated[str, Meta(description="Anything worth knowing about it.")] | UnsetType = UNSET


def _read(reader: Reader, verb: str) -> str:
    word, start = reader.argument(verb, "the name of a [request.NAME]")
    if NAME.fullmatch(word) is None:
        raise reader.error(f"`{word}` cannot be a request's name", word, start)
    return word


def _settle(said: SendRequest, around: Surrounding) -> Iterable[Said]:
    the_one(around, "request", said.name, 'a [request.NAME] with `url = "…"`')
    table = entry(around.tables, "request", said.name)
    if "json" in table and "body" in table:
        raise Unsettled(f"[request.{said.name}] has both `json` and `body`", said.name, "one of them")
    return (said,)


def method_of(table: Mapping[str, Any]) -> str:
    """How it is sent."""
    return str(table.get("method", "POST" if "json" in table or "body" in table else "GET"))


def _risk(effect: tuple[Any, ...], tables: Mapping[str, Any]) -> str:
    """All of a request that matters, in words; of a secret only where it stands."""
    table = entry(tables, "request", effect[1])
    words = [f"sends {effect[1]}: {method_of(table)} {table.get('url', '')}"]
    words += [_shown(table[part]) for part in ("json", "body") if part in table]
    headers = table.get("headers")
    words += [f"{name}: {_shown(value)}" for name, value in headers.items()] if isinstance(headers, dict) else []
    words += [f"ca {table['ca']}"] if "ca" in table else []
    return "; ".join(words)


def _shown(value: Any) -> str:
    return encode(value, order="sorted").decode()


REQUEST = Argument("NAME", _read, str, ("house-lights",), "request")

OUTPUT = Output(
    "request",
    "Requests",
    "HTTP requests that the desk names: a scene, a recorder, a home's lamps.",
    "fenko.integrations.request.worker:RequestWorker",
    verbs=(
        Verb("request", SendRequest, (REQUEST,), lambda said: (Send("request", "send", (said.name,)),), "request house-lights",
             "sends a [request.NAME] of the desk: its method, address, headers and body"),
    ),
    acts=(Act("request", "send", ("name",), lambda name: f"request {name}", "a [request.NAME] of the desk", mood="change"),),
    tables={"request": dict[str, RequestTable]},
    settle=_settle,
    risk=_risk,
    offers="fenko.integrations.request.worker:offers",
    simulation="fenko.integrations.request.simulation:RequestSimulation",
    place=70,
)  # fmt: skip
