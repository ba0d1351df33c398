"""Which bindings use which commands of a shortcut list, and which keys it does not know."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from fenko.core.keys import MODIFIERS
from fenko.core.phrase import Phrase
from fenko.core.plan import Binding, Cell
from fenko.core.stack import stack_of
from fenko.core.verbs.keys import BUTTON, Command, Keys, Tap, Toggle
from fenko.desk.judging.programs import list_of
from fenko.desk.load import Desk
from fenko.desk.shortcuts import Shortcut, ShortcutList


class Use(Struct, frozen=True):
    """A binding that uses a shortcut: in words, its keys, its label, and where it stands."""

    words: str
    keys: str
    label: str
    where: str


def _bindings(desk: Desk, shortcuts: ShortcutList) -> Iterator[tuple[Cell, str, Binding]]:
    """The bindings of every profile for this program, each once, layers too."""
    seen: set[tuple[str, str, str]] = set()
    for profile in desk.plan.profiles.values():
        if list_of(desk, profile) is not shortcuts:
            continue
        layers = [level for layer in profile.layers.values() for level in layer.levels]
        tables = [stack_of(desk.plan, profile.name).table(), *({cell.address: cell for cells in level.controls.values() for cell in cells} for level in layers)]  # fmt: skip
        for table in tables:
            for cell in table.values():
                for gesture, binding in cell.gestures():
                    if cell.profile != "base" and (key := (cell.profile, cell.address, gesture)) not in seen:
                        seen.add(key)
                        yield cell, gesture, binding


def _use(desk: Desk, cell: Cell, gesture: str, binding: Binding, keys: str) -> Use:
    shown = cell.address.replace(".", " ", 1) + ("" if gesture == "press" else f" {gesture}")
    level = cell.profile.partition("/")
    layer = f" in {level[2]}" if level[2] else ""
    return Use(f"{shown}{layer}", keys, binding.label or "", desk.where(cell, gesture))


def uses(desk: Desk, shortcuts: ShortcutList) -> dict[str, list[Use]]:
    """Each command that is bound, with its bindings."""
    by_keys: dict[frozenset[str], list[Shortcut]] = {}
    for one in shortcuts.shortcuts:
        if one.phrase is not None and len(one.phrase.steps) == 1 and isinstance(step := one.phrase.steps[0], Keys):
            by_keys.setdefault(frozenset(step.keys), []).append(one)
    found: dict[str, list[Use]] = {}
    for cell, gesture, binding in _bindings(desk, shortcuts):
        names: dict[str, None] = {}
        for phrase in binding.written or binding.phrases:
            whole = shortcuts.doing(phrase)
            if whole is not None:
                names[whole.command] = None
            for step in phrase.steps:
                if isinstance(step, Command) and step.app == shortcuts.app:
                    named = shortcuts.find(step.command)
                    names |= {named.command: None} if named else {}
                elif isinstance(step, Keys | Tap | Toggle):
                    names |= {one.command: None for one in by_keys.get(frozenset(step.keys), [])}
        for name in names:
            found.setdefault(name, []).append(_use(desk, cell, gesture, binding, binding.words))
    return found


def unlisted(desk: Desk, shortcuts: ShortcutList) -> list[Use]:
    """The bindings with keys that no command of the list has. Modifiers alone, and mouse buttons, are no shortcuts."""
    known = {
        frozenset(step.keys)
        for one in shortcuts.shortcuts
        if one.phrase is not None
        for step in one.phrase.steps
        if isinstance(step, Keys)
    }
    found = []
    for cell, gesture, binding in _bindings(desk, shortcuts):
        strange = [
            step
            for phrase in binding.written or binding.phrases
            for step in phrase.steps
            if isinstance(step, Keys | Tap | Toggle)
            and not all(key in MODIFIERS or key.startswith(BUTTON) for key in step.keys)
            and frozenset(step.keys) not in known
        ]
        if strange:
            keys = ", ".join(dict.fromkeys(str(Phrase((Keys(step.keys),))) for step in strange))
            found.append(_use(desk, cell, gesture, binding, keys))
    return found
