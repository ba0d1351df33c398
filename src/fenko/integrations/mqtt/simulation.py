"""A simulated broker."""

from __future__ import annotations

from typing import Any

from fenko.integrations.simulation import Received


class MqttSimulation(Received):
    """Receives messages."""

    title = "MQTT"

    def words(self, act: str, *values: Any) -> str:
        """The topic and the text."""
        return f'{values[0]} = "{values[1]}"'
