"""A port that sends nothing and hands every effect on, to be shown."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from fenko.core.changes import Effect
from fenko.core.verbs import ACTS
from fenko.outputs.port import Port


class ListingPort(Port):
    """Gives each batch of effects to `show`."""

    name = "none"

    def __init__(self, show: Callable[[Sequence[Effect]], None]) -> None:
        self._show = show
        self.outs = frozenset(out for out, _ in ACTS)

    def send(self, effects: Sequence[Effect]) -> None:
        """Shows effects, in order."""
        self._show(effects)

    def close(self) -> None:
        """Nothing to let go of."""
