"""The link of a surface of another computer."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from fenko.core.links import LinkKind
from fenko.integrations.lending.protocol import lent_at


def _lets_in(rest: str, tables: Mapping[str, Any]) -> str:
    brokers = tables.get("mqtt") or {}
    topic, broker = lent_at(rest, brokers)
    return f"lets whoever lends {topic} at {brokers.get(broker, {}).get('url', 'no broker')}"


LINKS = (
    LinkKind(
        "mqtt",
        "fenko.integrations.lending.transport:LentWay",
        form="mqtt TOPIC",
        pattern=r"mqtt [^\s#+]+( at [a-z0-9_-]+)?",
        lets_in=_lets_in,
        ready="fenko.integrations.lending.ready:ready",
        checks="fenko.integrations.lending.checks:check",
        place=40,
    ),
)
