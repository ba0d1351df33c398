"""Reads what stands under a profile's `on`: controls, their directions and gestures, and the phrases."""

from __future__ import annotations

from typing import Any

from msgspec import UNSET

from fenko.core.controls import KINDS, SHAPED, Shape
from fenko.core.phrase import PROFILE_WORDS, Phrase, PhraseError, Profile, parse_phrase
from fenko.core.plan import GESTURES, Binding, Cell, Level, Surface
from fenko.core.words import nearest
from fenko.desk.locate import Path
from fenko.desk.model import BindingFile
from fenko.desk.sources import Sources
from fenko.desk.structure import fields, read

_BINDING_FIELDS = frozenset(fields(BindingFile))


class BindingReader:
    """Reads the bindings of all profiles of one desk; every fault goes to `sources`."""

    def __init__(self, sources: Sources, surfaces: dict[str, Surface], profiles: set[str]) -> None:
        self.sources = sources
        self.surfaces = surfaces
        self.profiles = profiles
        self.phrases: list[tuple[Path, Phrase]] = []
        self._plain: dict[str, Binding] = {}

    def level(self, profile: str, on: dict[str, Any]) -> Level:
        """The profile's own bindings."""
        controls: dict[str, tuple[Cell, ...]] = {}
        top: Path = ("profile", profile, "on")
        for surface_name, entries in on.items():
            surface = self.surfaces.get(surface_name)
            if surface is None:
                hint = nearest(surface_name, self.surfaces)
                expected = _some(self.surfaces) or "a [surface.NAME] in this desk"
                self._fault((*top, surface_name), f"unknown surface `{surface_name}`", expected, hint, at_key=True)
                continue
            if not isinstance(entries, dict):
                continue  # already noted as not being a table
            for control, value in entries.items():
                path = (*top, surface_name, control)
                shape = surface.shape(control)
                if shape is None or not shape.bindable:
                    self._unknown_control(path, surface, control)
                    continue
                own = surface.own_name(surface.kernel_name(control) or control)
                address = f"{surface_name}.{own}"
                if address in controls:
                    self._fault(path, f"`{own}` is bound twice in this profile", None, None, at_key=True)
                    continue
                controls[address] = self._control(path, profile, address, shape, value)
        return Level(profile, controls)

    def _control(self, path: Path, profile: str, address: str, shape: Shape, value: Any) -> tuple[Cell, ...]:
        if not shape.directions:
            return (self._cell(path, profile, address, shape, value),)
        example = f"{path[-1]}.{shape.directions[0]}"
        cells = {direction: Cell(f"{address}.{direction}", profile) for direction in shape.directions}
        if not isinstance(value, dict) or "do" in value:
            self._fault(path, f"a {shape.name} is bound by direction", f"`{example}`", None)
            return ()
        for direction, entry in value.items():
            sub = (*path, direction)
            if direction not in shape.directions:
                hint = nearest(direction, shape.directions)
                self._fault(
                    sub,
                    f"a {shape.name} has no direction `{direction}`",
                    _some(shape.directions),
                    hint,
                    at_key=True,
                )
                continue
            cells[direction] = self._cell(sub, profile, f"{address}.{direction}", shape, entry)
        return tuple(cells.values())

    def _cell(self, path: Path, profile: str, address: str, shape: Shape, value: Any) -> Cell:
        if isinstance(value, str):
            return Cell(address, profile, self._phrase_binding(path, value))
        if not isinstance(value, dict):
            self._fault(path, "this binds nothing", "a phrase, a table with `do`, or a table of gestures", None)
            return Cell(address, profile)
        if not value:
            self._fault(path, "this binds nothing", "a phrase; `nothing` does nothing on purpose", "nothing")
            return Cell(address, profile)
        if _BINDING_FIELDS & value.keys():
            return Cell(address, profile, self._table_binding(path, value))
        gestures: dict[str, Any] = {}
        for gesture, entry in value.items():
            sub = (*path, gesture)
            if gesture not in GESTURES:
                self._fault(
                    sub,
                    f"unknown gesture `{gesture}`",
                    _some(GESTURES),
                    nearest(gesture, GESTURES),
                    at_key=True,
                )
            elif shape.turns and gesture != "press":
                self._fault(sub, f"a {shape.name} turns by steps; it has no {gesture}", "a phrase", None, at_key=True)
            elif isinstance(entry, str):
                gestures[gesture] = self._phrase_binding(sub, entry)
            elif isinstance(entry, dict):
                gestures[gesture] = self._table_binding(sub, entry)
            else:
                self._fault(sub, "this binds nothing", "a phrase, or a table with `do`", None)
        return Cell(address, profile, **gestures)

    def _table_binding(self, path: Path, value: dict[str, Any]) -> Binding | None:
        written = read(self.sources, path, value, BindingFile)
        if written is None:
            return None
        phrase = self._phrase((*path, "do"), written.do)
        if phrase is None:
            return None
        self.phrases.append(((*path, "do"), phrase))
        label, colour, icon, note = (
            None if text is UNSET else text for text in (written.label, written.colour, written.icon, written.note)
        )
        return Binding(phrase, label, colour, icon, note)

    def _phrase_binding(self, path: Path, text: str) -> Binding | None:
        binding = self._plain.get(text)
        if binding is None:
            phrase = self._phrase(path, text)
            if phrase is None:
                return None
            binding = self._plain[text] = Binding(phrase)
        self.phrases.append((path, binding.phrase))
        return binding

    def _phrase(self, path: Path, text: str) -> Phrase | None:
        try:
            phrase = parse_phrase(text)
        except PhraseError as why:
            self.sources.add(path, str(why), part=(why.offset, why.length), nearest=why.hint)
            return None
        for step in phrase.steps:
            if isinstance(step, Profile) and step.name not in self.profiles and step.name not in PROFILE_WORDS:
                at = text.find(step.name, text.find("profile"))
                known = sorted(self.profiles)
                self.sources.add(
                    path,
                    f"unknown profile `{step.name}`",
                    part=(at, len(step.name)),
                    expected=_some([*known, *PROFILE_WORDS]),
                    nearest=nearest(step.name, [*known, *PROFILE_WORDS]),
                )
                return None
        return phrase

    def _unknown_control(self, path: Path, surface: Surface, control: str) -> None:
        known = KINDS[surface.kind] - {"motion"}
        hint = nearest(control, [*surface.names, *(known & SHAPED.keys()), *sorted(known)])
        if surface.kind == "other" or control not in KINDS["other"]:
            message = f"unknown control `{control}`"
        else:
            message = f"a {surface.kind} has no control `{control}`"
        expected = _some(sorted(known)) if len(known) < 20 else None
        self._fault(path, message, expected, hint, at_key=True)

    def _fault(self, path: Path, message: str, expected: str | None, hint: str | None, at_key: bool = False) -> None:
        self.sources.add(path, message, at_key=at_key, expected=expected, nearest=hint)


def _some(words: Any) -> str:
    words = list(words)
    return ", ".join(words[:12]) + (" …" if len(words) > 12 else "")
