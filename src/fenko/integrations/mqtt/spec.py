"""MQTT: texts and numbers, published on topics of a broker."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from typing import Annotated, Any

from msgspec import UNSET, Meta, UnsetType

from fenko.core.reader import Reader, in_quotes
from fenko.core.registration import Act, Argument, Output, Queued, Said, Surrounding, Table, Target, Verb
from fenko.core.steps import Amount, Send, Step
from fenko.core.value import Value
from fenko.core.verbs.value import By, Change, Following, To, lowered, read_change, write_change
from fenko.core.words import shortened
from fenko.integrations.request.spec import Secret
from fenko.integrations.telling import Tells, asked, risk, tells_of
from fenko.integrations.wording import check_range, filled, range_of, ranged, read_to, the_one, write_to

_MOST = 65535  # bytes of a topic
_NUMBER = re.compile(r"-?\d+(\.\d+)?(e[+-]\d+)?")


class Publish(Said, frozen=True):
    """A text, or a number, is published."""

    topic: str
    what: str | Change
    broker: str = ""


class MqttTable(Table):
    """A broker."""

    url: Annotated[
        str,
        Meta(description="Where it is", pattern=r"^mqtts?://[^\s/]+$", examples=["mqtts://bench.example:8883"]),
    ]
    user: Annotated[str, Meta(description="Who one is there.")] | UnsetType = UNSET
    password: (
        Annotated[str | Secret, Meta(description="`{ file = … }` or `{ env = … }`; a text here is no secret.")]
        | UnsetType
    ) = UNSET
    ca: (
        Annotated[
            str,
            Meta(description="A file with the certificate that the broker's is signed with. Default: the system's."),
        ]
        | UnsetType
    ) = UNSET
    certificate: Annotated[str, Meta(description="A file with one's own certificate.")] | UnsetType = UNSET
    key: Annotated[str, Meta(description="A file with its key.")] | UnsetType = UNSET
    keep: (
        Annotated[
            bool,
            Meta(description="Whether the broker keeps the last of each topic for who comes later. Default: false."),
        ]
        | UnsetType
    ) = UNSET
    range: (
        Annotated[
            dict[str, Annotated[list[float], Meta(min_length=2, max_length=2)]],
            Meta(
                description='The least and the most of the numbers of a topic: `"stage/lamp" = [0, 255]`. Default: 0 to 100.'
            ),
        ]
        | UnsetType
    ) = UNSET
    tells: Tells | UnsetType = UNSET
    tells_on: (
        Annotated[
            str,
            Meta(
                description="The topic below which that is told: `TOPIC/SURFACE/CONTROL`. Default: fenko.",
                pattern=r"^[^\s+#]+$",
            ),
        ]
        | UnsetType
    ) = UNSET
    note: Annotated[str, Meta(description="Anything worth knowing about it.")] | UnsetType = UNSET


def _read_topic(reader: Reader, verb: str) -> str:
    reader.peek()
    start = reader.at
    topic = reader.quoted(verb)
    if any(mark in topic for mark in "+#\0") or len(topic.encode()) > _MOST:
        raise reader.error("a topic to publish on has no + and no #", topic, start)
    return topic


def _read_what(reader: Reader, verb: str) -> str | Change:
    if reader.peek()[:1] in ('"', "'"):
        if reader.peek()[:2] in ('""', "''"):
            reader.word()
            return ""
        return reader.quoted(verb)
    return read_change(reader, verb)


def _write_what(what: str | Change) -> str:
    return in_quotes(what) if isinstance(what, str) else write_change(what)


def _steps(said: Publish) -> tuple[Step, ...]:
    if isinstance(said.what, str):
        return (Send("mqtt", "publish", (said.topic, said.what, said.broker)),)
    return lowered(("mqtt", f"{said.broker} {said.topic}"), said.what)


def _value(name: str, tables: Mapping[str, Any]) -> Value:
    broker, topic = name.split(" ", 1)
    return ranged(name, range_of(tables, "mqtt", broker, topic), (0.0, 100.0))


def _tells(name: str) -> Callable[[float], tuple[Any, ...]]:
    broker, topic = name.split(" ", 1)
    return lambda number: ("publish", topic, f"{number:.9g}", broker)


def _settle(said: Publish, around: Surrounding) -> Iterable[Said]:
    broker = the_one(around, "mqtt", said.broker, 'an [mqtt.NAME] with `url = "mqtts://…"`')
    check_range(around, "mqtt", broker, said.topic)
    return (filled(said, broker=broker),)


TOPIC = Argument('"TOPIC"', _read_topic, in_quotes, ("stage/lamp", "bench/state"))
WHAT = Argument(
    '"TEXT"|CHANGE', _read_what, _write_what,
    ("on", "two words", "", To(Amount(40, "%")), By(Amount(-5)), Following(), Following(Amount(0), Amount(255))),
)  # fmt: skip
BROKER = Argument("[to BROKER]", read_to, write_to, ("", "bench"))

OUTPUT = Output(
    "mqtt",
    "MQTT",
    "Texts and numbers on topics of a broker, with TLS.",
    "fenko.integrations.mqtt.worker:MqttWorker",
    verbs=(
        Verb("publish", Publish, (TOPIC, WHAT, BROKER), _steps, 'publish "stage/lamp" "on"',
             "publishes a text on a topic of an [mqtt.NAME], or a number: `to`, `by`, `follow`, `rate`; `to BROKER`"),
    ),
    acts=(
        Act("mqtt", "publish", ("topic", "payload", "to"),
            lambda topic, payload, to: f'{to}: {topic} = "{shortened(payload)}"', "its topic; what is published; an [mqtt.NAME]",
            queued=lambda topic, payload, to: Queued("newest", (to, topic)) if _NUMBER.fullmatch(payload) else Queued("all")),
        Act("mqtt", "tell", ("topic", "payload", "to"),
            lambda topic, payload, to: f"{to}: {topic} = {shortened(payload)}", "the same, of what hands do: a JSON object",
            queued=lambda topic, payload, to: Queued("all") if "pressed" in payload else Queued("newest", (to, topic))),
    ),
    targets=(Target("mqtt", _value, lambda name: f'publish "{name.split(" ", 1)[1]}"', _tells),),
    tables={"mqtt": dict[str, MqttTable]},
    settle=_settle,
    ready="fenko.integrations.mqtt.worker:ready",
    offers="fenko.integrations.mqtt.worker:offers",
    risk=lambda effect, tables: risk(effect, effect[3], tables, "mqtt", "url"),
    asks=lambda tables: asked(tables, "mqtt", "url"),
    listens=lambda tables: bool(tells_of(tables, "mqtt")),
    each="mqtt",
    end=lambda topic, payload, to: to,
    simulation="fenko.integrations.mqtt.simulation:MqttSimulation",
    place=80,
)  # fmt: skip
