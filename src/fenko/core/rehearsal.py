"""Plays changes through an engine in no time: the same code that runs live, without a clock."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

from fenko.core.changes import OUTSIDE, Change, Effect
from fenko.core.engine import Engine
from fenko.core.inputs import Inputs
from fenko.core.lights import Guessed, Lights, lamps_of
from fenko.core.plan import Plan, Report, control_of


def rehearse(
    plan: Plan,
    changes: Iterable[Change],
    report: Report | None = None,
    progress: Callable[[int], None] | None = None,
    showing: Mapping[str, bool] | None = None,
) -> Iterator[Sequence[Effect]]:
    """The effects of each change in turn, and what lamps show by them; then pending gestures finish, then all that is held is
    lifted. `showing` are the controls that can show a value.

    `progress` is told now and then how many changes have been played since it was last told."""
    engine = Engine(plan, report)
    conditioned = Inputs(plan.surfaces).conditioned
    lights, facts = Lights(lamps_of(plan, showing or {})), Guessed()

    def lit(effects: Sequence[Effect], t: float) -> Sequence[Effect]:
        """With what lamps show after these effects."""
        for effect in effects:
            facts.see(effect)
        return [*effects, *lights.look(t, engine, facts)]

    t = 0.0
    for number, change in enumerate(changes, 1):
        t = change[0]
        effects = engine.feed(conditioned(change))
        if lights:
            if change[1] not in OUTSIDE:
                lights.moved(t, control_of(change[1]))
            effects = lit(effects, t)
        if effects:
            yield effects
        if progress is not None and number % 5000 == 0:
            progress(5000)
    while engine.under_way:
        t = engine.deadline
        effects = engine.advance(t)
        yield lit(effects, t) if lights else effects
    effects = engine.release_all(t)
    yield lit(effects, t) if lights else effects
