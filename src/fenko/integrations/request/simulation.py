"""A simulated HTTP server."""

from __future__ import annotations

from typing import Any

from fenko.integrations.simulation import Received


class RequestSimulation(Received):
    """Receives requests."""

    title = "requests"

    def words(self, act: str, *values: Any) -> str:
        """The name of the request."""
        return str(values[0])
