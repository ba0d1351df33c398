"""Expectations: what a desk says has to come of a script of hands, and whether it does."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from typing import Any

from msgspec import Struct

from fenko.core.backlog import goes_on, together
from fenko.core.changes import Effect
from fenko.core.controls import TOWARDS
from fenko.core.effects import effect_words
from fenko.core.performing import Outcome, perform
from fenko.core.phrase import Phrase, counted, parse_phrase
from fenko.core.plan import Plan, Surface
from fenko.core.reader import PhraseError
from fenko.core.registration import Said
from fenko.core.script import HandStep, ScriptError, parse_hand_step
from fenko.core.seen import compared
from fenko.core.steps import Item
from fenko.core.verbs import OUTPUTS
from fenko.core.verbs.desk import Nothing
from fenko.core.verbs.keys import Keys
from fenko.core.verbs.pointer import towards
from fenko.core.verbs.text import Type
from fenko.core.words import nearest
from fenko.desk.locate import KeyPath
from fenko.desk.model import ExpectFile
from fenko.desk.shortcuts import ShortcutList, UnknownCommand, resolved
from fenko.desk.sources import Sources
from fenko.desk.structure import read


class Expectation(Struct, frozen=True):
    """A script, and what has to come of it; None where that does not matter."""

    path: KeyPath
    title: str
    hand_steps: tuple[HandStep, ...]
    sends: tuple[Said, ...] | None = None
    holds: tuple[str, ...] | None = None
    profile: str | None = None
    layers: tuple[str, ...] | None = None
    moves: dict[str, tuple[float, float]] | None = None
    values: dict[str, float] | None = None
    does: tuple[str, ...] | None = None

    def failures(self, plan: Plan) -> Iterator[tuple[str, str, str]]:
        """What did not come as expected: the setting that says so, what was expected, and what came instead."""
        outcome = perform(plan, self.hand_steps)
        if self.sends is not None and compared(outcome.sent) != compared(self.sends):
            yield "sends", str(Phrase(self.sends)) if self.sends else "nothing", sent_words(outcome)
        if self.holds is not None and {*outcome.held} != {*self.holds}:
            yield "holds", _held_words(self.holds), _held_words(outcome.held)
        if self.profile is not None and outcome.profile != self.profile:
            yield "profile", self.profile, outcome.profile
        if self.layers is not None and outcome.layers != self.layers:
            yield "layers", ", ".join(self.layers) or "none", ", ".join(outcome.layers) or "none"
        if self.moves is not None:
            found = {act: outcome.moved(act) for act in ("move", "scroll")}
            if not all(_close(found[act], self.moves.get(act, (0.0, 0.0))) for act in found):
                yield "moves", moves_words(self.moves), moves_words(found)
        if self.does is not None and (done := done_words(outcome)) != [*self.does]:
            yield "does", ", ".join(map(repr, self.does)) or "nothing", ", ".join(map(repr, done)) or "nothing"
        for name, number in (self.values or {}).items():
            value = plan.values["value", name]
            if abs(outcome.values[name] - number) > _GRAIN * (value.most - value.least):
                yield "values", f"{name} = {number:g}", f"{name} = {outcome.values[name]:g}"


def _held_words(held: Collection[str]) -> str:
    return str(Phrase((Keys(tuple(held)),))) if held else "nothing"


def done_words(outcome: Outcome) -> list[str]:
    """What went to outputs, in words; what moved on and on, or was added up, as one."""
    found: list[Effect] = []
    for effect in outcome.effects:
        if effect[1] not in OUTPUTS:
            continue
        if found and goes_on(found[-1]) and goes_on(effect) and len(one := together([found[-1], effect])) == 1:
            found[-1:] = one
        else:
            found.append(effect)
    return [effect_words(effect) for effect in found]


_GRAIN = 0.001
"""How exact a value has to be, as a share of its range."""


def _close(found: tuple[float, float], wanted: tuple[float, float]) -> bool:
    return all(abs(one - other) <= max(1.0, abs(other) / 100) for one, other in zip(found, wanted, strict=True))


def moves_words(moved: dict[str, tuple[float, float]]) -> str:
    """What moved, as `moves` says it."""
    words = []
    for act, (across, down) in moved.items():
        some = towards(_told(across), _told(down))
        if some:
            words.append(f"scroll {some}" if act == "scroll" else some)
    return " ".join(words) or "nothing"


def _told(far: float) -> float:
    """As exact as a person wants to read it."""
    return float(f"{far:.4g}") if abs(far) >= 0.05 else 0.0


_MOVES = re.compile(r"(scroll)|(left|right|up|down)\s+(\d+(?:\.\d+)?)|\s+")


def read_moves(text: str) -> dict[str, tuple[float, float]]:
    """What has to move: `right 300 down 20`, `scroll down 4`, `nothing`. Raises ValueError."""
    moved: dict[str, tuple[float, float]] = {}
    act, at = "move", 0
    for found in _MOVES.finditer(text if text != "nothing" else ""):
        if found.start() != at:
            break
        at = found.end()
        if found[1]:
            act = "scroll"
        elif found[2]:
            across, down = TOWARDS[found[2]]
            before, number = moved.get(act, (0.0, 0.0)), float(found[3])
            moved[act] = (before[0] + across * number, before[1] + down * number)
    if at != len(text) and text != "nothing":
        raise ValueError(f"`{text[at:]}` says nowhere to go")
    return moved


def sent_words(outcome: Outcome) -> str:
    """What was sent, as the phrase that would stand in `sends`."""
    return str(Phrase(tuple(counted(outcome.sent)))) if outcome.sent else "nothing"


def read_expectations(
    sources: Sources,
    table: Any,
    surfaces: dict[str, Surface],
    profiles: set[str],
    lists: dict[str, ShortcutList],
    broken: frozenset[str],
    values: Collection[Item] = (),
) -> Iterator[Expectation]:
    """The expectations of a desk; what is wrong with them is noted."""
    for number, entry in enumerate(table if isinstance(table, list) else []):
        path: KeyPath = ("expect", number)
        written = read(sources, path, entry, ExpectFile) if isinstance(entry, dict) else None
        if written is None:
            continue
        before = len(sources.problems)
        hand_steps = tuple(_deeds(sources, (*path, "do"), written.do, surfaces))
        sends = _phrase(sources, (*path, "sends"), written.sends or None, lists, broken)
        holds = _phrase(sources, (*path, "holds"), written.holds or None, lists, broken)
        keys = [key for step in holds or () if isinstance(step, Keys) for key in step.keys]
        profile = written.profile or None
        if profile is not None and profile not in profiles:
            sources.add((*path, "profile"), f"unknown profile `{profile}`", nearest=nearest(profile, profiles))
        layers = tuple(written.layers) if isinstance(written.layers, list) else None
        moves = None
        if isinstance(written.moves, str):
            try:
                moves = read_moves(written.moves)
            except ValueError as why:
                sources.add((*path, "moves"), str(why), expected="right 300 down 20, scroll down 4, or nothing")
        wanted = written.values if isinstance(written.values, dict) else None
        for name in wanted or ():
            if ("value", name) not in values:
                known = [one for _, one in values]
                sources.add(
                    (*path, "values", name), f"unknown value `{name}`", at_key=True, nearest=nearest(name, known)
                )
        does = tuple(written.does) if isinstance(written.does, list) else None
        if all(one is None for one in (sends, holds, profile, layers, moves, wanted, does)):
            expected = "sends, holds, profile, layers, moves, values or does"
            sources.add(path, "this expects nothing", at_key=True, expected=expected)
        if len(sources.problems) == before:
            title = written.that or "; ".join(written.do)
            yield Expectation(
                path, title, hand_steps, sends, None if holds is None else tuple(keys), profile, layers, moves, wanted, does
            )  # fmt: skip


def _deeds(sources: Sources, path: KeyPath, texts: list[str], surfaces: dict[str, Surface]) -> Iterator[HandStep]:
    for number, text in enumerate(texts):
        try:
            yield parse_hand_step(text, surfaces)
        except ScriptError as why:
            sources.add((*path, number), str(why), part=(why.offset, why.length), nearest=why.hint)


def _phrase(
    sources: Sources, path: KeyPath, text: str | None, lists: dict[str, ShortcutList], broken: frozenset[str]
) -> tuple[Said, ...] | None:
    """What a phrase sends; None where there is none, or a faulty one, which is noted."""
    if text is None:
        return None
    try:
        steps = resolved(parse_phrase(text), lists).steps
    except PhraseError as why:
        sources.add(path, str(why), part=(why.offset, why.length), nearest=why.hint)
        return None
    except UnknownCommand as why:
        if why.app not in broken:
            sources.add(path, str(why), nearest=why.hint)
        return None
    if steps == (Nothing(),):
        return ()
    if not all(isinstance(step, Keys | Type) for step in steps):
        sources.add(path, "this says what arrives: keys, commands and typed texts", expected="ctrl+z then alt+left")
        return None
    return steps
