"""What a control would do in given circumstances, and why: who owns it, what that hides, what it waits for, what is sent."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from msgspec import Struct

from fenko.core.circumstances import Focus
from fenko.core.conditioning import Shaping
from fenko.core.controls import MOTION, TOUCH_AREA, TOWARDS
from fenko.core.delays import delays
from fenko.core.drives import Drive
from fenko.core.effects import effect_fields
from fenko.core.performing import Performance
from fenko.core.plan import Binding, Cell, Level, Profile, control_of
from fenko.core.script import HandStep
from fenko.core.stack import stack_of
from fenko.core.steps import Follow, Move, Pass, Rate, Steer
from fenko.core.words import format_time
from fenko.desk.load import Desk
from fenko.desk.trust import risks_of


class UnknownName(ValueError):
    """A name that the desk does not have; `known` are those that it has."""

    def __init__(self, message: str, name: str, known: Iterable[str]) -> None:
        super().__init__(message)
        self.name = name
        self.known = list(known)


class Scene:
    """The circumstances: what is in front, which layers are on, what is held on the keyboard. Raises UnknownName."""

    def __init__(
        self,
        desk: Desk,
        focus: Focus,
        profile: str | None,
        layers: tuple[str, ...],
        held: tuple[str, ...],
        running: tuple[str, ...] = (),
    ) -> None:
        self.desk = desk
        self._running = tuple(HandStep("start", control=name) for name in running)
        self._focus = HandStep("front", focus=focus)
        self._held = HandStep("keyboard", modifiers=held)
        self._profile = profile
        self._layers = layers
        if profile is not None and profile not in desk.plan.profiles:
            raise UnknownName(f"the desk has no profile `{profile}`", profile, desk.plan.profiles)
        engine = self.performance().engine
        self.profile: Profile = engine.profile
        self.on = engine.layers
        self.stack = engine.stack
        for layer in layers:
            if layer not in self.profile.layers:
                raise UnknownName(f"the profile {self.profile.name} has no layer `{layer}`", layer, self.profile.layers)

    def performance(self) -> Performance:
        """A fresh engine in these circumstances."""
        performance = Performance(self.desk.plan)
        for started in self._running:
            performance.do(started)
        performance.do(self._focus)
        if self._profile is not None:
            performance.engine.use_profile(performance.t, self._profile)
        performance.do(self._held)
        for layer in self._layers:
            performance.engine.lock_layer(performance.t, layer)
        performance.effects.clear()
        return performance

    @property
    def levels(self) -> list[Level]:
        """All levels that are in force, the topmost first."""
        above = [level for name in self.on for level in self.profile.layers[name].levels]
        return [*self.profile.levels, *above][::-1]

    @property
    def words(self) -> str:
        """The circumstances in words."""
        focus = self._focus.focus
        title = f' "{focus.title}"' if focus.title else ""
        front = f"{focus.app}{title} in front" if focus.app else "nothing in particular in front"
        why = "" if self._profile else f" ({front})"
        layers = f", layer {' and '.join(self.on)} on" if self.on else ""
        return f"profile {self.profile.name}{why}{layers}"


class Explained(Struct, frozen=True):
    """One gesture of one cell: what it does, where that stands, what it hides, what it waits for, what it sends."""

    control: str
    gesture: str
    situation: str
    does: str
    level: str
    where: str
    hides: list[dict[str, str]]
    otherwise: list[dict[str, str]]
    waits: list[str]
    sends: list[dict[str, Any]]
    note: str = ""
    moves: list[dict[str, Any]] = []
    """Of what goes on: some positions of the control, and what comes of each."""
    asks: list[str] = []
    """What of it is done only when the person has agreed to it, in words."""
    lit: str = ""
    """Which lamp is on, and when; empty if none is."""


def explained(scene: Scene, cells: list[str], gesture: str | None = None) -> Iterator[Explained]:
    """What these cells of one control would do, and why: all their gestures, or one."""
    stack = scene.stack
    bound = [
        (cell, one) for address in cells if (cell := stack.cell(address)) is not None for one, _ in cell.gestures()
    ]
    chosen = [(cell, one) for cell, one in bound if gesture in (None, one)]
    if chosen:
        for cell, one in chosen:
            yield _gesture(scene, cell, one)
        return
    owner = next((level for level in scene.levels if any(_owns(level, address) for address in cells)), None)
    address = cells[0] if len(cells) == 1 else control_of(cells[0])
    if owner is not None:
        others = ", ".join(f"{_without_surface(cell.address)} {one}" for cell, one in bound)
        does = f"nothing: {owner.name} owns the control" + (
            f", and binds {others}" if others else " and binds nothing here"
        )
        yield Explained(address, gesture or "", scene.words, does, owner.name, "", list(_hidden(scene, cells, owner)), [], [], [])  # fmt: skip
        return
    surface, _, control = address.partition(".")
    known = scene.desk.plan.surfaces[surface]
    key = "it is" if known.passes and known.shape(control) is MOTION else known.passed_on(control)
    if surface in scene.profile.leaves:
        does = f"the program has it: {scene.profile.name} leaves {surface} to it"
        yield Explained(address, gesture or "", scene.words, does, "", "", [], _elsewhere(scene, cells), [], [])
        return
    does = f"nothing is bound; it is handed on as {key}" if key else "nothing is bound, and nothing is sent"
    yield Explained(address, gesture or "", scene.words, does, "", "", [], _elsewhere(scene, cells), [], [])


def _lit(cell: Cell, binding: Binding) -> str:
    """Which lamp is on by a binding, and when."""
    if binding.lit is None:
        return ""
    surface, _, own = control_of(cell.address).partition(".")
    colour = f" ({binding.colour})" if binding.colour else ""
    return f"{surface} {binding.lamp or own}{colour}: {binding.lit}"


def _owns(level: Level, address: str) -> bool:
    return control_of(address) in level.controls


def _gesture(scene: Scene, cell: Cell, gesture: str) -> Explained:
    desk = scene.desk
    binding: Binding = getattr(cell, gesture)
    owner = next(level for level in scene.levels if _owns(level, cell.address))
    turns = cell.address.rpartition(".")[2] in ("left", "right", "up", "down") and _is_turned(scene, cell)
    waits = [
        f"{format_time(delay.seconds)} after the {delay.moment}: {delay.reason}"
        for delay in delays(scene.stack, cell, desk.plan.timing)
        if delay.gesture == gesture
    ]
    if gesture == "tap" and not waits:
        waits = ["for the release, which has to come before the hold time"]
    return Explained(
        cell.address,
        "turn" if turns and gesture == "press" else gesture,
        scene.words,
        _words(binding),
        owner.name,
        desk.where(cell, gesture),
        list(_hidden(scene, [cell.address], owner)),
        _otherwise(scene, [cell.address]),
        waits,
        list(_sent(scene, cell, gesture, turns)),
        binding.note or "",
        list(_moved(scene, cell)) if gesture == "move" else [],
        asks=[what for phrase in binding.phrases for what in risks_of(phrase, desk.sources.data)],
        lit=_lit(cell, binding),
    )


_PLACES = (0.1, 0.25, 0.5, 0.75, 1.0)


def _moved(scene: Scene, cell: Cell) -> Iterator[dict[str, Any]]:
    """What comes of some positions of a control: where it is, that conditioned, and the speed, or the number, of it."""
    control = control_of(cell.address)
    surface, _, own = control.partition(".")
    known = scene.desk.plan.surfaces[surface]
    by = known.conditioning_of(own)
    (drive,) = [one for one in scene.stack.drives(control) if one.cell == cell]
    if known.shape(own) is TOUCH_AREA:
        assert isinstance(drive.step, Move)
        unit = "px" if drive.step.act == "move" else "lines"
        yield {"at": 1.0, "shown": 100.0, "made": 1.0, "comes to": f"{drive.step.speed:g} {unit} across its width"}
        return
    shaping = Shaping(by, drive.one_sided)
    for place in _PLACES if not isinstance(drive.step, Pass) else _PLACES[-1:]:
        made = shaping.one(place)
        yield {
            "at": place, "shown": round(by.shown_at(place), 3), "made": round(made, 4),
            "comes to": _comes_to(scene, drive, made),
        }  # fmt: skip


def _comes_to(scene: Scene, drive: Drive, made: float) -> str:
    values = scene.desk.plan.values
    match drive.step:
        case Move(act, speed):
            return f"{speed * made:.4g} {'px' if act == 'move' else 'lines'}/s"
        case Pass(_, factor):
            return f"{factor:g} × as far"
        case Rate(target, amount):
            value = values[target]
            return f"{value.number(amount, change=True) * made:+.4g}{value.unit}/s"
        case Steer(speed=speed):
            return f"{speed * made:+.4g} a minute"
        case Follow(target, low, high):
            value = values[target]
            share = made if drive.one_sided or drive.part in TOWARDS else (made + 1) / 2
            return f"{value.fitting(value.between(share, low, high)):g}{value.unit}"


def conditioned_words(scene: Scene, address: str) -> str:
    """How the positions of a cell's control are conditioned, in words; empty where nothing is done to them."""
    surface, _, own = control_of(address).partition(".")
    by = scene.desk.plan.surfaces[surface].conditioning_of(own)
    words = []
    if by.calibrates:
        words.append("calibrated")
    if by.dead_zone:
        words.append(f"dead zone {by.dead_zone:g}")
    if by.dead_axes:
        words.append(f"each axis {by.dead_axes:g}")
    if by.outer < 1:
        words.append(f"all the way at {by.outer:g}")
    if by.curve != "linear":
        words.append(f"curve {by.curve if isinstance(by.curve, str) else 'of points'}")
    if by.smooth:
        words.append(f"smoothed over {format_time(by.smooth)}")
    return ", ".join(words)


