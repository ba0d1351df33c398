"""Whether surfaces of other computers can come here, for `fenko ready`."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from fenko.integrations.lending.protocol import lent_at


def ready(surface: str, rest: str, tables: Mapping[str, Any]) -> tuple[bool, str, str]:
    """Good or not, what is so, what helps."""
    brokers = tables.get("mqtt") or {}
    topic, name = lent_at(rest, brokers)
    if name not in brokers:
        return (False, f"{surface}: the desk has no broker", 'an [mqtt.NAME] with `url = "mqtts://…"`')
    return (True, f"{surface}: {topic} at {brokers[name].get('url')}, which the running desk asks", "")
