"""Phrases as the engine does them: every stroke a step of its own."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from msgspec import Struct, structs

from fenko.core.phrase import Phrase, steps_of
from fenko.core.steps import Begin, End, Hold, Item, Repeat, Step, Strike, Toggle, Wait
from fenko.core.verbs import HELD


class Action(Struct, frozen=True):
    """An action's steps. `holds` are the items that last as long as the control is held, where it is nothing else;
    with `loops` it begins anew as long as that is so."""

    steps: tuple[Step, ...]
    holds: tuple[Item, ...] = ()
    loops: bool = False
    felt: bool = False
    """Whether it matters how far the control is when it begins."""

    def at(self, depth: float) -> Action:
        """The same where the control is that far (0 to 1)."""
        steps = tuple(
            structs.replace(step, items=_felt(step.items, depth)) if isinstance(step, Hold | Strike | Begin | End | Toggle) else step
            for step in self.steps
        )  # fmt: skip
        return Action(steps, _felt(self.holds, depth), self.loops)

    @property
    def strikes(self) -> tuple[Item, ...]:
        """The items of an action that is one stroke and nothing else where no hand holds it; none for others."""
        alone = self.steps[0] if len(self.steps) == 1 and not self.loops else None
        return alone.items if isinstance(alone, Strike) and not self.felt else ()


def action_of(phrase: Phrase, stroke: float) -> Action:
    """What a phrase does, where keys that nobody holds are down for `stroke` seconds."""
    steps = steps_of(phrase)
    alone = steps[0] if len(steps) == 1 else None
    items = [
        item for step in steps if isinstance(step, Hold | Strike | Repeat | Begin | End | Toggle) for item in step.items
    ]
    return Action(
        tuple(_unrolled(steps, stroke)),
        alone.items if isinstance(alone, Hold) else (),
        isinstance(alone, Repeat),
        _felt(items, 0.0) != tuple(items),
    )


def _felt(items: Iterable[Item], depth: float) -> tuple[Item, ...]:
    return tuple((out, felt(name, depth) if (felt := HELD[out].felt) else name) for out, name in items)


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
