"""What every worker has: it opens the way to an end, sends, ends what it began, and says what it hears."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol

from fenko.core.changes import Effect
from fenko.core.flow import Sent

FIRST_PAUSE = 0.25
"""Seconds before a connection is tried again; doubled each time, up to the worker's own limit."""


class Away(Exception):
    """The other end is not there, or not any more: why, in words. It will be tried again."""


class Desk(Protocol):
    """Whom a worker tells things; nothing here waits."""

    def note(self, text: str) -> None:
        """One line for the person; the same one again soon is not told."""

    def number(self, name: str, number: float) -> None:
        """A number of this output, by the name of its target, is that now, whoever set it."""

    def fact(self, name: str, what: Mapping[str, Any] | None) -> None:
        """How something at the other end stands, for `fenko values`; None if it is gone."""

    def watch(self, seconds: float) -> None:
        """For so long, the worker has to hear with `alive` that the desk is at work."""

    def heard(self, kind: str, name: str, number: float) -> None:
        """The other end sets a `value` of the desk, or the `state` of one of its controls."""

    def changes(self, surface: str, changes: Sequence[Sent]) -> None:
        """Controls of a surface, by their usual names, have changed, in this order."""

    def here(self, surface: str, link: str, what: Mapping[str, Any] | None) -> None:
        """A surface is there by that link, which says that it is this; None if it is not any more."""

    def until(self, surface: str, t: float) -> None:
        """All that happened on a surface before that time (monotonic) has been told."""


class Worker(ABC):
    """The work of one output. All methods but `close` and `release` are called by one thread, one after the other; each may
    wait for the other end, for a few seconds at most. Each may raise Away, and the way is opened again later."""

    longest_pause = 30.0
    """Seconds before the way is tried again, at most."""
    eager = False
    """Whether the way is opened at once, and not only when something is to be sent."""
    wake: Callable[[], None] = staticmethod(lambda: None)
    """Has `watch` called soon; for threads of the worker's own."""

    def __init__(self, tables: Mapping[str, Any], folder: Path, desk: Desk) -> None:
        """`tables` are the desk's, as they are written. Must not wait."""
        self.tables = tables
        self.folder = folder
        self.desk = desk

    def open(self) -> None:  # noqa: B027
        """Opens the way."""

    @abstractmethod
    def send(self, effects: Sequence[Effect]) -> None:
        """Does this, in order; the effects of this output alone."""

    def focus(self, app: str, program: str) -> None:  # noqa: B027
        """The window in front is of this program. Must not wait; called by another thread."""

    def alive(self, at: float) -> None:  # noqa: B027
        """The desk was at work at that time (monotonic), after all effects that came before this. Must not wait; called by
        another thread."""

    def watch(self) -> float | None:
        """Looks after things, after each time that something was sent, and when it was woken: how many seconds until the next
        time, None if nothing is to be looked after by itself."""
        return None

    def left_over(self, begun: Sequence[Effect], facts: Mapping[str, Any]) -> None:  # noqa: B027
        """What another worker, which was killed, had begun and not ended, and how things stood then: ends it, now that the
        way is open."""

    def release(self) -> None:  # noqa: B027
        """Ends everything that it began. Must not fail."""

    def close(self) -> None:
        """Ends everything that it began, and lets go of the other end. Must not fail."""
        self.release()
