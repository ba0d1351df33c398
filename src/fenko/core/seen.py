"""Effects as the program in front sees them: not keys that go down and up, but `ctrl+z`, and texts."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from math import inf

from fenko.core.changes import Effect
from fenko.core.keys import MODIFIERS
from fenko.core.registration import Said
from fenko.core.verbs.keys import BUTTON, Keys
from fenko.core.verbs.text import Type


class KeyView:
    """Sees key and pointer effects as the program in front does: `ctrl+z` for keys that go down together, with the
    modifiers that are down at that time, and what is typed."""

    def __init__(self) -> None:
        self._down: list[str] = []

    def see(self, effects: Iterable[Effect]) -> Iterator[Said]:
        """What these effects, which follow the ones before, are to the program. Keys that go down at one time without
        one that comes up between them are one step."""
        fresh: list[str] = []
        since = -inf
        for t, out, act, *values in effects:
            if out not in ("keys", "pointer") or act not in ("down", "up", "type"):
                continue
            if fresh and (act != "down" or t != since):
                yield _combined(self._down, fresh)
                fresh = []
            key = f"{BUTTON} {values[0]}" if out == "pointer" else values[0]
            if act == "down":
                since = t
                fresh.append(key)
                self._down.append(key)
            elif act == "up":
                self._down.remove(key)
            else:
                yield Type(values[0])
        if fresh:
            yield _combined(self._down, fresh)


def _combined(down: list[str], fresh: list[str]) -> Keys:
    held = [key for key in down if key in MODIFIERS and key not in fresh]
    modifiers = sorted((key for key in [*held, *fresh] if key in MODIFIERS), key=MODIFIERS.index)
    return Keys((*modifiers, *(key for key in fresh if key not in MODIFIERS)))


def compared(steps: Iterable[Said]) -> list[Said]:
    """Steps in the form in which a witness tells them: one for each stroke, modifiers in one order."""
    found: list[Said] = []
    for step in steps:
        if isinstance(step, Keys):
            found += [_combined([], list(step.keys))] * step.times
        elif isinstance(step, Type):
            found.append(step)
    return found
