"""An output that sends nothing and hands every effect on, to be shown."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from fenko.core.changes import Effect


class ListingOutput:
    """Gives each batch of effects to `show`."""

    name = "none"

    def __init__(self, show: Callable[[Sequence[Effect]], None]) -> None:
        self._show = show

    def send(self, effects: Sequence[Effect]) -> None:
        """Shows effects in order."""
        self._show(effects)

    def pass_motion(self, raw: bytes) -> None:
        """Moves that are handed on are not worth a line each."""

    def close(self) -> None:
        """Nothing to let go of."""
