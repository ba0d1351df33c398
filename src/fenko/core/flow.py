"""Changes that come from outside faster than any hand: let through as they are as long as a hand could have made them, and
summed up beyond that, so that a flood neither stops the desk nor leaves anything stuck."""

from __future__ import annotations

from math import inf
from typing import Any

from fenko.core.axes import Detents
from fenko.core.inputs import Raw

Sent = tuple[float, str, Any]
"""When, which control, and its value: a `Raw`, detents, or 1 and 0."""

LIVELY = 1.5
"""Seconds after a change in which gestures are decided: a surface that tells until when all has been told does so often then."""
MOST_A_SECOND = 2000
"""Changes that come through as they are; the fastest devices say a thousand a second."""
SUMMED_EVERY = 0.05
"""Seconds between two times that what is beyond that is told, summed up."""


class Flow:
    """What one surface says. `turning` are the controls whose values are steps and not how they stand."""

    def __init__(self, turning: frozenset[str] = frozenset(), most: float = MOST_A_SECOND) -> None:
        self.turning = turning
        self._most = most
        self._room = most / 4
        self._full = most / 4
        self._at = -inf
        self._told: dict[str, Any] = {}
        self._waiting: dict[str, Any] = {}
        self.due = inf
        """When what waits is told; inf if nothing waits."""
        self.summed = 0
        """Changes so far that were told summed up."""

    def put(self, now: float, changes: list[Sent]) -> list[Sent]:
        """These came now; what of them is told at once."""
        if self._at > -inf:
            self._room = min(self._full, self._room + (now - self._at) * self._most)
        self._at = now
        found: list[Sent] = []
        for t, control, value in changes:
            if self._waiting or self._room < 1:
                self._wait(now, control, value)
            else:
                self._room -= 1
                if control not in self.turning:
                    self._told[control] = value
                found.append((t, control, value))
        return found

    def _wait(self, now: float, control: str, value: Any) -> None:
        self.summed += 1
        self.due = min(self.due, now + SUMMED_EVERY)
        if control in self.turning:
            most = Detents.MOST_AT_ONCE
            value = max(-most, min(most, self._waiting.get(control, 0) + value))
        self._waiting.pop(control, None)
        self._waiting[control] = value

    def pass_time(self, now: float) -> list[Sent]:
        """What waited until now, summed up: of each control how it stands, or how far it was turned."""
        if now < self.due:
            return []
        self.due = inf
        waiting, self._waiting = self._waiting, {}
        self._room = max(0.0, self._room - len(waiting))
        found = [
            (now, control, value) for control, value in waiting.items()
            if (control in self.turning and value) or (control not in self.turning and self._told.get(control, 0) != value)
        ]  # fmt: skip
        self._told.update((control, value) for _, control, value in found if control not in self.turning)
        return found

    def forget(self) -> None:
        """The surface is gone, and everything with it."""
        self._waiting.clear()
        self._told.clear()
        self.due = inf


def summed_up(changes: list[Sent]) -> list[Sent]:
    """Changes that nobody has read for long: of each control the newest; how far one was turned is not what anybody wants any
    more."""
    newest: dict[str, Sent] = {}
    for change in changes:
        newest.pop(change[1], None)
        newest[change[1]] = change
    return list(newest.values())


def off_rest(value: Any) -> bool:
    """Whether a control that says this is not at rest."""
    return bool(value.value != min(max(0, value.least), value.most)) if isinstance(value, Raw) else bool(value)
