"""A desk compiled for the engine: its surfaces, its profiles, and what each of their levels says of every control."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable

from msgspec import Struct, field, structs

from fenko.core.circumstances import Circumstances, Closeness, Condition, Focus
from fenko.core.conditioning import STICK_DEAD_ZONE, STRUCK_AT, STRUCK_UNTIL, TILT_DEAD_ZONE, Conditioning
from fenko.core.controls import BUTTON, LEANING, PAD, SORTS, STICK, Shape, has_control, passed_on, shape_of
from fenko.core.descriptions import BURST, burst_name, burst_of
from fenko.core.lit import Lit
from fenko.core.phrase import Phrase
from fenko.core.steps import Item
from fenko.core.value import Value

BASE = "base"
GESTURES = ("press", "release", "tap", "hold", "double", "triple")
TURN_GESTURES = ("press", "fast")
"""What a hand can do with a button, and with one sense of a dial."""
_BOUND = (*GESTURES, "fast", "move")


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
    gap: float = 0.002
    """From a key's release to the soonest moment at which it goes down again."""
    settle: float = 0.060
    """How long a window has to be in front before its profile comes."""
    tick: float = 0.008
    """From one step of what moves by itself to the next."""


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
    spring: bool = False
    """Whether a value that follows is meant to jump back with the control."""
    lit: Lit | None = None
    """When the lamp is on that goes with it: `lamp`, or that of the control."""
    lamp: str = ""
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

    A chord is a cell too; its `members` are the cells that have to be pressed at once. So is a key that sends its code
    several times: it `repeats` that cell so many times."""

    address: str
    profile: str
    press: Binding | None = None
    release: Binding | None = None
    tap: Binding | None = None
    hold: Binding | None = None
    double: Binding | None = None
    triple: Binding | None = None
    fast: Binding | None = None
    move: Binding | None = None
    """What goes on as long as it is off its rest."""
    timing: Timing | None = None
    members: tuple[str, ...] = ()
    repeats: tuple[str, int] | None = None

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


UNTOUCHED = Conditioning()
USUAL = {
    STICK.name: Conditioning(dead_zone=STICK_DEAD_ZONE),
    LEANING.name: Conditioning(dead_zone=TILT_DEAD_ZONE),
    PAD.name: Conditioning(press=STRUCK_AT, release=STRUCK_UNTIL),
}
"""How positions are conditioned where the desk says nothing of it, by the name of the shape."""


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
    shapes: dict[str, Shape] = {}
    """How controls act, by the kernel's names, of those that the thing's description knows more of than their name says."""
    conditioning: dict[str, Conditioning] = {}
    """How positions are conditioned, by the desk's names of controls, where the desk says something of it."""

    def kernel_name(self, control: str) -> str | None:
        """The kernel's name of a control that may have a name of its own; None if this kind has no such control."""
        if control in self.names:
            return self.names[control]
        if has_control(self.kind, control) or control in self.shapes:
            return control
        burst = burst_of(control)
        base = self.kernel_name(burst[0]) if burst else None
        return burst_name(base, burst[1]) if burst and base and self._shape(base) is BUTTON else None

    def own_name(self, control: str) -> str:
        """The name that the desk knows the kernel's `control` by."""
        for own, kernel in self.names.items():
            if kernel == control:
                return own
        burst = burst_of(control)
        return burst_name(self.own_name(burst[0]), burst[1]) if burst else control

    def repeated(self, control: str) -> tuple[str, int] | None:
        """The address of the control that this one sends several times at once, and how often; None for most."""
        burst = burst_of(self.kernel_name(control) or control)
        return (f"{self.name}.{self.own_name(burst[0])}", burst[1]) if burst else None

    def shape(self, control: str) -> Shape | None:
        """How a control acts, by its own or its kernel name; None if there is no such control."""
        kernel = self.kernel_name(control)
        return None if kernel is None else self._shape(kernel)

    def conditioning_of(self, control: str) -> Conditioning:
        """How the positions of a control, by the desk's name, are conditioned."""
        found = self.conditioning.get(control)
        return found or USUAL.get((self.shape(control) or BUTTON).name, UNTOUCHED)

    def _shape(self, kernel: str) -> Shape:
        known = self.shapes.get(kernel)
        # By its name: a plan that came from another process has shapes of its own, and there is one of each.
        return SORTS[known.name] if known is not None else shape_of(kernel)

    def passed_on(self, control: str) -> str | None:
        """The key or mouse button that an unbound control stands for, if this surface sends such on."""
        kernel = self.kernel_name(control)
        return passed_on(self.kind, kernel) if self.passes and kernel else None


def unconditioned(surface: Surface) -> Surface:
    """The same thing, whatever the desk says of its positions."""
    return structs.replace(surface, conditioning={}) if surface.conditioning else surface


