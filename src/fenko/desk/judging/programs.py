"""Judgements by the shortcut lists of programs, and by what a desk expects of itself."""

from __future__ import annotations

from fenko.core.actions import held_items
from fenko.core.keys import MODIFIERS
from fenko.core.phrase import Phrase
from fenko.core.plan import Binding, Cell
from fenko.core.plan import Profile as Profiled
from fenko.core.stack import stack_of
from fenko.core.verbs import spelled
from fenko.core.verbs.keys import Keys, Toggle
from fenko.desk.judging.case import TOGGLES, Case, own_name
from fenko.desk.load import Desk
from fenko.desk.shortcuts import ShortcutList


def listed(case: Case) -> None:
    """What the shortcut list of the program in front makes of the keys that are held."""
    for profile in case.plan.profiles.values():
        shortcuts = list_of(case.desk, profile)
        if shortcuts is None:
            continue
        table = stack_of(case.plan, profile.name).table()
        single = [
            (cell.address, step.keys)
            for cell in table.values()
            for _, binding in cell.gestures()
            if len(binding.phrase.steps) == 1 and isinstance(step := binding.phrase.steps[0], Keys)
        ]
        for cell in table.values():
            for gesture, binding in cell.gestures():
                if gesture in ("press", "hold"):
                    _held(case, shortcuts, cell, gesture, binding, single)


def _held(
    case: Case,
    shortcuts: ShortcutList,
    cell: Cell,
    gesture: str,
    binding: Binding,
    single: list[tuple[str, tuple[str, ...]]],
) -> None:
    keys = tuple(map(spelled, held_items(binding.phrase)))
    step = binding.phrase.steps[0]
    if keys:
        command = shortcuts.doing(binding.phrase)
        if command is not None and TOGGLES in command.note.casefold().split():
            case.note(
                "held keys that switch to and fro", case.place(cell, gesture),
                f"held down, `{binding.words}` repeats, and `{command.command}` switches over each time", "warning",
                f"`tap {command.keys}`, which sends it once",
            )  # fmt: skip
    modifiers = keys or (step.keys if isinstance(step, Toggle) else ())
    if not modifiers or not all(key in MODIFIERS for key in modifiers):
        return
    turned: list[str] = []
    for other, pressed in single:
        if other == cell.address or any(key in modifiers for key in pressed):
            continue
        command = shortcuts.doing(Phrase((Keys((*modifiers, *pressed)),)))
        if command is not None:
            turned.append(f"`{own_name(other)}` is then {command.keys} ({command.command})")
    if turned:
        shown = ", ".join(turned[:3]) + (f", and {len(turned) - 3} more" if len(turned) > 3 else "")
        case.note(
            "held modifiers that make other shortcuts", case.place(cell, gesture),
            f"while it holds {'+'.join(modifiers)}, other controls mean something else to the program: {shown}",
        )  # fmt: skip


def expected(case: Case) -> None:
    """Expectations that do not come true."""
    for expectation in case.desk.expectations:
        for setting, expected, got in expectation.failures(case.plan):
            case.desk.sources.add(
                (*expectation.path, setting), f"{expectation.title}: something else comes", expected=expected, got=got
            )


def list_of(desk: Desk, profile: Profiled) -> ShortcutList | None:
    """The shortcut list of the program that a profile is for; None if there is none."""
    for app in desk.apps.values():
        if app.shortcuts is None:
            continue
        for condition in profile.conditions:
            patterns = condition.patterns.get("app", ())
            if any(pattern.fits(text) for pattern in patterns for text in app.samples):
                return app.shortcuts
    return None
