"""Messages between a desk and the process of its workers."""

from __future__ import annotations

from collections.abc import Iterable
from math import isfinite
from typing import Any, TypeAlias

from fenko.core.changes import Effect, Moving
from fenko.core.inputs import Raw
from fenko.system.wire import Message

MOST_NUMBER = 1e15
"""Limit of numbers from workers, because another program may have made them up."""
Number: TypeAlias = int | float


class WorkerMessage(Message, frozen=True):
    """Base of what workers send."""

    def plausible(self) -> bool:
        """Return whether its numbers are finite and within the limit."""
        return True


def _is_number(number: Number) -> bool:
    return isfinite(number) and abs(number) < MOST_NUMBER


# --- From the desk ---


class UseDesk(Message, frozen=True):
    """The desk whose outputs the workers serve; the first message, and again after each reload."""

    folder: str
    outs: list[str]
    tables: dict[str, Any]


class ActiveProgram(Message, frozen=True):
    """The program of the active window."""

    app: str
    program: str


class Do(Message, frozen=True):
    """Effects in order; `moving` are the indices of those that are `Moving`."""

    effects: list[tuple[Any, ...]]
    moving: list[int]

    @classmethod
    def of(cls, effects: Iterable[Effect]) -> Do:
        """Return the message for these effects."""
        found = list(effects)
        return cls(found, [number for number, effect in enumerate(found) if isinstance(effect, Moving)])

    def typed(self) -> list[Effect]:
        """Return the effects as the desk had them."""
        moving = frozenset(self.moving)
        return [Moving(effect) if number in moving else effect for number, effect in enumerate(self.effects)]


class LeftOver(Message, frozen=True):
    """What an earlier process began and did not end, and the facts that it last reported, by output and name."""

    begun: list[tuple[Any, ...]]
    facts: dict[str, dict[str, Any]]


class AtWork(Message, frozen=True):
    """The desk ran at `time` (monotonic seconds) and had sent everything that it had decided before."""

    time: float


class Release(Message, frozen=True):
    """End everything that was begun."""


FromDesk: TypeAlias = UseDesk | ActiveProgram | Do | LeftOver | AtWork | Release


# --- From workers ---


class Note(WorkerMessage, frozen=True):
    """A line for the user."""

    text: str


class Fact(WorkerMessage, frozen=True):
    """State of an item of an output; None when the item is gone."""

    out: str
    name: str
    fact: dict[str, Any] | None


class NumberIs(WorkerMessage, frozen=True):
    """A number of an output has this value now."""

    out: str
    name: str
    number: Number

    def plausible(self) -> bool:
        return _is_number(self.number)


class SetByPeer(WorkerMessage, frozen=True):
    """A peer sets a `value` of the desk or the `state` of a control."""

    kind: str
    name: str
    number: Number

    def plausible(self) -> bool:
        return _is_number(self.number)


class Ended(WorkerMessage, frozen=True):
    """Items of an output, by their keys, have been ended."""

    out: str
    keys: list[Any]


class TookOver(WorkerMessage, frozen=True):
    """A worker has handled what `LeftOver` said of its output."""

    out: str


class NeedsDesk(WorkerMessage, frozen=True):
    """For `seconds`, send `AtWork` again and again."""

    seconds: Number

    def plausible(self) -> bool:
        return _is_number(self.seconds)


class ControlsChanged(WorkerMessage, frozen=True):
    """Changes of a surface in order: time (monotonic seconds), control, value."""

    surface: str
    changes: list[tuple[Number, str, bool | int | float | Raw]]

    def plausible(self) -> bool:
        return all(_is_number(change[0]) for change in self.changes)


class SurfacePresent(WorkerMessage, frozen=True):
    """A surface is connected by `link` and describes itself; None when it is not connected any more."""

    surface: str
    link: str
    description: dict[str, Any] | None


class AllReported(WorkerMessage, frozen=True):
    """All changes of a surface before `time` (monotonic seconds) have been sent."""

    surface: str
    time: Number

    def plausible(self) -> bool:
        return _is_number(self.time)


FromWorkers: TypeAlias = (
    Note | Fact | NumberIs | SetByPeer | Ended | TookOver | NeedsDesk | ControlsChanged | SurfacePresent | AllReported
)
