"""A simulated OSC program."""

from __future__ import annotations

from typing import Any

from fenko.integrations.simulation import Received


class OscSimulation(Received):
    """Receives messages."""

    title = "OSC"

    def words(self, act: str, *values: Any) -> str:
        """The peer and the address."""
        return f"{values[0]} {values[1]}"
