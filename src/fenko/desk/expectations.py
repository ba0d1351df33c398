"""Expectations: what a desk says has to come of a script of hands, and whether it does."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from msgspec import Struct

from fenko.core.performing import Outcome, perform
from fenko.core.phrase import Phrase, counted, parse_phrase
from fenko.core.plan import Plan, Surface
from fenko.core.reader import PhraseError
from fenko.core.registration import Said
from fenko.core.script import HandStep, ScriptError, parse_hand_step
from fenko.core.seen import compared
from fenko.core.verbs.desk import Nothing
from fenko.core.verbs.keys import Keys
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

    def failures(self, plan: Plan) -> Iterator[tuple[str, str]]:
        """What did not come as expected: the setting that says so, and what came instead."""
        outcome = perform(plan, self.hand_steps)
        if self.sends is not None and compared(outcome.sent) != compared(self.sends):
            yield "sends", f"it sends {sent_words(outcome)}"
        if self.holds is not None and {*outcome.held} != {*self.holds}:
            yield "holds", f"it holds {str(Phrase((Keys(outcome.held),))) if outcome.held else 'nothing'}"
        if self.profile is not None and outcome.profile != self.profile:
            yield "profile", f"the profile is {outcome.profile}"
        if self.layers is not None and outcome.layers != self.layers:
            yield "layers", f"the layers are {', '.join(outcome.layers) or 'none'}"


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
        if (sends, holds, profile, layers) == (None, None, None, None):
            sources.add(path, "this expects nothing", at_key=True, expected="sends, holds, profile or layers")
        if len(sources.problems) == before:
            title = written.that or "; ".join(written.do)
            yield Expectation(path, title, hand_steps, sends, None if holds is None else tuple(keys), profile, layers)


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
