"""Where every change arrives: the one place from which the engine is called."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from math import inf

from fenko.core.changes import Change, Effect
from fenko.core.engine import Engine
from fenko.core.inputs import Inputs, Raw
from fenko.core.plan import Plan
from fenko.core.steps import Item
from fenko.live.loop import Loop

_ASKS_AGAIN = 0.004  # s, while it is not known yet what happened

Send = Callable[[Sequence[Effect]], None]


class Inbox:
    """Takes changes from all sources, lets time pass, and hands what comes of it to `send`.

    What devices say of an axis becomes a share here, and nowhere before. Times never run backwards: a change that comes later than one with a later time gets that time. Whoever puts
    something in while a change is being dealt with is heard after it. `before`, if set, sees changes before the engine
    does; `after` is called when what is in force may have changed."""

    def __init__(self, engine: Engine, loop: Loop, send: Send, after: Callable[[], None]) -> None:
        self.engine = engine
        self.send = send
        self.horizon: Callable[[float], float] = lambda now: now
        """Until when all is known that happened, at a time: what hands did elsewhere may be under way."""
        self.hearers: list[Callable[[Sequence[Change]], None]] = []
        """Told of all changes, before the engine is."""
        self.before: Callable[[Sequence[Change]], None] | None = None
        self.stirred = 0
        """Counts how often something may have changed."""
        self.failed: Callable[[Exception], None] = _raised
        """Told of an error in the engine that nobody expected, once everything has been lifted."""
        self._after = after
        self._inputs = Inputs(engine.plan.surfaces)
        self._busy = False
        self._waiting: list[Sequence[Change]] = []
        self._last = -inf
        self._deadline = inf
        self._timer = loop.timer(self.advance)

    def put(self, changes: Sequence[Change]) -> None:
        """Changes have come, in order."""
        if self._busy:
            self._waiting.append(changes)
            return
        self._busy = True
        self.stirred += 1
        try:
            if self.hearers or self.before is not None:
                told = list(map(self._inputs.conditioned, changes))
                for hear in self.hearers:
                    hear(told)
                if self.before is not None:
                    self.before(told)
            # On the way of every event: few calls, and nothing that is not needed.
            engine, last = self.engine, self._last
            for change in changes:
                if change[2].__class__ is Raw or self._inputs.calibrates:
                    change = self._inputs.conditioned(change)
                if change[0] < last:
                    change = (last, change[1], change[2])
                else:
                    self._last = last = change[0]
                try:
                    effects = engine.feed(change)
                except Exception as why:  # reported; everything held is released
                    effects = self._recovered(why)
                if effects:
                    self.send(effects)
                    for effect in effects:
                        if effect[1] == "fenko":
                            self._after()
                            break
        finally:
            self._busy = False
        if self._waiting:
            self.put(self._waiting.pop(0))
        if engine.deadline != self._deadline:
            self._set_timer()

    def put_first(self, change: Change) -> None:
        """Something comes before the changes that `before` is looking at."""
        self._busy = False
        self.before = None
        self.put([change])
        self._busy = True

    def advance(self, now: float) -> None:
        """Time passes, as far as it is known what happened in it."""
        known = self.horizon(now)
        if self.engine.deadline > known and known < now:
            self._timer.set(now + _ASKS_AGAIN)
            return
        self._do(known, self.engine.advance)

    def release_all(self, now: float) -> None:
        """Lifts everything and forgets every gesture and action under way."""
        self._do(now, self.engine.release_all)

    def hear(self, now: float, item: Item, number: float) -> None:
        """Somebody else has set a value."""
        self._do(now, lambda t: self.engine.hear(t, item, number))

    def use_profile(self, now: float, name: str) -> None:
        """Somebody puts a profile in force, but by no surface."""
        self._do(now, lambda t: self.engine.use_profile(t, name))

    def toggle_pause(self, now: float) -> None:
        """Somebody stops Fenko or starts it again, but by no surface."""
        self._do(now, self.engine.toggle_pause)

    def use_plan(self, now: float, plan: Plan) -> None:
        """Puts another plan under the engine."""
        self._inputs = Inputs(plan.surfaces)
        self._do(now, lambda t: self.engine.use_plan(t, plan))

    def _do(self, now: float, what: Callable[[float], Sequence[Effect]]) -> None:
        assert not self._busy, "nothing on an event's way lets time pass"
        self.stirred += 1
        self._last = now = max(now, self._last)
        try:
            effects = what(now)
        except Exception as why:  # reported; everything held is released
            effects = self._recovered(why)
        if effects:
            self.send(effects)
        self._after()
        self._set_timer()

    def _recovered(self, why: Exception) -> Sequence[Effect]:
        """What lifts everything after an error in the engine, which goes on with nothing under way."""
        self.failed(why)
        return self.engine.recover(self._last)

    def _set_timer(self) -> None:
        self._deadline = self.engine.deadline
        self._timer.set(self._deadline)


def _raised(why: Exception) -> None:
    """Nobody has asked to be told of errors."""
    raise why