class Level:
    """The bindings of one profile or layer alone. `controls` maps a control's address to its cells: a control that
    stands here is owned whole, also in the directions that it does not mention. A chord, and a key that sends its code
    several times, are controls of their own.

    `cells` are all cells by address; `chords` those that a cell is a member of; `bursts` what several presses of a key
    at once mean; `diagonals` the directions between two others, by the stick or hat."""

    __slots__ = ("bursts", "cells", "chords", "controls", "diagonals", "name")

    def __init__(self, name: str, controls: dict[str, tuple[Cell, ...]]) -> None:
        self.name = name
        self.controls = controls
        self.cells: dict[str, Cell] = {cell.address: cell for cells in controls.values() for cell in cells}
        self.chords: dict[str, list[Cell]] = {}
        self.bursts: dict[str, dict[int, Cell]] = {}
        self.diagonals: dict[str, list[str]] = {}
        for control, cells in controls.items():
            for cell in cells:
                for member in cell.members:
                    self.chords.setdefault(member, []).append(cell)
                if cell.repeats is not None or "-x" in control:
                    of = cell.repeats or burst_of(control)
                    if of is not None:
                        self.bursts.setdefault(of[0], {})[of[1]] = cell
                direction = cell.address[len(control) + 1 :]
                if "-" in direction and not cell.members:
                    self.diagonals.setdefault(control, []).append(direction)

    def without(self, surfaces: Collection[str]) -> Level:
        """The same without what it says of these surfaces."""
        controls = {
            control: cells for control, cells in self.controls.items() if control.partition(".")[0] not in surfaces
        }
        return self if len(controls) == len(self.controls) else Level(self.name, controls)

    def cell(self, address: str) -> Cell | None:
        """The cell of that address, where this level alone has it."""
        return self.cells.get(address)


class Layer(Struct, frozen=True):
    """A layer of a profile: its levels, lowest first, and what has to be held for it to be on by itself: modifiers of
    the ordinary keyboard and cells of surfaces."""

    levels: tuple[Level, ...]
    held: tuple[str, ...] = ()


class Profile(Struct, frozen=True):
    """A profile ready to be put in force: its conditions, its levels from base to itself, and its layers."""

    name: str
    conditions: tuple[Condition, ...]
    levels: tuple[Level, ...]
    layers: dict[str, Layer]
    on_enter: Binding | None = None
    on_leave: Binding | None = None
    """What is done when it comes, and when it goes."""
    leaves: frozenset[str] = frozenset()
    """Surfaces that it leaves to the program: of their bindings only its own act, and other programs have them."""

    def closeness(self, now: Circumstances) -> Closeness | None:
        """How closely it fits; None if it does not come by itself now."""
        found = [close for condition in self.conditions if (close := condition.closeness(now)) is not None]
        return max(found, default=None)


_NOT_AT_ALL = Closeness(-1, 0, 0, False, 0)


class Plan(Struct, frozen=True):
    """All that the engine needs of a desk."""

    surfaces: dict[str, Surface]
    profiles: dict[str, Profile]
    timing: Timing = field(default_factory=Timing)
    watched: frozenset[str] = frozenset()
    """The cells that a layer's `while` names."""
    values: dict[Item, Value] = {}
    """The numbers that controls can drive."""
    ignored: tuple[Condition, ...] = ()
    """Windows that do not count."""
    hand_until_focus: bool = False
    """Whether a profile that was chosen by hand stays only until another program comes in front."""

    def ignores(self, focus: Focus) -> bool:
        """Whether this window does not count."""
        return bool(self.ignored) and any(one.holds(Circumstances(focus), focus) for one in self.ignored)

    @property
    def asks_for_running(self) -> frozenset[str]:
        """The patterns of programs of which it matters whether they run."""
        conditions = [condition for profile in self.profiles.values() for condition in profile.conditions]
        return frozenset().union(*(condition.asks_for_running for condition in conditions))

    @property
    def watches_keyboard(self) -> bool:
        """Whether a layer is on while a modifier of the ordinary keyboard is held."""
        layers = (layer for profile in self.profiles.values() for layer in profile.layers.values())
        return any("." not in held for layer in layers for held in layer.held)

    @property
    def levels(self) -> dict[str, Level]:
        """Every level of every profile and layer, once, by its name."""
        # A level that lies under a profile which leaves surfaces to the program lacks these there.
        whole = {profile.levels[-1].name: profile.levels[-1] for profile in self.profiles.values() if profile.levels}
        for name, profile in self.profiles.items():
            for layer in profile.layers.values():
                whole |= {level.name: level for level in layer.levels if level.name.startswith(f"{name}/")}
        found: dict[str, Level] = {}
        for profile in self.profiles.values():
            for level in (*profile.levels, *(one for layer in profile.layers.values() for one in layer.levels)):
                found.setdefault(level.name, whole.get(level.name, level))
        return found

    def choose(self, now: Circumstances) -> str:
        """The profile that comes by itself: the one that fits most closely; among equals the first in the desk. (A running
        engine has a `Chooser`, which comes to the same faster.)"""
        best, closest = BASE, _NOT_AT_ALL
        for profile in self.profiles.values():
            found = profile.closeness(now)
            if found is not None and found > closest:
                best, closest = profile.name, found
        return best

    def for_window(self, focus: Focus) -> str:
        """The profile that comes by itself with this window in front, when every surface is there and nothing else runs."""
        return self.choose(Circumstances(focus, surfaces=frozenset(self.surfaces)))

    def neighbour(self, name: str, step: int) -> str:
        """The profile `step` places on from `name` in the desk's order, round and round, leaving base out."""
        names = [profile for profile in self.profiles if profile != BASE]
        if not names:
            return BASE
        if name not in names:
            return names[0 if step > 0 else -1]
        return names[(names.index(name) + step) % len(names)]


Report = Callable[[float, str, str, str, Binding | None], None]
"""Told of each action that starts: time, cell address, gesture, profile, binding. The binding is None, and the profile
empty, where an unbound control is handed on."""
Timed = Callable[[float, Cell, str, float], None]
"""Told how long a hand took, where one of the desk's times judges it: time, cell, which time (`hold`: from the press to the
release; `double`: from a release to the next press; `chord`: from one member to the next), seconds."""
