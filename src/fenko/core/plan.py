"""A desk compiled for the engine: per profile one flat table from cell to what it does.

Everything that can be decided before the first press is decided here, so that an event costs one look-up however many
profiles and bindings there are, and a change of profile swaps one reference.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping

from msgspec import Struct, field

from fenko.core.controls import KINDS, Shape, passed_on, shape_of
from fenko.core.phrase import Keys, Pause, Phrase, Step

BASE = "base"
GESTURES = ("press", "release", "tap", "hold")


class Timing(Struct, frozen=True):
    """All times of the engine, in seconds."""

    hold: float = 0.220
    """From the press to the `hold` gesture; a shorter press is a tap."""
    stroke: float = 0.008
    """How long a key stays down when no hand holds it there."""
    settle: float = 0.060
    """How long a window has to be in front before its profile comes."""


class Binding(Struct, frozen=True):
    """A gesture's action, and what tells a person about it."""

    phrase: Phrase
    label: str | None = None
    colour: str | None = None
    icon: str | None = None
    note: str | None = None

    @property
    def title(self) -> str:
        """The label, or the phrase itself where there is none."""
        return self.label or str(self.phrase)


class Cell(Struct, frozen=True):
    """What one cell does in one profile: a binding for each gesture that has one."""

    address: str
    profile: str
    press: Binding | None = None
    release: Binding | None = None
    tap: Binding | None = None
    hold: Binding | None = None

    def gestures(self) -> Iterable[tuple[str, Binding]]:
        """The gestures that are bound, with their bindings."""
        for gesture in GESTURES:
            binding: Binding | None = getattr(self, gesture)
            if binding is not None:
                yield gesture, binding

    @property
    def waits(self) -> bool:
        """Whether more than the press itself matters."""
        return not (self.release is None and self.tap is None and self.hold is None)


class Surface(Struct, frozen=True):
    """One physical thing. `names` maps a person's own name of a control to the kernel's.

    `passes`: Fenko has taken the thing over and sends on what no binding wants.
    """

    name: str
    kind: str = "other"
    passes: bool = False
    names: dict[str, str] = {}

    def kernel_name(self, control: str) -> str | None:
        """The kernel's name of a control that may have a name of its own; None if this kind has no such control."""
        if control in self.names:
            return self.names[control]
        return control if control in KINDS[self.kind] else None

    def own_name(self, control: str) -> str:
        """The name that the desk knows the kernel's `control` by."""
        for own, kernel in self.names.items():
            if kernel == control:
                return own
        return control

    def shape(self, control: str) -> Shape | None:
        """How a control acts, by its own or its kernel name; None if there is no such control."""
        kernel = self.kernel_name(control)
        return None if kernel is None else shape_of(kernel)

    def passed_on(self, control: str) -> tuple[str, str] | None:
        """The output and the key or button that an unbound control stands for, if this surface sends such on."""
        kernel = self.kernel_name(control)
        return passed_on(self.kind, kernel) if self.passes and kernel else None


class Focus(Struct, frozen=True):
    """The window in front. Empty strings where nothing is known."""

    app: str = ""
    title: str = ""
    program: str = ""


FOCUS_FIELDS: tuple[str, ...] = Focus.__struct_fields__


def compile_pattern(text: str) -> re.Pattern[str]:
    """A pattern of a `when`: `*` and `?` match, `~…` is a regular expression found anywhere; case does not matter.

    Raises re.error for a bad regular expression."""
    if text.startswith("~"):
        return re.compile(text[1:], re.IGNORECASE)
    pieces = {"*": ".*", "?": "."}
    body = "".join(pieces.get(character) or re.escape(character) for character in text)
    return re.compile(rf"\A{body}\Z", re.IGNORECASE | re.DOTALL)


class Condition(Struct, frozen=True):
    """One `when`: for each field named, any of its patterns has to be found."""

    patterns: dict[str, tuple[re.Pattern[str], ...]]

    def holds(self, focus: Focus) -> bool:
        """Whether this focus meets every field."""
        return all(
            any(pattern.search(getattr(focus, name)) for pattern in patterns)
            for name, patterns in self.patterns.items()
        )


