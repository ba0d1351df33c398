"""Reads what stands under the `on` of a profile or layer: controls, their directions and gestures, and the phrases."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from msgspec import structs

from fenko.core.controls import BUTTON, KINDS, MOTION, SENSOR, SHAPED, TILT, WHEEL, Shape, passed_on, with_direction
from fenko.core.effects import effects_of
from fenko.core.lit import Lit, read_lit
from fenko.core.phrase import Phrase, parse_phrase, steps_of
from fenko.core.plan import Binding, Cell, Level, Surface, Timing
from fenko.core.reader import PhraseError
from fenko.core.registration import Said, Surrounding, Unsettled
from fenko.core.steps import Amount, Follow, Item, Rate, Set, Steady, Step, SwitchPause, UseProfile
from fenko.core.value import Value
from fenko.core.verbs import ACTS, OUTPUT_OF, TARGETS, VERB_OF, spelled
from fenko.core.verbs.desk import Nothing, PassOn, TurnOnLayer
from fenko.core.verbs.keys import Command, Keys
from fenko.core.words import nearest
from fenko.desk.cells import ControlReader, Scope, some_of, steady
from fenko.desk.locate import KeyPath
from fenko.desk.model import BindingFile
from fenko.desk.shortcuts import ShortcutList, UnknownCommand, resolved
from fenko.desk.sources import Sources
from fenko.desk.structure import read
from fenko.desk.tables import table_of
from fenko.system import icons

_WAYS = ("do", "in-turn", "at-random")
MOST_UNKNOWN = 100
"""Unknown controls that are worth a place each; somebody who has more has the wrong kind of surface."""


class BindingReader:
    """Reads the bindings of all profiles of one desk; every fault goes to `sources`. `times` are those of the desk, and
    those of each surface by its name; `lists` are the shortcut lists that phrases may name, `broken` those that cannot be
    read; `silent` says what is odd about controls of each surface that send nothing as themselves.

    `phrases` are all that have been read; `places` says where each binding stands, by its level, cell and gesture."""

    def __init__(
        self,
        sources: Sources,
        surfaces: dict[str, Surface],
        profiles: set[str],
        desk_timing: Timing,
        surface_times: dict[str, dict[str, float]],
        lists: dict[str, ShortcutList],
        around: Surrounding,
        broken: frozenset[str] = frozenset(),
        silent: Mapping[str, Mapping[str, str]] | None = None,
        values: Mapping[Item, Value] | None = None,
    ) -> None:
        self.sources = sources
        self.surfaces = surfaces
        self.profiles = profiles
        self.phrases: list[tuple[KeyPath, Phrase]] = []
        self.places: dict[tuple[str, str, str], KeyPath] = {}
        self._lists = lists
        self._broken = broken
        self._silent = silent or {}
        self.values = dict(values or {})
        """Every number that a phrase changes, and those of the desk's own."""
        self._around = around
        self._plain: dict[str, Binding] = {}
        self._known: dict[tuple[str, str], tuple[str, tuple[str, ...], Shape]] = {}
        self._free: dict[str, Phrase] = {}
        self.unknown = 0
        self._desk_timing = desk_timing
        self._surface_times = surface_times

    def level(self, scope: Scope, on: dict[str, Any]) -> Level:
        """The bindings of one profile or layer alone."""
        controls: dict[str, tuple[Cell, ...]] = {}
        top: KeyPath = (*scope.path, "on")
        for surface_name, entries in on.items():
            surface = self.surfaces.get(surface_name)
            if surface is None:
                hint = nearest(surface_name, self.surfaces)
                expected = some_of(self.surfaces) or "a [surface.NAME] in this desk"
                self._fault((*top, surface_name), f"unknown surface `{surface_name}`", expected, hint, at_key=True)
                continue
            if not isinstance(entries, dict):
                continue  # already noted as not being a table
            times = self.timing(surface_name, *scope.timing)
            for control, value in entries.items():
                path = (*top, surface_name, control)
                found = self._known.get((surface_name, control)) or self._members(path, surface, control)
                if found is None:
                    continue
                self._known[surface_name, control] = found
                address, members, shape = found
                if address in controls:
                    own = address.partition(".")[2]
                    self._fault(path, f"`{own}` is bound twice in this profile", None, None, at_key=True)
                    continue
                plain = self._plain.get(value) if shape is BUTTON and isinstance(value, str) else None
                if plain is not None:
                    # Said like this elsewhere, and good wherever it stands.
                    self.phrases.append((path, plain.phrase))
                    self.places[scope.name, address, "press"] = path
                    controls[address] = (
                        Cell(
                            address, scope.name, plain, timing=times, members=members,
                            repeats=surface.repeated(address.partition(".")[2]),
                        ),
                    )  # fmt: skip
                    continue
                reader = ControlReader(self, scope, surface, address, members)
                controls[address] = reader.control(path, shape, value)
        return Level(scope.name, controls)

    def _members(self, path: KeyPath, surface: Surface, control: str) -> tuple[str, tuple[str, ...], Shape] | None:
        """The address of a control or of a chord, the members of the chord, and the shape; None, noted, if there is no
        such control."""
        if "+" not in control:
            shape = surface.shape(control)
            if shape is None or shape is SENSOR:
                self._unknown_control(path, surface, control)
                return None
            return f"{surface.name}.{surface.own_name(surface.kernel_name(control) or control)}", (), shape
        names = control.split("+")
        owns: list[str] = []
        for name in names:
            whole, _, direction = name.partition(".")
            shape_here = surface.shape(whole)
            if shape_here is None or shape_here in (MOTION, SENSOR):
                self._unknown_control(path, surface, whole)
                return None
            if shape_here.turns or (direction or None) not in (shape_here.cells or (None,)):
                what = f"`{name}` cannot be a part of several at once"
                expected = (
                    f"`{whole}.{shape_here.cells[0]}`" if shape_here.cells and not shape_here.turns else "buttons"
                )
                self._fault(path, what, expected, None, at_key=True)
                return None
            own = surface.own_name(surface.kernel_name(whole) or whole)
            owns.append(f"{own}.{direction}" if direction else own)
        if len(set(owns)) < len(owns):
            self._fault(path, "a control cannot be pressed together with itself", None, None, at_key=True)
            return None
        # A point would end the control's name, and a direction begin, so parts of sticks and hats are written together.
        members = tuple(f"{surface.name}.{own}" for own in sorted(owns))
        return f"{surface.name}.{'+'.join(sorted(own.replace('.', '-') for own in owns))}", members, BUTTON

    def timing(self, surface: str, *closer: dict[str, float]) -> Timing | None:
        """The times that hold for a binding on a surface; None where they are those of the desk."""
        times: dict[str, float] = {}
        for found in (self._surface_times.get(surface, {}), *closer):
            times |= found
        return structs.replace(self._desk_timing, **times) if times else None

    # --- Phrases ---

    def binding(self, path: KeyPath, value: Any, scope: Scope, held: bool) -> Binding | None:
        """A phrase, or a binding written out. `held`: its gesture has a release."""
        if isinstance(value, str):
            return self._phrase_binding(path, value, scope, held)
        if isinstance(value, dict):
            return self._table_binding(path, value, scope, held)
        self._fault(path, "this binds nothing", "a phrase, or a table with `do`", None)
        return None

    def on_its_own(self, path: KeyPath, text: Any, scope: Scope) -> Binding | None:
        """What is done without a hand, when a profile comes or goes."""
        binding = self._phrase_binding(path, text, scope, held=False) if isinstance(text, str) else None
        if binding is None:
            return None
        for step in steps_of(binding.phrase):
            if isinstance(step, Steady):
                self._fault(path, "nothing moves here that this could follow", "what is done once", None)
                return None
            if any(ACTS[effect[0], effect[1]].watched for effect in effects_of(step)):
                self._fault(
                    path, "a profile that comes or goes moves no machine; only a hand does", "`machine stop`", None
                )
                return None
            if isinstance(step, UseProfile | SwitchPause):
                what = "another profile in force" if isinstance(step, UseProfile) else "Fenko to rest"
                self._fault(
                    path,
                    f"a profile that comes or goes cannot put {what}, which would have no end",
                    "other phrases",
                    None,
                )
                return None
        return binding

    def _table_binding(self, path: KeyPath, value: dict[str, Any], scope: Scope, held: bool) -> Binding | None:
        written = read(self.sources, path, value, BindingFile)
        if written is None:
            return None
        ways = [name for name in _WAYS if name in value]
        if len(ways) != 1:
            message = "`do` is missing" if not ways else f"`{ways[0]}` and `{ways[1]}` are two different things"
            self._fault(path, message, "one of do, in-turn and at-random", None, at_key=True)
            return None
        way = ways[0]
        if way == "do":
            bindings = [self._phrase_binding((*path, way), value[way], scope, held)]
        else:
            bindings = [
                self._phrase_binding((*path, way, number), text, scope, held) for number, text in enumerate(value[way])
            ]
        known = [binding for binding in bindings if binding is not None]
        if len(known) < len(bindings):
            return None
        self._judge_icon(path, written.icon or "")
        lit = self._lit(path, written, scope)
        states = tuple(written.states or ())
        if states and (way != "in-turn" or len(states) != len(known)):
            self._fault((*path, "states"), "every phrase of `in-turn` leads to one state", f"{len(known)} states", None)
        if way == "in-turn" and any(binding.others for binding in known):
            self._fault(
                (*path, way), "what comes in turn is one thing each time", "one file in place of a pattern", None
            )
        first = known[0]
        phrases = [phrase for binding in known for phrase in binding.phrases]
        by_name = any(binding.written for binding in known)
        return Binding(
            first.phrase,
            written.label or None,
            written.colour or None,
            written.icon or None,
            written.note or None,
            tuple(phrases[1:]),
            way == "at-random" or first.at_random,
            states,
            written.group or None,
            bool(written.spring),
            lit,
            written.lamp or "",
            tuple(phrase for binding in known for phrase in binding.written or binding.phrases) if by_name else (),
        )

    def _lit(self, path: KeyPath, written: BindingFile, scope: Scope) -> Lit | None:
        """When its lamp is on, if it has one."""
        if not written.lit:
            if written.lamp:
                self._fault((*path, "lamp"), "nothing says when this lamp is on", "`lit` beside it", None, at_key=True)
            return None
        try:
            lit = read_lit(written.lit)
        except PhraseError as why:
            self.sources.add((*path, "lit"), str(why), part=(why.offset, why.length), nearest=why.hint)
            return None
        known = {
            "layer": [*scope.layers], "profile": [*self.profiles], "machine": [*self._around.table("machine")],
            "value": [name for out, name in self.values if out == "value"], "state": list(written.states or ()),
        }  # fmt: skip
        if lit.word in known and lit.name not in known[lit.word]:
            at = (written.lit.rfind(lit.name), len(lit.name))
            expected = some_of(known[lit.word]) or f"a {lit.word}; there is none"
            self.sources.add(
                (*path, "lit"),
                f"unknown {lit.word} `{lit.name}`",
                part=at,
                expected=expected,
                nearest=nearest(lit.name, known[lit.word]),
            )
        return lit

    def _judge_icon(self, path: KeyPath, icon: str) -> None:
        if icons.by_name(icon) and not icons.known(icon):
            expected = "an icon that `fenko sheet --icons WORDS` finds, or a character or two"
            self._fault((*path, "icon"), f"there is no icon `{icon}`", expected, icons.like(icon))

    def _phrase_binding(self, path: KeyPath, text: str, scope: Scope, held: bool) -> Binding | None:
        binding = self._plain.get(text)
        if binding is None:
            phrase = self._phrase(path, text, scope, held)
            if phrase is None:
                return None
            done, *others = self._meant(path, text, phrase)
            if not done.steps:
                return None  # what is wrong with it has been noted
            written = (phrase,) if done != phrase else ()
            binding = Binding(done, others=tuple(others), at_random=bool(others), written=written)
            if text in self._free and not _by_surface(phrase) and not any(isinstance(s, PassOn) for s in phrase.steps):
                self._plain[text] = binding
        self.phrases.append((path, binding.phrase))
        return binding

    def _phrase(self, path: KeyPath, text: str, scope: Scope, held: bool) -> Phrase | None:
        phrase = self._free.get(text)
        if phrase is not None:
            return phrase
        try:
            phrase = parse_phrase(text)
        except PhraseError as why:
            self.sources.add(path, str(why), part=(why.offset, why.length), nearest=why.hint)
            return None
        if not all([self._step(path, text, step, scope, held) for step in phrase.steps]):
            return None
        if len(phrase.steps) > 1 and any(map(steady, phrase.steps)):
            message = "what goes on as long as a control is off its rest is a phrase of its own"
            self.sources.add(path, message, expected="nothing else in this phrase")
            return None
        endless = [step for step in phrase.steps if isinstance(step, Keys | Command) and step.every and step.times == 1]
        if endless and len(phrase.steps) > 1:
            part = (text.find("every"), 5)
            expected = f"a number of times, such as `x5 {text[part[0] :]}`, or nothing else in this phrase"
            self.sources.add(
                path, "keys that repeat for as long as a control is held come to no end", part=part, expected=expected
            )
            return None
        try:
            resolved(phrase, self._lists)
        except UnknownCommand as why:
            if why.app in self._broken:
                return None  # it is enough to say what is wrong with the list
            folded = text.casefold()
            at = max(0, folded.find(why.word.casefold()))
            self.sources.add(path, str(why), part=(at, len(why.word)), nearest=why.hint)
            return None
        if not any(
            isinstance(step, TurnOnLayer) or (isinstance(step, Keys | Command) and step.every) for step in phrase.steps
        ):
            self._free[text] = phrase  # good wherever it stands
        return phrase

    def _meant(self, path: KeyPath, text: str, phrase: Phrase) -> tuple[Phrase, ...]:
        """What a phrase means in this desk: keys in place of commands, and what outputs make of it; several of which any will
        do. An empty phrase if something, which is noted, is wrong."""
        ways: list[list[Said]] = [[]]
        around = self._around._replace(surface=_surface_at(path))
        for said in resolved(phrase, self._lists).steps:
            output = OUTPUT_OF.get(type(said))
            try:
                if isinstance(said, PassOn):
                    options = [self._passed(path)]
                else:
                    options = list(output.settle(said, around)) if output is not None else [said]
            except Unsettled as why:
                at = max(0, text.find(why.word)) if why.word else 0
                part = (at, len(why.word) or len(text))
                self.sources.add(path, str(why), part=part, expected=why.expected or None, nearest=why.nearest)
                return (Phrase(()),)
            if len(options) > 1 and len(ways) > 1:
                self.sources.add(path, "of one phrase only one step can be any of several files")
                return (Phrase(()),)
            ways = [[*way, option] for way in ways for option in options]
        phrases = tuple(Phrase(tuple(way)) for way in ways)
        if not all([self._counts(path, text, step) for step in steps_of(phrases[0])]):
            return (Phrase(()),)
        return phrases

    def _step(self, path: KeyPath, text: str, step: Said, scope: Scope, held: bool) -> bool:
        """Whether what a step names is there, and can be done with such a gesture."""
        own = [name for out, name in self.values if out == "value"]
        known = {"profile": self.profiles, "layer": scope.layers, "value": own}
        for argument, field in zip(VERB_OF[type(step)].arguments, step.__struct_fields__, strict=True):
            name = getattr(step, field)
            if argument.names in known and name not in known[argument.names] and name not in argument.besides:
                self._unknown_in(path, text, argument.names, name, [*sorted(known[argument.names]), *argument.besides])
                return False
        if isinstance(step, TurnOnLayer) and not step.mode and not held:
            part = (text.find("layer"), len(f"layer {step.name}"))
            message = "this gesture is over at once, so nothing would hold the layer"
            expected = f"`layer {step.name} once`, `layer {step.name} locked`, or another gesture"
            self.sources.add(path, message, part=part, expected=expected)
            return False
        if isinstance(step, Keys | Command) and step.every is not None and step.times == 1 and not held:
            message = "this gesture is over at once; without `xN` the keys repeat while a control is held"
            part = (text.find("every"), 5)
            self.sources.add(path, message, part=part, expected=f"a number of times, such as `x5 {text[part[0] :]}`")
            return False
        return True

    def _passed(self, path: KeyPath) -> Said:
        """What a control of its surface does in its ordinary life. Raises Unsettled where that is nothing that could be sent."""
        surface = self.surfaces.get(_surface_at(path))
        if surface is None:
            raise Unsettled(
                "`pass` leaves a control to the program, and here is none", "pass", "`nothing`, or no phrase at all"
            )
        where = list(path[path.index("on") + 2 :])
        control, direction = str(where[0]), str(where[1]) if len(where) > 1 else ""
        control, _, inner = control.partition(".")
        direction = inner or direction
        kernel = surface.kernel_name(control) or control
        if not table_of(self.sources.data, "surface").get(surface.name, {}).get("exclusive", True):
            return Nothing()  # other programs have it anyway
        shape = surface.shape(control)
        if shape is MOTION:
            return parse_phrase("pointer x1").steps[0]
        if shape is not None and shape in (WHEEL, TILT) and direction in shape.directions:
            return parse_phrase(f"scroll {direction} 1").steps[0]
        key = passed_on(surface.kind, kernel)
        if key is None:
            raise Unsettled(
                f"`{control}` of a {surface.kind} is no key and no mouse button, so it cannot be passed on alone", "pass",
                f'`leaves = ["{surface.name}"]` in the profile, which leaves the whole surface to the program',
            )  # fmt: skip
        return Keys((key,))

    def _counts(self, path: KeyPath, text: str, step: Step) -> bool:
        """Whether a number is counted in the units of its change; from now on it is known."""
        if not isinstance(step, Set | Follow | Rate):
            return True
        out, name = step.target
        if step.target not in self.values:
            self.values[step.target] = TARGETS[out].value(name, self._around.tables)
        value = self.values[step.target]
        for amount in _amounts(step):
            if amount.unit in value.units:
                continue
            own = spelled(step.target)
            part = (max(0, text.rfind(amount.unit)), len(amount.unit))
            counted = f"`{own}` counts in {value.unit}" if value.unit else f"`{own}` is a plain number"
            self.sources.add(path, counted, part=part, expected=f"{value.unit or 'no unit'}, or % of its range")
            return False
        return True

    def _unknown_in(self, path: KeyPath, text: str, verb: str, name: str, known: list[str]) -> None:
        at = text.find(name, text.find(verb) + len(verb))
        expected = some_of(known) or f"a {verb} of this profile; it has none"
        message = f"unknown {verb} `{name}`"
        self.sources.add(path, message, part=(at, len(name)), expected=expected, nearest=nearest(name, known))

    def _unknown_control(self, path: KeyPath, surface: Surface, control: str) -> None:
        trouble = self._silent.get(surface.name, {}).get(control)
        if trouble is not None:
            self._fault(path, f"`{control}` {trouble}", None, None, at_key=True)
            return
        self.unknown += 1
        if self.unknown > MOST_UNKNOWN:
            return
        known = (KINDS[surface.kind] | surface.shapes.keys()) - {"sensor"}
        hint = with_direction(control, known) or nearest(
            control, [*surface.names, *(known & SHAPED.keys()), *sorted(known)]
        )
        if surface.kind == "board":
            where = f'`{control}.sort = "button"` in [surface.{surface.name}.control], or a description that asks it'
            self._fault(path, f"unknown control `{control}`", where, nearest(control, known), at_key=True)
            return
        if surface.kind == "other" or control not in KINDS["other"]:
            message = f"unknown control `{control}`"
        else:
            message = f"a {surface.kind} has no control `{control}`"
        expected = some_of(sorted(known)) if len(known) < 20 else None
        self._fault(path, message, expected, hint, at_key=True)

    def _fault(self, path: KeyPath, message: str, expected: str | None, hint: str | None, at_key: bool = False) -> None:
        self.sources.add(path, message, at_key=at_key, expected=expected, nearest=hint)


def _by_surface(phrase: Phrase) -> bool:
    """Whether what it means depends on whose control it stands for."""
    return any(output.by_surface for said in phrase.steps if (output := OUTPUT_OF.get(type(said))) is not None)


def _surface_at(path: KeyPath) -> str:
    """The surface of the control for which something stands there; empty where no control does."""
    for at in (2, 4):  # of a profile, of a layer
        if len(path) > at + 1 and path[at] == "on":
            return str(path[at + 1])
    return ""


def _amounts(step: Set | Follow | Rate) -> tuple[Amount, ...]:
    """The numbers that stand in a change."""
    match step:
        case Set(amount=amount):
            return (amount,)
        case Rate(speed=speed):
            return (speed,)
        case Follow(low=low, high=high):
            return () if low is None or high is None else (low, high)
