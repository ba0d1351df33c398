"""Judgement on a desk that loads: what in it can never happen, what gets in each other's way, what nobody needs.

A warning is something that will not do what the person meant. A hint is something that they may have meant."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from msgspec import Struct

from fenko.core.actions import held_items
from fenko.core.controls import BUTTON
from fenko.core.descriptions import burst_of
from fenko.core.keys import MODIFIERS
from fenko.core.patterns import sample_of
from fenko.core.phrase import Phrase
from fenko.core.plan import (
    BASE,
    FOCUS_FIELDS,
    Binding,
    Cell,
    Focus,
    Level,
    control_of,
)
from fenko.core.plan import Profile as Profiled
from fenko.core.registration import Said
from fenko.core.stack import stack_of
from fenko.core.verbs import spelled
from fenko.core.verbs.desk import Layer, Nothing, Pause, Profile
from fenko.core.verbs.keys import Keys, Lift, Press, Tap, Toggle
from fenko.desk.descriptions import Catalogue
from fenko.desk.load import Desk
from fenko.desk.locate import Path
from fenko.desk.problems import DeskError, Problem
from fenko.desk.shortcuts import ShortcutList

TOGGLES = "toggles"
"""The word in a shortcut's note that says that the command switches something over each time."""
_MOST_OF_A_SORT = 20
"""Findings of one sort that are worth a place each; after these they are counted."""


class _When(Struct, frozen=True):
    """One `when` of a profile: its texts by field, a text that fits each, and the app ids where they are all literal."""

    profile: str
    place: Path
    fields: dict[str, list[str]]
    samples: dict[str, str]
    apps: frozenset[str] | None


def judge(desk: Desk, present: Mapping[str, frozenset[str]] | None = None) -> list[Problem]:
    """Everything that is worth knowing about a desk, in the order of its files. `present` are the controls, by the
    kernel's names, of the surfaces that are plugged in."""
    return _Judge(desk, present or {}).findings()


