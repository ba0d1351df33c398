"""A desk compiled for the engine: per profile one flat table from cell to what it does.

Everything that can be decided before the first press is decided here, so that an event costs one look-up however many
profiles and bindings there are, and a change of profile swaps one reference.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping

from msgspec import Struct, field, structs

from fenko.core.controls import BUTTON, KINDS, Shape, passed_on, shape_of
from fenko.core.descriptions import BURST, burst_name, burst_of
from fenko.core.phrase import Keys, Pause, Phrase, Step, Tap, Wait

BASE = "base"
GESTURES = ("press", "release", "tap", "hold", "double", "triple")
TURN_GESTURES = ("press", "fast")
"""What a hand can do with a button, and with one sense of a dial."""
_BOUND = (*GESTURES, "fast")


def control_of(address: str) -> str:
    """The control that a cell belongs to, which a level owns whole; a chord is its own."""
    return address if "+" in address else ".".join(address.split(".")[:2])


class Timing(Struct, frozen=True):
    """All times of the engine, in seconds."""

    hold: float = 0.220
    """From the press to the `hold` gesture; a shorter press is a tap."""
    double: float = 0.250
    """From a release to the next press that makes it a `double` or `triple`."""
    chord: float = 0.040
    """Within this time of the first, controls count as pressed at once."""
    burst: float = BURST
    """Presses of one key closer than this come from one key that sends its code several times."""
    fast: float = 0.050
    """Detents closer than this are turned fast."""
    stroke: float = 0.008
    """How long a key stays down when no hand holds it there."""
    settle: float = 0.060
    """How long a window has to be in front before its profile comes."""


class Binding(Struct, frozen=True):
    """A gesture's action, and what tells a person about it.

    With `others`, each time does one of `phrase` and these: in turn, or at random without the same twice running;
    `states` names them in the same order. Of the bindings of a `group` only one is on at a time."""

    phrase: Phrase
    label: str | None = None
    colour: str | None = None
    icon: str | None = None
    note: str | None = None
    others: tuple[Phrase, ...] = ()
    at_random: bool = False
    states: tuple[str, ...] = ()
    group: str | None = None
    written: tuple[Phrase, ...] = ()
    """All that it can do as the person wrote it, where that names commands; `phrases` have their keys instead."""

    @property
    def title(self) -> str:
        """The label, or the phrase itself where there is none."""
        return self.label or self.words

    @property
    def words(self) -> str:
        """The phrase as it was written."""
        return " or ".join(map(str, self.written or self.phrases))

    @property
    def phrases(self) -> tuple[Phrase, ...]:
        """All that it can do."""
        return (self.phrase, *self.others)


class Cell(Struct, frozen=True):
    """What one cell does in one profile: a binding for each gesture that has one, and its own times if it has any.

    A chord is a cell too; its `members` are the cells that have to be pressed at once."""

    address: str
    profile: str
    press: Binding | None = None
    release: Binding | None = None
    tap: Binding | None = None
    hold: Binding | None = None
    double: Binding | None = None
    triple: Binding | None = None
    fast: Binding | None = None
    timing: Timing | None = None
    members: tuple[str, ...] = ()

    def gestures(self) -> Iterable[tuple[str, Binding]]:
        """The gestures that are bound, with their bindings."""
        for gesture in _BOUND:
            binding: Binding | None = getattr(self, gesture)
            if binding is not None:
                yield gesture, binding

    @property
    def waits(self) -> bool:
        """Whether more than the press itself matters."""
        return not (
            self.tap is None
            and self.hold is None
            and self.release is None
            and self.double is None
            and self.triple is None
        )

    @property
    def presses_counted(self) -> int:
        """How many presses in a row mean something: 3 with a triple, 2 with a double, else 1."""
        return 3 if self.triple is not None else 2 if self.double is not None else 1


class Surface(Struct, frozen=True):
    """One physical thing. `names` maps a person's own name of a control to the kernel's.

    `passes`: Fenko has taken the thing over and sends on what no binding wants. A change back within `debounce`
    seconds is bounce.
    """

    name: str
    kind: str = "other"
    passes: bool = False
    names: dict[str, str] = {}
    debounce: float = 0.0

    def kernel_name(self, control: str) -> str | None:
        """The kernel's name of a control that may have a name of its own; None if this kind has no such control."""
        if control in self.names:
            return self.names[control]
        if control in KINDS[self.kind]:
            return control
        burst = burst_of(control)
        base = self.kernel_name(burst[0]) if burst else None
        return burst_name(base, burst[1]) if burst and base and shape_of(base) is BUTTON else None

    def own_name(self, control: str) -> str:
        """The name that the desk knows the kernel's `control` by."""
        for own, kernel in self.names.items():
            if kernel == control:
                return own
        burst = burst_of(control)
        return burst_name(self.own_name(burst[0]), burst[1]) if burst else control

    def shape(self, control: str) -> Shape | None:
        """How a control acts, by its own or its kernel name; None if there is no such control."""
        kernel = self.kernel_name(control)
        return None if kernel is None else shape_of(kernel)

    def passed_on(self, control: str) -> str | None:
        """The key or mouse button that an unbound control stands for, if this surface sends such on."""
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


