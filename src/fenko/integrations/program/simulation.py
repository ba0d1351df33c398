"""A simulated desktop."""

from __future__ import annotations

from typing import Any

from fenko.integrations.simulation import Received


class ProgramSimulation(Received):
    """Starts programs and moves windows."""

    title = "programs"

    def words(self, act: str, *values: Any) -> str:
        """What is done, and with which program."""
        return f"{act} {values[0] or 'window'}"
