"""Judgement on a desk that loads: what in it can never happen, what gets in each other's way, what nobody needs.

A warning is something that will not do what the person meant. A hint is something that they may have meant."""

from __future__ import annotations

from collections.abc import Mapping

from fenko.core.lazy import load_named
from fenko.core.links import LINKS
from fenko.core.verbs import OUTPUTS
from fenko.desk.judging import bindings, layers, motion, outputs, profiles, programs, surfaces
from fenko.desk.judging.case import Case
from fenko.desk.load import Desk
from fenko.desk.problems import Problem


def judge(desk: Desk, present: Mapping[str, frozenset[str]] | None = None) -> list[Problem]:
    """Everything that is worth knowing about a desk, in the order of its files. `present` are the controls, by the
    kernel's names, of the surfaces that are plugged in."""
    case = Case(desk, present or {})
    sources = desk.sources
    before = len(sources.problems)
    if not desk.plan.surfaces:
        case.note("empty desks", (), "this desk has no surface, so nothing can happen", "warning", "a [surface.NAME]")
    named = profiles.unreached(case)
    profiles.ambiguous(case)
    layers.layers(case)
    profiles.no_way_back(case, named)
    profiles.pause_hidden(case)
    bindings.chords(case)
    bindings.repeated_below(case)
    bindings.alike(case)
    bindings.press_and_more(case)
    bindings.macros(case)
    surfaces.unused(case)
    surfaces.described(case)
    surfaces.arrows(case)
    motion.conditioned(case)
    motion.moving(case)
    motion.values(case)
    declared = [*(output.checks for output in OUTPUTS.values()), *(kind.checks for kind in LINKS.values())]
    for check in filter(None, declared):
        load_named(check)(case)
    outputs.said(case)
    outputs.told(case)
    programs.listed(case)
    programs.expected(case)
    found = sorted(set(sources.problems[before:]))
    del sources.problems[before:]
    return [*found, *case.more()]