class Level(Struct, frozen=True):
    """The bindings of one profile alone. `controls` maps a control's address to its cells: a control that stands
    here is owned whole, also in the directions that it does not mention."""

    name: str
    controls: dict[str, tuple[Cell, ...]]


Table = dict[str, Cell]
"""Cell address to what it does. An owned cell without a binding stands in it with no gestures."""


class Profile(Struct, frozen=True):
    """A profile ready to be put in force: its conditions, its flat table, and the instant part of that table."""

    name: str
    conditions: tuple[Condition, ...]
    table: Table
    instant: dict[str, tuple[str, ...]]
    paused: Table

    def fits(self, focus: Focus) -> int:
        """How many conditions this focus meets (a larger number is a closer fit); 0 if the profile does not apply."""
        met = [len(condition.patterns) for condition in self.conditions if condition.holds(focus)]
        return max(met, default=0)


class Plan(Struct, frozen=True):
    """All that the engine needs of a desk."""

    surfaces: dict[str, Surface]
    profiles: dict[str, Profile]
    timing: Timing = field(default_factory=Timing)

    def choose(self, focus: Focus) -> str:
        """The profile for this focus: the one with most conditions met; among equals the first in the desk."""
        best, best_fit = BASE, 0
        for profile in self.profiles.values():
            fit = profile.fits(focus)
            if fit > best_fit:
                best, best_fit = profile.name, fit
        return best

    def neighbour(self, name: str, step: int) -> str:
        """The profile `step` places on from `name` in the desk's order, round and round, leaving base out."""
        names = [profile for profile in self.profiles if profile != BASE]
        if not names:
            return BASE
        if name not in names:
            return names[0 if step > 0 else -1]
        return names[(names.index(name) + step) % len(names)]


def compile_profile(
    name: str, conditions: Iterable[Condition], levels: Iterable[Level], surfaces: Mapping[str, Surface]
) -> Profile:
    """Lays the levels over one another, lowest first: the topmost that mentions a control owns all its gestures."""
    owned: dict[str, tuple[Cell, ...]] = {}
    for level in levels:
        owned.update(level.controls)
    table = {cell.address: cell for cells in owned.values() for cell in cells}
    return Profile(
        name=name,
        conditions=tuple(conditions),
        table=table,
        instant={address: keys for address, cell in table.items() if (keys := _instant_keys(cell, surfaces))},
        paused=_pause_controls(table),
    )


def mirrored_keys(binding: Binding) -> tuple[str, ...] | None:
    """The keys of an action that is nothing but keys, which a press holds down until its release."""
    steps = binding.phrase.steps
    if len(steps) == 1 and isinstance(steps[0], Keys) and steps[0].times == 1:
        return steps[0].keys
    return None


def _instant_keys(cell: Cell, surfaces: Mapping[str, Surface]) -> tuple[str, ...] | None:
    """The keys of a button that does nothing but hold them down; None for any other cell.

    Only plain buttons: an axis passes its own press and release points before it presses a cell."""
    if cell.press is None or cell.waits:
        return None
    surface, _, control = cell.address.partition(".")
    shape = surfaces[surface].shape(control)
    if shape is None or shape.axes or shape.turns:
        return None
    return mirrored_keys(cell.press)


def _pause_controls(table: Table) -> Table:
    """What still works while paused: the gestures that pause, so that they can start Fenko again."""

    def pauses(binding: Binding) -> bool:
        return any(isinstance(step, Pause) for step in binding.phrase.steps)

    kept: Table = {}
    for address, cell in table.items():
        gestures = {gesture: binding for gesture, binding in cell.gestures() if pauses(binding)}
        if gestures:
            kept[address] = Cell(cell.address, cell.profile, **gestures)
    return kept


def unrolled(phrase: Phrase) -> tuple[Step, ...]:
    """The steps of a phrase with each repetition of keys as a step of its own."""
    return tuple(
        Keys(step.keys) if isinstance(step, Keys) else step
        for step in phrase.steps
        for _ in range(step.times if isinstance(step, Keys) else 1)
    )


Report = Callable[[float, str, str, str, Binding | None], None]
"""Told of each action that starts: time, cell address, gesture, profile, binding. The binding is None, and the profile
empty, where an unbound control is handed on."""