def _is_turned(scene: Scene, cell: Cell) -> bool:
    surface, control, *_ = cell.address.split(".")
    shape = scene.desk.plan.surfaces[surface].shape(control)
    return shape is not None and shape.turns is not None


def _words(binding: Binding) -> str:
    way = " (any of them but the last one)" if binding.at_random else " (in turn)" if binding.others else ""
    label = f"{binding.label} · " if binding.label else ""
    return f"{label}{binding.words}{way}"


def _hidden(scene: Scene, cells: list[str], owner: Level) -> Iterator[dict[str, str]]:
    """What lower levels say of the same control, and what is therefore not in force."""
    levels = scene.levels
    for level in levels[levels.index(owner) + 1 :]:
        yield from _says(scene.desk, level, cells)


def _says(desk: Desk, level: Level, cells: list[str]) -> Iterator[dict[str, str]]:
    for cell in filter(None, map(level.cell, cells)):
        for gesture, binding in cell.gestures():
            where = desk.where(cell, gesture)
            yield {"level": level.name, "gesture": gesture, "does": _words(binding), "where": where}


def _otherwise(scene: Scene, cells: list[str]) -> list[dict[str, str]]:
    """What layers of the profile that are not on would make of it."""
    layers = [layer for name, layer in scene.profile.layers.items() if name not in scene.on]
    return [one for layer in layers for level in layer.levels for one in _says(scene.desk, level, cells)]


