"""What effects are called, and how they read: by what the verbs have registered."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from fenko.core.changes import Effect
from fenko.core.steps import Begin, Hold, Repeat, Send, Steer, Step, Strike, Toggle
from fenko.core.verbs import ACTS, HELD


def effects_of(step: Step) -> Iterator[tuple[Any, ...]]:
    """What a step has sent to another end when it begins, without its time; nothing for what stays here."""
    if isinstance(step, Send):
        yield (step.out, step.act, *step.values)
    elif isinstance(step, Steer):
        yield (step.out, step.act, *step.values, [step.speed])
    elif isinstance(step, Hold | Strike | Repeat | Begin | Toggle):
        for out, name in step.items:
            yield (out, *HELD[out].begins(name))


def effect_fields(effect: Effect) -> dict[str, Any]:
    """The effect as a timeline writes it: t, out, act and its values by name."""
    t, out, act, *values = effect
    named = zip(ACTS[out, act].fields, values, strict=False)  # those at the end may be missing
    return {"t": round(t, 6), "out": out, "act": act} | dict(named)


def effect_words(effect: Effect) -> str:
    """The effect in words: `ctrl↓`, `types "Reel 2"`, `→ profile frames`."""
    return ACTS[effect[1], effect[2]].words(*effect[3:])


def effect_mood(effect: Effect) -> str:
    """How it stands out among others: `change`, `alert`, or not at all."""
    return ACTS[effect[1], effect[2]].mood