class _Judge:
    def __init__(self, desk: Desk, present: Mapping[str, frozenset[str]]) -> None:
        self._desk = desk
        self._present = present
        self._plan = desk.plan
        self._levels: dict[str, Level] = {}
        self._counts: dict[str, int] = {}
        for profile in desk.plan.profiles.values():
            for level in (*profile.levels, *(one for layer in profile.layers.values() for one in layer.levels)):
                self._levels[level.name] = level
        # All that is bound, by level; and of that what can be more than one thing, turns a layer on, or pauses.
        self._bound: dict[str, list[tuple[Cell, str, Binding]]] = {}
        self._several: list[Cell] = []
        self._openers: dict[str, list[tuple[Cell, str, Layer]]] = {}
        self._pausing: set[str] = set()
        self._look_through()

    def _look_through(self) -> None:
        telling: dict[int, list[Layer | Pause]] = {}  # by phrase; the same one stands in many places
        for name, level in self._levels.items():
            bound = self._bound[name] = []
            for cells in level.controls.values():
                for cell in cells:
                    before = len(bound)
                    for gesture, binding in cell.gestures():
                        bound.append((cell, gesture, binding))
                        for phrase in (binding.phrase, *binding.others):
                            steps = telling.get(id(phrase))
                            if steps is None:
                                steps = [step for step in phrase.steps if isinstance(step, Layer | Pause)]
                                telling[id(phrase)] = steps
                            for step in steps:
                                if isinstance(step, Layer):
                                    self._openers.setdefault(step.name, []).append((cell, gesture, step))
                                else:
                                    self._pausing.add(cell.address)
                    if len(bound) - before > 1:
                        self._several.append(cell)

    def findings(self) -> list[Problem]:
        sources = self._desk.sources
        before = len(sources.problems)
        if not self._plan.surfaces:
            self._note(
                "empty desks", (), "this desk has no surface, so nothing can happen", "warning", "a [surface.NAME]"
            )
        named = self._profiles()
        self._ambiguous()
        self._layers()
        self._no_way_back(named)
        self._pause_hidden()
        self._chords()
        self._repeated_below()
        self._alike()
        self._press_and_more()
        self._macros()
        self._unused()
        self._described()
        self._listed()
        self._expected()
        found = sorted(set(sources.problems[before:]))
        del sources.problems[before:]
        more = {sort: count - _MOST_OF_A_SORT for sort, count in self._counts.items() if count > _MOST_OF_A_SORT}
        main = str(sources.files[0].path) if sources.files else str(sources.folder)
        found += [Problem(main, 0, 0, f"{count} more: {sort}", severity="hint") for sort, count in more.items()]
        return found

    def _note(
        self, sort: str, path: Path, message: str, severity: str = "hint", expected: str | None = None, key: bool = True
    ) -> None:
        """A finding, unless there are too many of its sort already."""
        self._counts[sort] = self._counts.get(sort, 0) + 1
        if self._counts[sort] <= _MOST_OF_A_SORT:
            self._desk.sources.add(path, message, at_key=key, severity=severity, expected=expected)

    def _enough(self, sort: str) -> bool:
        """Counts a finding of which there are so many that nothing need be said of it."""
        if self._counts.get(sort, 0) < _MOST_OF_A_SORT:
            return False
        self._counts[sort] += 1
        return True

    def _place(self, cell: Cell, gesture: str) -> Path:
        return self._desk.places.get((cell.profile, cell.address, gesture), ("profile", cell.profile))

    def _place_of(self, cells: Iterable[Cell]) -> Path:
        """Where the first binding of a control's cells stands."""
        cells = list(cells)
        bound = (self._place(cell, gesture) for cell in cells for gesture, _ in cell.gestures())
        return next(bound, ("profile", cells[0].profile))

    def _steps(self) -> Iterator[tuple[Path, Said]]:
        """Every step that could matter beyond the keys that it sends."""
        for path, phrase in self._desk.phrases:
            for step in phrase.steps:
                if not isinstance(step, Keys):
                    yield path, step

    # --- Profiles ---

    def _profiles(self) -> dict[str, Path]:
        """Notes profiles that nothing brings; returns those that a phrase names, with the place of one of them."""
        named: dict[str, Path] = {}
        all_reached = False
        for path, step in self._steps():
            if isinstance(step, Profile):
                all_reached = all_reached or step.name in ("next", "previous")
                named.setdefault(step.name, path)
        table = self._desk.sources.data.get("profile", {})
        extended = {entry.get("extends") for entry in table.values()}
        for profile in self._plan.profiles.values():
            name = profile.name
            if name == BASE or profile.conditions or name in named or all_reached:
                continue
            if name not in extended:
                self._note(
                    "profiles that never come", ("profile", name),
                    f"nothing ever puts `{name}` in force: it has no `when`, and no phrase names it", "warning",
                    f"a `when`, or a binding with `profile {name}`",
                )  # fmt: skip
                continue
            users = [one for one in self._plan.profiles.values() if one is not profile and self._uses(one, name)]
            for control, cells in self._levels[name].controls.items():
                if users and all(self._above(user, name, control) for user in users):
                    self._note(
                        "bindings that every profile hides", self._place_of(cells),
                        f"never fires: every profile that extends `{name}` binds `{_own(control)}` itself", "warning",
                    )  # fmt: skip
        return named

    @staticmethod
    def _uses(profile: Profiled, name: str) -> bool:
        return any(level.name == name for level in profile.levels)

    @staticmethod
    def _above(profile: Profiled, name: str, control: str) -> bool:
        """Whether a level of the profile above `name` owns the control."""
        names = [level.name for level in profile.levels]
        return any(control in level.controls for level in profile.levels[names.index(name) + 1 :])

    def _ambiguous(self) -> None:
        whens = list(self._whens())
        for number, one in enumerate(whens):
            for first in whens[:number]:
                if one.apps is not None and first.apps is not None and one.apps.isdisjoint(first.apps):
                    continue
                if one.profile == first.profile or len(one.fields) != len(first.fields):
                    continue
                focus = _common(one, first)
                if focus is not None:
                    self._ambiguous_pair(first, one, focus)

    def _ambiguous_pair(self, first: _When, one: _When, focus: Focus) -> None:
        profiles = self._plan.profiles
        if profiles[one.profile].fits(focus) != profiles[first.profile].fits(focus):
            return
        if one.fields == first.fields:
            self._note(
                "profiles with the same `when`", one.place,
                f"`{one.profile}` never comes by itself: `{first.profile}` has the same `when` and stands first", "warning",
            )  # fmt: skip
            return
        shown = ", ".join(f'{field} "{text}"' for field in FOCUS_FIELDS if (text := getattr(focus, field)))
        self._note(
            "profiles that fit the same window", one.place,
            f"`{one.profile}` and `{first.profile}` fit a window such as {shown} equally well; `{first.profile}` comes, "
            "for it stands first", "warning", "one more condition in the one that should come",
        )  # fmt: skip

    def _whens(self) -> Iterator[_When]:
        """Every `when` of which a window that fits can be made up."""
        for name, entry in self._desk.sources.data.get("profile", {}).items():
            when = entry.get("when")
            for number, one in enumerate(when if isinstance(when, list) else [when] if when else []):
                place: Path = ("profile", name, "when", number) if isinstance(when, list) else ("profile", name, "when")
                fields = {field: texts if isinstance(texts, list) else [texts] for field, texts in one.items()}
                samples = {field: next(filter(None, map(sample_of, texts)), "") for field, texts in fields.items()}
                apps = fields.get("app")
                literal = apps is not None and not any("*" in text or "?" in text or text[:1] == "~" for text in apps)
                if all(samples.values()):
                    literals = frozenset(text.casefold() for text in apps) if apps and literal else None
                    yield _When(name, place, fields, samples, literals)

    def _no_way_back(self, named: dict[str, Path]) -> None:
        for name, path in named.items():
            profile = self._plan.profiles.get(name)
            if profile is None:
                continue
            steps = (step for cell in stack_of(self._plan, profile.name).table().values() for step in _all_steps(cell))
            if not any(isinstance(step, Profile) and step.name != name for step in steps):
                self._note(
                    "profiles without a way back", path,
                    f"nothing in `{name}` leads to another profile again, also not to what the focus asks for", "warning",
                    "a binding with `profile auto` in it or in base", key=False,
                )  # fmt: skip

    def _pause_hidden(self) -> None:
        """Profiles that hide what pauses Fenko below them, and have nothing that does."""
        for profile in self._plan.profiles.values():
            below = (level.cell(address) for level in profile.levels for address in self._pausing)
            lost = [cell for cell in below if cell is not None and _pauses(cell)]
            in_force = map(stack_of(self._plan, profile.name).cell, self._pausing)
            if not lost or any(cell is not None and _pauses(cell) for cell in in_force):
                continue
            control = control_of(lost[0].address)
            owner = next(level for level in reversed(profile.levels) if control in level.controls)
            if owner.name != profile.name:
                continue  # said where it is hidden
            self._note(
                "profiles that cannot pause", self._place_of(owner.controls[control]),
                f"hides `pause` of `{lost[0].profile}`: in `{profile.name}` nothing stops Fenko any more", "warning",
            )  # fmt: skip

    # --- Layers ---

    def _layers(self) -> None:
        on = self._openers
        own = {
            profile.name: {
                level.name
                for levels in (profile.levels, *(layer.levels for layer in profile.layers.values()))
                for level in levels
            }
            for profile in self._plan.profiles.values()
        }
        for profile in self._plan.profiles.values():
            for name, layer in profile.layers.items():
                openers = [one for one in on.get(name, []) if one[0].profile in own[profile.name]]
                mine = f"{profile.name}/{name}"
                # Who inherits a layer may be who turns it on.
                users = [names for names in own.values() if mine in names]
                used = any(one[0].profile in names for names in users for one in on.get(name, []))
                if mine in self._levels and not used and not layer.held:
                    self._note(
                        "layers that are never on", ("profile", profile.name, "layer", name),
                        f"nothing turns the layer `{name}` on", "warning",
                        f"`while = …`, or a binding with `layer {name}`",
                    )  # fmt: skip
                self._held_by_its_own(layer.levels, openers, layer.held)
                if any(step.mode == "locked" for _, _, step in openers):
                    self._way_out(profile, name, openers)

    def _held_by_its_own(
        self, levels: Iterable[Level], openers: list[tuple[Cell, str, Layer]], held: tuple[str, ...]
    ) -> None:
        addresses = {cell.address for cell, _, _ in openers}
        if len(addresses) != 1 or held or any(step.mode for _, _, step in openers):
            return
        (address,) = addresses
        for level in levels:
            for cell, gesture, binding in self._bound[level.name]:
                if cell.address == address and binding.phrase.steps != (Nothing(),):
                    self._note(
                        "bindings on what holds their layer", self._place(cell, gesture),
                        f"never fires: `{_own(address)}` is held as long as this layer is on", "warning",
                    )  # fmt: skip

    def _way_out(self, profile: Profiled, name: str, openers: list[tuple[Cell, str, Layer]]) -> None:
        stack = stack_of(self._plan, profile.name, name)
        for step in (step for cell in stack.table().values() for step in _all_steps(cell)):
            if (
                isinstance(step, Pause)
                or (isinstance(step, Profile) and step.name != profile.name)
                or (isinstance(step, Layer) and step.name == name and step.mode == "locked")
            ):
                return
        cell, gesture, _ = next(one for one in openers if one[2].mode == "locked")
        self._note(
            "layers without a way out", self._place(cell, gesture),
            f"nothing lifts the layer `{name}` again: while it is on, no binding says `layer {name} locked`, "
            "`profile auto` or `pause`", "warning",
        )  # fmt: skip

    # --- Bindings ---

    def _chords(self) -> None:
        for level in self._levels.values():
            for control, cells in level.controls.items():
                for cell in cells if "+" in control else ():
                    why = self._impossible(cell)
                    if why:
                        self._note("impossible chords", self._place_of([cell]), f"never fires: {why}", "warning")

    def _impossible(self, chord: Cell) -> str:
        for member in chord.members:
            surface, _, rest = member.partition(".")
            control, _, direction = rest.partition(".")
            shape = self._plan.surfaces[surface].shape(control) or BUTTON
            for ends in shape.axes.values():
                opposite = next((end for end in ends if end and end != direction), None) if direction in ends else None
                if opposite and f"{surface}.{control}.{opposite}" in chord.members:
                    return f"`{control}` cannot be pushed {direction} and {opposite} at once"
            for diagonal, parts in shape.diagonals.items():
                if direction == diagonal and any(f"{surface}.{control}.{part}" in chord.members for part in parts):
                    return f"`{control}.{diagonal}` takes the place of the directions beside it"
            if control.endswith("-touch"):
                touched = f"{surface}.{control.removesuffix('-touch')}"
                if {touched, f"{touched}-press"} & set(chord.members):
                    return f"`{control}` is silent while the control itself is pressed"
        return ""

    def _repeated_below(self) -> None:
        """What a level says again that lies under it anyway."""
        seen: set[tuple[str, str]] = set()
        for profile in self._plan.profiles.values():
            below: dict[str, tuple[Cell, ...]] = {}
            for level in profile.levels:
                for control, cells in level.controls.items():
                    before = below.get(control)
                    if before is not None and (level.name, control) not in seen and _same(before, cells):
                        seen.add((level.name, control))
                        self._note(
                            "bindings that say what lies below anyway", self._place_of(cells),
                            f"says the same as `{before[0].profile}`, which lies under it",
                        )  # fmt: skip
                below.update(level.controls)

    def _alike(self) -> None:
        """Two controls of one surface that do the same in one level."""
        sort = "two controls that do the same"
        for bound in self._bound.values():
            first: dict[tuple[str, Phrase], Cell] = {}
            for cell, gesture, binding in bound:
                if binding.others:
                    continue
                surface = cell.address.partition(".")[0]
                other = first.setdefault((surface, binding.phrase), cell)
                if other is cell or other.address == cell.address:
                    continue
                if any(isinstance(step, Keys | Tap) for step in binding.phrase.steps) and not self._enough(sort):
                    self._note(
                        sort, self._place(cell, gesture),
                        f"does the same as `{_own(other.address)}`: {binding.words}",
                    )  # fmt: skip

    def _press_and_more(self) -> None:
        for cell in self._several:
            if cell.press is None or cell.press.phrase.steps == (Nothing(),):
                continue
            others = [gesture for gesture, _ in cell.gestures() if gesture in ("tap", "double", "triple")]
            if others:
                names = " and every ".join(f"`{gesture}`" for gesture in others)
                self._note(
                    "presses that act before another gesture", self._place(cell, "press"),
                    f"`press` acts at once, so it also comes before every {names} of `{_own(cell.address)}`",
                    expected="`tap` instead of `press`, if it should be one or the other",
                )  # fmt: skip

    def _macros(self) -> None:
        for path, phrase in self._desk.phrases:
            if len(phrase.steps) == 1 and not isinstance(phrase.steps[0], Lift):
                continue
            down: set[str] = set()
            for step in phrase.steps:
                if isinstance(step, Press):
                    down |= {*step.keys}
                elif isinstance(step, Lift):
                    missing = [key for key in step.keys if key not in down]
                    if missing:
                        self._note(
                            "lifts of what is not pressed", path, f"`lift {'+'.join(missing)}` lifts nothing: this "
                            "action has not pressed it", "warning", key=False,
                        )  # fmt: skip
                    down -= {*step.keys}

    # --- What nobody uses ---

    def _unused(self) -> None:
        bound = {control for level in self._levels.values() for control in level.controls}
        bound |= {cell.rpartition(".")[0] if cell.count(".") > 1 else cell for cell in self._plan.watched}
        for name in self._plan.surfaces:
            mine = [control.partition(".")[2] for control in bound if control.startswith(f"{name}.")]
            if not mine:
                self._note("surfaces without a binding", ("surface", name), f"nothing is bound on `{name}`")
                continue
            used = {part for control in mine for part in control.replace(".", "+").split("+")}
            used |= {burst[0] for part in used if (burst := burst_of(part))}
            entry = self._desk.sources.data["surface"][name]
            for kernel, own in entry.get("names", {}).items():
                if own not in used:
                    self._note(
                        "names that no binding uses", ("surface", name, "names", kernel),
                        f"nothing is bound on `{own}`; `{kernel}` has a name and no use",
                    )  # fmt: skip
        groups: dict[str, list[tuple[Cell, str]]] = {}
        for level in self._levels.values():
            for cell, gesture, binding in self._bound[level.name]:
                if binding.group is not None:
                    groups.setdefault(binding.group, []).append((cell, gesture))
        for group, members in groups.items():
            if len(members) == 1:
                self._note(
                    "groups of one", (*self._place(*members[0]), "group"),
                    f"`{group}` has no other binding, so nothing lifts what this one toggles",
                )  # fmt: skip

    def _described(self) -> None:
        """Controls that the thing does not have, by itself or by its description."""
        for name, controls in self._present.items():
            self._lacks(name, controls, "the device that is plugged in")
        catalogue = Catalogue.usual(self._desk.folder)
        for name, links in self._desk.links.items():
            if links.description is None or name in self._present:
                continue
            try:
                description = catalogue.get(links.description)
            except DeskError:
                continue
            if description is None or not description.spots:
                continue
            has = frozenset(spot.control for spot in description.spots)
            self._lacks(name, has, f"the description `{links.description}`")

    def _lacks(self, name: str, has: frozenset[str], says: str) -> None:
        """Notes each control that is bound on a surface of which only these, by the kernel's names, are there."""
        surface = self._plan.surfaces[name]
        for level in self._levels.values():
            for control, cells in level.controls.items():
                if not control.startswith(f"{name}."):
                    continue
                for part in (cell for one in cells for cell in (one.members or (one.address,))):
                    own = part.partition(".")[2].partition(".")[0]
                    kernel = surface.kernel_name(own) or own
                    burst = burst_of(kernel)
                    if kernel not in has and not own.endswith("-touch") and (burst is None or burst[0] not in has):
                        self._note(
                            "controls that the device does not have", self._place_of(cells),
                            f"never fires: {says} knows no `{own}`", "warning",
                        )  # fmt: skip
                        break

    # --- Programs ---

    def _listed(self) -> None:
        """What the shortcut list of the program in front makes of the keys that are held."""
        for profile in self._plan.profiles.values():
            shortcuts = list_of(self._desk, profile)
            if shortcuts is None:
                continue
            table = stack_of(self._plan, profile.name).table()
            single = [
                (cell.address, step.keys)
                for cell in table.values()
                for _, binding in cell.gestures()
                if len(binding.phrase.steps) == 1 and isinstance(step := binding.phrase.steps[0], Keys)
            ]
            for cell in table.values():
                for gesture, binding in cell.gestures():
                    if gesture in ("press", "hold"):
                        self._held(shortcuts, cell, gesture, binding, single)

    def _held(
        self,
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
                self._note(
                    "held keys that switch to and fro", self._place(cell, gesture),
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
                turned.append(f"`{_own(other)}` is then {command.keys} ({command.command})")
        if turned:
            shown = ", ".join(turned[:3]) + (f", and {len(turned) - 3} more" if len(turned) > 3 else "")
            self._note(
                "held modifiers that make other shortcuts", self._place(cell, gesture),
                f"while it holds {'+'.join(modifiers)}, other controls mean something else to the program: {shown}",
            )  # fmt: skip

    def _expected(self) -> None:
        for expectation in self._desk.expectations:
            for setting, instead in expectation.failures(self._plan):
                self._desk.sources.add(
                    (*expectation.path, setting), f"{expectation.title}: {instead}", severity="error"
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


def _all_steps(cell: Cell) -> Iterator[Said]:
    for _, binding in cell.gestures():
        for phrase in binding.phrases:
            yield from phrase.steps


def _pauses(cell: Cell) -> bool:
    return any(isinstance(step, Pause) for step in _all_steps(cell))


def _own(address: str) -> str:
    """A cell without its surface."""
    return address.partition(".")[2]


def _same(one: tuple[Cell, ...], other: tuple[Cell, ...]) -> bool:
    """Whether two levels bind a control alike, also in label and looks."""
    return [(cell.address, cell.timing, list(cell.gestures())) for cell in one] == [
        (cell.address, cell.timing, list(cell.gestures())) for cell in other
    ]


def _common(one: _When, other: _When) -> Focus | None:
    """A window that may fit both; None where one field clearly tells them apart."""
    found: dict[str, str] = {}
    for field in {**one.fields, **other.fields}:
        mine, theirs = one.samples.get(field), other.samples.get(field)
        if mine is None or theirs is None or mine == theirs:
            found[field] = mine or theirs or ""
        elif not any("*" in text or "?" in text for text in (*one.fields[field], *other.fields[field])):
            both = {text.casefold() for text in one.fields[field]} & {text.casefold() for text in other.fields[field]}
            if not both:
                return None
            found[field] = both.pop()
        else:
            found[field] = mine if len(mine) >= len(theirs) else theirs
    return Focus(**found)