def sample_of(text: str) -> str:
    """A text that a pattern with `*` and `?` matches; empty for a regular expression, of which nobody knows."""
    return "" if text.startswith("~") else text.replace("*", "").replace("?", "x")


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
    """The bindings of one profile or layer alone. `controls` maps a control's address to its cells: a control that
    stands here is owned whole, also in the directions that it does not mention. A chord, and a key that sends its code
    several times, are controls of their own."""

    name: str
    controls: dict[str, tuple[Cell, ...]]

    def cell(self, address: str) -> Cell | None:
        """The cell of that address, where this level alone has it."""
        cells = self.controls.get(control_of(address), ())
        return next((cell for cell in cells if cell.address == address), None)


Table = dict[str, Cell]
"""Cell address to what it does. An owned cell without a binding stands in it with no gestures."""


class Tables(Struct, frozen=True):
    """All that is in force together, laid flat: what each cell does, and what of it needs more than a look-up.

    `instant` are the keys of buttons that do nothing but hold them; `chords` maps a cell to the chords that it is a
    member of, `bursts` one to the cells for several presses at once, `touches` one to its own touch, which is silent
    while it is pressed; `diagonals` are the sticks and hats of which a direction between two others is bound."""

    table: Table
    instant: dict[str, tuple[str, ...]]
    chords: dict[str, tuple[Cell, ...]]
    bursts: dict[str, dict[int, Cell]]
    diagonals: frozenset[str]
    touches: dict[str, str]


class Layer(Struct, frozen=True):
    """A layer of a profile: its levels, lowest first, and what has to be held for it to be on by itself: modifiers of
    the ordinary keyboard and cells of surfaces."""

    levels: tuple[Level, ...]
    held: tuple[str, ...] = ()


class Profile(Struct, frozen=True):
    """A profile ready to be put in force: its conditions, its levels from base to itself, its layers, and its tables
    while no layer is on."""

    name: str
    conditions: tuple[Condition, ...]
    levels: tuple[Level, ...]
    layers: dict[str, Layer]
    tables: Tables

    @property
    def table(self) -> Table:
        """What each cell does while no layer is on."""
        return self.tables.table

    def fits(self, focus: Focus) -> int:
        """How many conditions this focus meets (a larger number is a closer fit); 0 if the profile does not apply."""
        met = [len(condition.patterns) for condition in self.conditions if condition.holds(focus)]
        return max(met, default=0)


class Plan(Struct, frozen=True):
    """All that the engine needs of a desk."""

    surfaces: dict[str, Surface]
    profiles: dict[str, Profile]
    timing: Timing = field(default_factory=Timing)
    watched: frozenset[str] = frozenset()
    """The cells that a layer's `while` names."""

    @property
    def watches_keyboard(self) -> bool:
        """Whether a layer is on while a modifier of the ordinary keyboard is held."""
        layers = (layer for profile in self.profiles.values() for layer in profile.layers.values())
        return any("." not in held for layer in layers for held in layer.held)

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
    name: str,
    conditions: Iterable[Condition],
    levels: Iterable[Level],
    surfaces: Mapping[str, Surface],
    layers: Mapping[str, Layer] | None = None,
    watched: frozenset[str] = frozenset(),
) -> Profile:
    """A profile from its levels, lowest first. `watched` cells are those that a layer's `while` names."""
    levels = tuple(levels)
    return Profile(name, tuple(conditions), levels, dict(layers or {}), lay_out(levels, surfaces, watched))


def lay_out(levels: Iterable[Level], surfaces: Mapping[str, Surface], watched: frozenset[str] = frozenset()) -> Tables:
    """Lays levels over one another, lowest first: the topmost that mentions a control owns all its gestures."""
    owned: dict[str, tuple[Cell, ...]] = {}
    for level in levels:
        owned.update(level.controls)
    table = {cell.address: cell for cells in owned.values() for cell in cells}
    return _flat(table, surfaces, watched)


