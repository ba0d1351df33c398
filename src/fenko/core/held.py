"""Who holds which keys. What is down is derived from that, and never counted: a key is down while any holder has it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from math import inf

from fenko.core.agenda import after
from fenko.core.changes import Effect


class HeldKeys:
    """Keys, and mouse buttons as `button left`, by who holds them: a cell, an action, the stroke in flight. A key that
    came up goes down again `gap` seconds later at the soonest."""

    def __init__(self, gap: float) -> None:
        self.holders: dict[str, tuple[str, ...]] = {}
        self.last_up = -inf
        """When a key came up last."""
        self._gap = gap
        self._up_at: dict[str, float] = {}

    @property
    def keys(self) -> list[str]:
        """The keys that are down, in the order of going down."""
        return list(dict.fromkeys(key for held in self.holders.values() for key in held))

    def ready(self, t: float, keys: Iterable[str]) -> float:
        """When all of these keys may go down: now, or soon after one of them came up."""
        if t >= after(self.last_up, self._gap):
            return t
        down = {key for held in self.holders.values() for key in held}
        return max((after(self._up_at.get(key, -inf), self._gap) for key in keys if key not in down), default=t)

    def hold(self, t: float, holder: str, keys: tuple[str, ...]) -> Iterator[Effect]:
        """Somebody holds further keys; those that nobody held go down."""
        down = {key for held in self.holders.values() for key in held}
        mine = self.holders.get(holder, ())
        self.holders[holder] = mine + tuple(key for key in keys if key not in mine)
        return (_effect(t, "down", key) for key in keys if key not in down)

    def lift(self, t: float, holder: str, only: tuple[str, ...] | None = None) -> Iterator[Effect]:
        """Somebody lets go of all keys, or of `only` some; those that nobody else holds come up."""
        keys = self.holders.pop(holder, ())
        if only is not None:
            rest = tuple(key for key in keys if key not in only)
            if rest:
                self.holders[holder] = rest
        still = {key for held in self.holders.values() for key in held}
        up = [key for key in reversed(keys) if key not in still]
        self.note_up(t, up)
        return (_effect(t, "up", key) for key in up)

    def note_up(self, t: float, keys: Iterable[str]) -> None:
        """Takes note of keys that came up."""
        for key in keys:
            self._up_at[key] = self.last_up = t

    def lift_all(self, t: float) -> Iterator[Effect]:
        """Everybody lets go."""
        keys = self.keys
        self.holders.clear()
        self.note_up(t, keys)
        return (_effect(t, "up", key) for key in reversed(keys))


def _effect(t: float, act: str, key: str) -> Effect:
    if " " in key:
        return (t, "pointer", act, key.partition(" ")[2])
    return (t, "keys", act, key)
