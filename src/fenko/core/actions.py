"""Phrases as the engine does them: every stroke a step of its own."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from fenko.core.phrase import Phrase, steps_of
from fenko.core.steps import Hold, Item, Repeat, Step, Strike, Wait


class Action(Struct, frozen=True):
    """An action's steps. `holds` are the items that last as long as the control is held, where it is nothing else;
    with `loops` it begins anew as long as that is so."""

    steps: tuple[Step, ...]
    holds: tuple[Item, ...] = ()
    loops: bool = False

    @property
    def strikes(self) -> tuple[Item, ...]:
        """The items of an action that is one stroke and nothing else where no hand holds it; none for others."""
        alone = self.steps[0] if len(self.steps) == 1 and not self.loops else None
        return alone.items if isinstance(alone, Strike) else ()


def action_of(phrase: Phrase, stroke: float) -> Action:
    """What a phrase does, where keys that nobody holds are down for `stroke` seconds."""
    steps = steps_of(phrase)
    alone = steps[0] if len(steps) == 1 else None
    return Action(
        tuple(_unrolled(steps, stroke)),
        alone.items if isinstance(alone, Hold) else (),
        isinstance(alone, Repeat),
    )


def _unrolled(steps: tuple[Step, ...], stroke: float) -> Iterator[Step]:
    for step in steps:
        if isinstance(step, Hold):
            yield Strike(step.items)
        elif isinstance(step, Strike | Repeat):
            yield Strike(step.items)
            if step.apart > stroke:
                yield Wait(step.apart - stroke)
        else:
            yield step


def held_items(phrase: Phrase) -> tuple[Item, ...]:
    """The items that an action holds as long as its control is held, and does nothing else; none for other actions."""
    steps = steps_of(phrase)
    return steps[0].items if len(steps) == 1 and isinstance(steps[0], Hold) else ()
