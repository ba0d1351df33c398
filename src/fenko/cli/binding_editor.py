"""A desk that learns: which control is meant, what it does so far, and where a new binding is written."""

from __future__ import annotations

import sys
from typing import Any

from fenko.cli.naming import meant
from fenko.cli.shared import dim, fail, note, say, show_problems, shown_path
from fenko.core.delays import delays
from fenko.core.phrase import Phrase
from fenko.core.plan import BASE, Binding, Cell, Level, control_of
from fenko.core.recognising import Meant
from fenko.core.script import cells_of
from fenko.core.stack import stack_of
from fenko.core.words import format_time
from fenko.desk.editing import Edit, EditError, alone, binding_value, set_binding, set_entry, take_back, write
from fenko.desk.judging.programs import list_of
from fenko.desk.load import Desk, load_desk
from fenko.desk.locate import KeyPath as EntryPath
from fenko.desk.problems import DeskError
from fenko.desk.shortcuts import ShortcutList
from fenko.desk.writing import quoted


class Refused(Exception):
    """What cannot be learned; the message says why. `status` is the exit status that says so."""

    def __init__(self, message: str, status: int = 2) -> None:
        super().__init__(message)
        self.status = status


class BindingEditor:
    """A desk that learns: where bindings go, and what has been written so far."""

    def __init__(self, desk: Desk, profile: str, app: str | None, layer: str | None) -> None:
        self.desk = desk
        self.profile = profile
        self.layer = layer
        self._app = app
        self._edits: list[list[Edit]] = []

    @property
    def place(self) -> str:
        """Where bindings go, in words."""
        return f"{self.profile}/{self.layer}" if self.layer else self.profile

    @property
    def shortcuts(self) -> ShortcutList | None:
        """The shortcut list of the program that the profile is for."""
        profile = self.desk.plan.profiles.get(self.profile)
        return list_of(self.desk, profile) if profile is not None else None

    def named(self, text: str) -> Meant:
        """The control and gesture that a person names. Ends the program if there is none."""
        cells, gesture = meant(self.desk, text)
        if len(cells) > 1:
            directions = [cell for cell in cells if cell.rpartition(".")[2] not in ("x", "y") and cell != cells[0]]
            fail(f"`{text}` has directions; name one of {', '.join(directions)}", 2)
        surface, _, rest = cells[0].partition(".")
        if "+" in rest:
            head, _, last = text.rpartition(".")
            written = head if gesture is not None and last == gesture else text
            return Meant(surface, (written.removeprefix(f"{surface}."),), gesture or "press")
        control, *parts = rest.split(".")
        return Meant(surface, (control, *parts), gesture or "press")

    def address(self, what: Meant) -> str:
        """The cell that is meant."""
        found = cells_of(f"{what.surface}.{'.'.join(what.control)}", self.desk.plan.surfaces)
        if isinstance(found, str):
            raise Refused(found)
        return found[1]

    def gesture(self, what: Meant) -> Meant:
        """A short press is a tap where the control has a hold or is tapped already."""
        level = self._level()
        cell = level.cell(self.address(what)) if level else None
        if what.gesture != "press" or cell is None or cell.press is not None or not cell.waits:
            return what
        return Meant(what.surface, what.control, "tap")

    def _level(self) -> Level | None:
        profile = self.desk.plan.profiles.get(self.profile)
        if profile is None:
            return None
        layer = profile.layers.get(self.layer) if self.layer else None
        levels = layer.levels if layer is not None else () if self.layer else profile.levels
        return next((level for level in levels if level.name == self.place), None)

    def now(self, what: Meant) -> list[str]:
        """What the control does now where it is learned, or what lies below that."""
        address = self.address(what)
        profile = self.desk.plan.profiles.get(self.profile) or self.desk.plan.profiles[BASE]
        above = profile.layers[self.layer].levels if self.layer and self.layer in profile.layers else ()
        for level in reversed((*profile.levels, *above)):
            cell = level.cell(address)
            if cell is not None and any(cell.gestures()):
                return [self._shown(cell, gesture, binding) for gesture, binding in cell.gestures()]
        return []

    def _shown(self, cell: Cell, gesture: str, binding: Binding) -> str:
        where = self.desk.where(cell, gesture)
        label = f"{binding.label} · " if binding.label else ""
        below = "" if cell.profile == self.place else f"in {cell.profile}, "
        return f"{gesture}: {label}{binding.words}  {dim(f'({below}{where})')}"

    def learn(self, what: Meant, phrase: Phrase, extras: dict[str, str]) -> None:
        """Writes a binding and says where. Raises Refused if the desk would not work with it."""
        edits: list[Edit] = []
        level = self._level()
        before = level.cell(self.address(what)) if level else None
        was_plain = before is not None and [gesture for gesture, _ in before.gestures()] == ["press"]
        keep = "tap" if what.gesture in ("hold", "double", "triple") else "press"
        try:
            with alone(self.desk.sources.folder):
                self._write(what, binding_value(str(phrase), **extras), keep, edits)
        except (EditError, DeskError) as why:
            if isinstance(why, DeskError):
                raise Refused("\n".join(problem.render() for problem in why.problems)) from None
            raise Refused(str(why), 1 if why.failed else 2) from None
        edit = edits[-1]
        hidden = self._below(what)
        self._edits.append(edits)
        self._app = None
        self._reload()
        say(f"{shown_path(edit.path)}:{edit.line}: {edit.text}")
        for line in hidden:
            note(f"  hides {line}")
        if was_plain and keep == "tap":
            note("  what a press did there is done by a tap now, for both would act otherwise")
        self._say_delays(what)

    def _write(self, what: Meant, value: str, keep: str, edits: list[Edit]) -> None:
        """Makes the edits, and notes them; takes back what was written if one of them cannot be made."""
        folder = self.desk.sources.folder
        try:
            if self._app is not None:
                when: EntryPath = ("profile", self.profile, "when")
                edit = set_entry(folder, when, f"{{ app = {quoted(self._app)} }}")
                write(edit)
                edits.append(edit)
            edit = set_binding(folder, self._table(what), self._spelling(what), what.gesture, value, keep)
            write(edit)
            edits.append(edit)
        except (EditError, DeskError):
            for done in reversed(edits):
                take_back(done)
            raise

    def _spelling(self, what: Meant) -> EntryPath:
        """The control as the desk spells it already: several at once can be written in any order."""
        if "+" not in what.control[0]:
            return what.control
        table: Any = self.desk.sources.data
        for part in self._table(what):
            table = table.get(part, {}) if isinstance(table, dict) else {}
        address = self.address(what)
        for written in table if isinstance(table, dict) else ():
            found = cells_of(f"{what.surface}.{written}", self.desk.plan.surfaces) if "+" in written else ""
            if not isinstance(found, str) and found[1] == address:
                return (written,)
        return what.control

    def _below(self, what: Meant) -> list[str]:
        """What a control did so far by a level below, which owns it no longer once it is bound here."""
        control = control_of(self.address(what))
        profile = self.desk.plan.profiles.get(self.profile)
        if profile is None or self.layer is not None:
            return []  # a layer is there to hide things for a while
        owner = next((level for level in reversed(profile.levels) if control in level.controls), None)
        if owner is None or owner.name == self.place:
            return []
        return [
            f"{cell.address.partition('.')[2]} {self._shown(cell, gesture, binding)}"
            for cell in owner.controls[control]
            for gesture, binding in cell.gestures()
        ]

    def _table(self, what: Meant) -> EntryPath:
        layer = ("layer", self.layer) if self.layer else ()
        return ("profile", self.profile, *layer, "on", what.surface)

    def _say_delays(self, what: Meant) -> None:
        plan = self.desk.plan
        address = self.address(what)
        stack = stack_of(plan, self.profile)
        cell = stack.cell(address)
        for delay in delays(stack, cell, plan.timing) if cell is not None and not self.layer else ():
            if delay.gesture != "hold":
                waits = f"{format_time(delay.seconds)} after the {delay.moment}: {delay.reason}"
                note(dim(f"  {delay.gesture} waits {waits}"))

    def undo(self) -> str:
        """Takes the last binding back; says what was done."""
        if not self._edits:
            return "there is nothing to undo"
        try:
            with alone(self.desk.sources.folder):
                for edit in reversed(self._edits[-1]):
                    take_back(edit)
        except EditError as why:
            return str(why)
        edit = self._edits.pop()[-1]
        self._reload()
        return f"taken back: {edit.text}"

    def _reload(self) -> None:
        try:
            self.desk = load_desk(self.desk.sources.folder)
        except DeskError as error:
            show_problems(error.problems, err=True)
            sys.exit(2)