def while_paused(tables: Tables, surfaces: Mapping[str, Surface]) -> Tables:
    """What of these tables still works while Fenko is paused."""
    return structs.replace(_flat(_pause_controls(tables.table), surfaces, frozenset()), instant={})


def _flat(table: Table, surfaces: Mapping[str, Surface], watched: frozenset[str]) -> Tables:
    chords: dict[str, tuple[Cell, ...]] = {}
    bursts: dict[str, dict[int, Cell]] = {}
    diagonals: set[str] = set()
    touches: dict[str, str] = {}
    for address, cell in table.items():
        name, _, rest = address.partition(".")
        surface = surfaces[name]
        control, _, direction = rest.partition(".")
        # Most controls are none of what follows; their names say so.
        if ("-" not in rest and control not in surface.names and not cell.members) or not any(cell.gestures()):
            continue
        for member in cell.members:
            chords[member] = (*chords.get(member, ()), cell)
        burst = burst_of(surface.kernel_name(control) or control)
        if burst is not None:
            bursts.setdefault(f"{name}.{surface.own_name(burst[0])}", {})[burst[1]] = cell
        shape = surface.shape(control)
        if shape is not None and direction in shape.diagonals:
            diagonals.add(f"{name}.{control}")
        if control.endswith("-touch"):
            touched = f"{name}.{control.removesuffix('-touch')}"
            touches |= {touched: address, f"{touched}-press": address}
    slow = {*chords, *bursts, *touches, *watched}
    instant = {
        address: keys
        for address, cell in table.items()
        if address not in slow and (keys := _instant_keys(cell, surfaces))
    }
    return Tables(table, instant, chords, bursts, frozenset(diagonals), touches)


def mirrored_keys(phrase: Phrase) -> tuple[str, ...] | None:
    """The keys of an action that is nothing but keys, which a press holds down until its release."""
    step = phrase.steps[0]
    if len(phrase.steps) == 1 and isinstance(step, Keys) and step.times == 1 and step.every is None:
        return step.keys
    return None


def _instant_keys(cell: Cell, surfaces: Mapping[str, Surface]) -> tuple[str, ...] | None:
    """The keys of a button that does nothing but hold them down; None for any other cell.

    Only plain buttons: an axis passes its own press and release points before it presses a cell."""
    if cell.press is None or cell.waits or cell.members or cell.press.others or cell.press.group:
        return None
    name, _, control = cell.address.partition(".")
    surface = surfaces[name]
    shape = surface.shape(control)
    if shape is None or shape.axes or shape.turns or surface.debounce:
        return None
    keys = mirrored_keys(cell.press.phrase)
    return None if keys is None or any(" " in key for key in keys) else keys


def _pause_controls(table: Table) -> Table:
    """What still works while paused: the gestures that pause, so that they can start Fenko again."""

    def pauses(binding: Binding) -> bool:
        return any(isinstance(step, Pause) for phrase in binding.phrases for step in phrase.steps)

    kept: Table = {}
    for address, cell in table.items():
        gestures = {gesture: binding for gesture, binding in cell.gestures() if pauses(binding)}
        if gestures:
            kept[address] = Cell(cell.address, cell.profile, timing=cell.timing, members=cell.members, **gestures)
    return kept


def unrolled(phrase: Phrase, stroke: float) -> tuple[Step, ...]:
    """The steps of a phrase with each stroke as a step of its own, and the waits between those of `every`."""
    return tuple(_unrolled(phrase, stroke))


def _unrolled(phrase: Phrase, stroke: float) -> Iterator[Step]:
    for step in phrase.steps:
        if isinstance(step, Tap):
            yield Keys(step.keys)
        elif isinstance(step, Keys):
            for number in range(step.times):
                yield Keys(step.keys)
                if step.every is not None and (number + 1 < step.times or step.times == 1) and step.every > stroke:
                    yield Wait(step.every - stroke)
        else:
            yield step


def repeats_while_held(phrase: Phrase) -> bool:
    """Whether the action goes on as long as the control is held: keys with `every`, and nothing else."""
    step = phrase.steps[0]
    return len(phrase.steps) == 1 and isinstance(step, Keys) and step.times == 1 and step.every is not None


Report = Callable[[float, str, str, str, Binding | None], None]
"""Told of each action that starts: time, cell address, gesture, profile, binding. The binding is None, and the profile
empty, where an unbound control is handed on."""
