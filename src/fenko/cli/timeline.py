"""The timeline as people read it: what each gesture did, by which profile and binding, and what it sent."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from itertools import groupby
from math import inf

from msgspec import Struct, structs

from fenko.cli.shared import bold, colour, dim
from fenko.core.backlog import goes_on, together
from fenko.core.changes import Change, Effect
from fenko.core.effects import effect_mood, effect_words
from fenko.core.phrase import steps_of
from fenko.core.plan import Binding, Plan
from fenko.core.rehearsal import rehearse
from fenko.core.steps import Follow
from fenko.core.words import format_time, width

_COLUMNS = (9, 28, 14, 42)  # time, gesture, profile, binding; what is sent takes the rest


class Action(Struct, frozen=True):
    """An action that started: which gesture on which control, in which profile, by which binding (None: handed on)."""

    t: float
    address: str
    gesture: str
    profile: str
    binding: Binding | None


class Moment(Struct, frozen=True):
    """All that started and all that was sent at one time."""

    t: float
    actions: list[Action]
    effects: list[Effect]
    until: float = -inf
    """Where it stands for a while: when its last effect was sent."""


class Flow:
    """Puts together what moves tick by tick, so that a person reads it in one line: how far in all, over which time."""

    def __init__(self) -> None:
        self._moment: Moment | None = None

    def add(self, moment: Moment) -> Iterator[Moment]:
        """What is to be told by now."""
        before = self._moment
        if (
            before is not None
            and not moment.actions
            and _flows(moment)
            and moment.t - max(before.t, before.until) < _PAUSE
        ):
            effects = together([*before.effects, *moment.effects])
            self._moment = Moment(before.t, before.actions, effects, moment.t)
            return
        yield from self.end()
        if _flows(moment) and all(action.gesture == "move" for action in moment.actions):
            self._moment = moment
        else:
            yield moment

    @property
    def waits(self) -> bool:
        """Whether something is not told yet, because it may go on."""
        return self._moment is not None

    def end(self) -> Iterator[Moment]:
        """What has not been told yet."""
        if self._moment is not None:
            moment, self._moment = self._moment, None
            shown = [
                tuple(
                    round(value, digits) if isinstance(value, float) and n > 2 else value
                    for n, value in enumerate(effect)
                )
                for effect in moment.effects
                for digits in (2 if effect[1] in ("pointer", "value") else 4,)
            ]
            yield structs.replace(moment, effects=shown)


def flowing(moments: Iterable[Moment]) -> Iterator[Moment]:
    """The same moments, with what moves tick by tick put together."""
    flow = Flow()
    for moment in moments:
        yield from flow.add(moment)
    yield from flow.end()


_PAUSE = 0.1  # s; what moves again after that is a movement of its own


def _flows(moment: Moment) -> bool:
    """Whether all that was sent may be put together with what comes after it."""
    return all(map(goes_on, moment.effects)) and (
        bool(moment.effects) or any(action.gesture == "move" for action in moment.actions)
    )


def table_lines(
    plan: Plan, changes: Iterable[Change], progress: Callable[[int], None], showing: Mapping[str, bool]
) -> Iterator[str]:
    """The whole timeline as the lines of a table; `showing` are the controls that can show a value."""
    yield table_head()
    for moment in flowing(moments(plan, changes, progress, showing)):
        yield from moment_lines(moment)


def table_head() -> str:
    """The titles of the columns."""
    return bold(_row("time", "gesture", "profile", "binding", "sends"))


def moments(
    plan: Plan,
    changes: Iterable[Change],
    progress: Callable[[int], None] | None = None,
    showing: Mapping[str, bool] | None = None,
) -> Iterator[Moment]:
    """The rehearsal by moments, in order of time."""
    actions = Actions()
    for effects in rehearse(plan, changes, actions.report, progress, showing):
        yield from actions.moments(effects)
    yield from actions.before(inf)


class Actions:
    """Notes the actions that start, and gives them out together with what was sent at the same time."""

    def __init__(self) -> None:
        self._started: list[Action] = []

    def report(self, t: float, address: str, gesture: str, profile: str, binding: Binding | None) -> None:
        """Told by an engine of each action that starts."""
        self._started.append(Action(t, address, gesture, profile, binding))

    def moments(self, effects: Iterable[Effect]) -> Iterator[Moment]:
        """Fresh effects as moments; actions that sent nothing are moments of their own before them."""
        for t, some in groupby(effects, key=lambda effect: effect[0]):
            yield from self.before(t)
            yield Moment(t, self._taken(t), list(some))

    def before(self, t: float) -> Iterator[Moment]:
        """The actions up to `t` that sent nothing."""
        while self._started and self._started[0].t < t:
            first = self._started[0].t
            yield Moment(first, self._taken(first), [])

    def _taken(self, t: float) -> list[Action]:
        now = [action for action in self._started if action.t == t]
        del self._started[: len(now)]
        return now


def moment_lines(
    moment: Moment, start: float = 0.0, words: Callable[[Iterable[Effect]], str] | None = None
) -> Iterator[str]:
    """A line for each action, what was sent standing on the last of them, in these words; times count from `start`."""
    sent = (words or describe)(moment.effects)
    if not sent and any(action.binding is not None and _waits_to_meet(action.binding) for action in moment.actions):
        sent = dim("waits to meet the value")
    if sent and moment.until > moment.t:
        sent += dim(f" over {format_time(round(moment.until - moment.t, 3))}")
    time = f"{moment.t - start:.3f}"
    for number, action in enumerate(moment.actions):
        surface, _, control = action.address.partition(".")
        yield _row(
            time if number == 0 else "",
            " ".join(filter(None, (surface, control, action.gesture))),
            action.profile,
            _shown(action.binding),
            sent if number == len(moment.actions) - 1 else "",
        )
    if not moment.actions and sent:
        yield dim(_row(time, "", "", "", sent))


def _waits_to_meet(binding: Binding) -> bool:
    """Whether a value follows by this once the control has met it."""
    return any(isinstance(step, Follow) and step.pick_up for phrase in binding.phrases for step in steps_of(phrase))


def describe(effects: Iterable[Effect]) -> str:
    """Effects in words, one after the other: `ctrl↓ z↓`, `types "Reel 2"`, `profile frames`."""
    return "  ".join(_in_colour(effect) for effect in effects)


def _in_colour(effect: Effect) -> str:
    shade = {"change": "bright_magenta", "alert": "bright_yellow"}.get(effect_mood(effect))
    words = effect_words(effect)
    return colour(words, shade) if shade else words


def _shown(binding: Binding | None) -> str:
    if binding is None:
        return "not bound, handed on"
    phrase = binding.words
    return f"{binding.label} · {phrase}" if binding.label else phrase


def clip(text: str, room: int) -> str:
    """The text, cut with an ellipsis where it is wider than its column."""
    if width(text) <= room:
        return text
    while width(text) >= room:
        text = text[:-1]
    return f"{text}…"


def _row(*cells: str) -> str:
    *fixed, last = cells
    clipped = (clip(cell, space) for cell, space in zip(fixed, _COLUMNS, strict=True))
    padded = (cell + " " * (space - width(cell)) for cell, space in zip(clipped, _COLUMNS, strict=True))
    return f"{'  '.join(padded)}  {last}".rstrip()
