"""Simulated programs and devices that take effects as real ones would. The demo uses them to report what a take would do."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from fenko.core.changes import Effect
from fenko.core.lazy import load_named
from fenko.core.verbs import OUTPUTS


class Simulation(ABC):
    """What stands in for the peers of one output. `tables` are the desk's."""

    def __init__(self, tables: Mapping[str, Any]) -> None:
        self.tables = tables

    @abstractmethod
    def take(self, effect: Effect) -> None:
        """An effect of this output."""

    @abstractmethod
    def lines(self) -> Iterator[str]:
        """What has become of it, in lines for the user."""


class Received(Simulation):
    """A peer that only receives: the different messages, in order."""

    title = ""

    def __init__(self, tables: Mapping[str, Any]) -> None:
        super().__init__(tables)
        self.messages: dict[str, None] = {}

    @abstractmethod
    def words(self, act: str, *values: Any) -> str:
        """Return a message in words."""

    def take(self, effect: Effect) -> None:
        """Keep it."""
        self.messages[self.words(*effect[2:])] = None

    def lines(self) -> Iterator[str]:
        """The messages in one line."""
        yield f"{self.title}: {', '.join(self.messages)}"


class Simulations:
    """The simulation of each output that has one and gets an effect."""

    def __init__(self, tables: Mapping[str, Any] | None = None) -> None:
        self._tables = tables or {}
        self._by_out: dict[str, Simulation] = {}

    def take(self, effects: Iterable[Effect]) -> None:
        """Give each effect to its output's simulation."""
        for effect in effects:
            out = effect[1]
            if out not in self._by_out and out in OUTPUTS and OUTPUTS[out].simulation:
                self._by_out[out] = load_named(OUTPUTS[out].simulation)(self._tables)
            if out in self._by_out:
                self._by_out[out].take(effect)

    def lines(self) -> Iterator[str]:
        """What has become of each, in the order of the outputs."""
        for out in OUTPUTS:
            if out in self._by_out:
                yield from self._by_out[out].lines()