def _elsewhere(scene: Scene, cells: list[str]) -> list[dict[str, str]]:
    """What the layers and other profiles make of a control on which nothing is bound now."""
    levels = scene.desk.plan.levels.values()
    return _otherwise(scene, cells) + [one for level in levels for one in _says(scene.desk, level, cells)]


def _sent(scene: Scene, cell: Cell, gesture: str, turns: bool) -> Iterator[dict[str, Any]]:
    """What this gesture sends, in its phases, with times in seconds from the beginning of the phase."""
    performance = scene.performance()
    members = cell.members or (cell.address,)
    if turns:
        phases = [("one detent", HandStep("turn", members, cell.address))]
        if gesture == "fast":
            phases = [("two detents in quick succession", HandStep("turn", members, cell.address, 2, True))]
    elif gesture == "move":
        return
    elif gesture in ("press", "release"):
        phases = [("the press", HandStep("press", members, cell.address)), ("the release", HandStep("release", members, cell.address))]  # fmt: skip
    elif gesture == "hold":
        phases = [("the hold", HandStep("hold", members, cell.address)), ("the release", HandStep("release", members, cell.address))]  # fmt: skip
    else:
        phases = [(f"the {gesture}", HandStep(gesture, members, cell.address))]
    for name, step in phases:
        start, before = performance.t, len(performance.effects)
        performance.do(step)
        for effect in performance.effects[before:]:
            yield {"phase": name, **effect_fields((effect[0] - start, *effect[1:]))}


def _without_surface(address: str) -> str:
    return address.partition(".")[2]


def all_delays(desk: Desk) -> list[dict[str, Any]]:
    """Each binding that waits, in the order of profiles; one that several profiles share, once."""
    plan = desk.plan
    found: dict[tuple[str, ...], dict[str, Any]] = {}
    for profile in plan.profiles.values():
        stacks = [stack_of(plan, profile.name), *(stack_of(plan, profile.name, layer) for layer in profile.layers)]
        for stack in stacks:
            for cell in stack.table().values():
                for delay in delays(stack, cell, plan.timing):
                    milliseconds = round(delay.seconds * 1000, 3)
                    found.setdefault(
                        (cell.profile, cell.address, delay.gesture, delay.reason, str(milliseconds)),
                        {
                            "level": cell.profile, "control": cell.address, "gesture": delay.gesture,
                            "ms": milliseconds, "after": delay.moment, "because": delay.reason,
                            "where": desk.where(cell, delay.gesture),
                        },
                    )  # fmt: skip
    return list(found.values())
