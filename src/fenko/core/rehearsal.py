"""Plays changes through an engine in no time: the same code that runs live, without a clock."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence

from fenko.core.changes import Change, Effect
from fenko.core.engine import Engine
from fenko.core.inputs import Inputs
from fenko.core.plan import Plan, Report


def rehearse(
    plan: Plan,
    changes: Iterable[Change],
    report: Report | None = None,
    progress: Callable[[int], None] | None = None,
) -> Iterator[Sequence[Effect]]:
    """The effects of each change in turn; then pending gestures finish, then all that is held is lifted.

    `progress` is told now and then how many changes have been played since it was last told."""
    engine = Engine(plan, report)
    conditioned = Inputs(plan.surfaces).conditioned
    t = 0.0
    for number, change in enumerate(changes, 1):
        t = change[0]
        effects = engine.feed(conditioned(change))
        if effects:
            yield effects
        if progress is not None and number % 5000 == 0:
            progress(5000)
    while engine.under_way:
        t = engine.deadline
        yield engine.advance(t)
    yield engine.release_all(t)
