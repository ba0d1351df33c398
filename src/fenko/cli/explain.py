"""`fenko explain`: what a control would do and why; what a setting of the desk file does."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click
from msgspec import Struct, structs

from fenko.cli.naming import meant
from fenko.cli.shared import (
    bold,
    desk_option,
    dim,
    fail_unknown,
    format_option,
    goes_with,
    open_desk,
    say,
    show_json,
    show_table,
)
from fenko.cli.timeline import describe
from fenko.core.changes import Effect
from fenko.core.delays import delays
from fenko.core.effects import effect_fields
from fenko.core.keys import MODIFIERS
from fenko.core.plan import Binding, Cell, Focus, Level, Profile, control_of
from fenko.core.script import Deed, Performance
from fenko.core.words import format_time
from fenko.desk.load import Desk


@click.command()
@click.argument("control", required=False, metavar="[CONTROL[.GESTURE]]")
@desk_option
@format_option("text", "json")
@click.option("--app", metavar="ID", default="", help="The program in front, as `fenko windows` prints it.")
@click.option("--title", metavar="TEXT", default="", help="With --app: the title of its window.")
@click.option("--profile", metavar="NAME", help="The profile in force, whatever is in front.")
@click.option("--layer", "layers", metavar="NAME", multiple=True, help="A layer that is on; several, the newest last.")
@click.option("--keyboard", metavar="shift+ctrl", default="", help="Modifiers held on the ordinary keyboard.")
@click.option("--setting", metavar="NAME", help="Tell what a setting of the desk file does instead.")
@click.option("--settings", "all_settings", is_flag=True, help="List every setting of the desk file instead.")
def command(
    control: str | None,
    desk_folder: Path | None,
    form: str,
    app: str,
    title: str,
    profile: str | None,
    layers: tuple[str, ...],
    keyboard: str,
    setting: str | None,
    all_settings: bool,
) -> None:
    """Tell what a control would do, and why: who owns it, what that hides, what it waits for, what is sent.

    CONTROL is SURFACE.CONTROL, such as pad.south, pad.stick-left.up or pad.north.hold; the control alone is enough where
    only one surface has a binding on such a one.
    """
    goes_with("--app", bool(app), title=title)
    if setting is not None or all_settings:
        _settings(setting, form)
        return
    if control is None:
        raise click.UsageError("name a control, or a setting with --setting")
    desk = open_desk(desk_folder)
    held = tuple(keyboard.split("+")) if keyboard else ()
    for modifier in held:
        if modifier not in MODIFIERS:
            fail_unknown(f"`{modifier}` is no modifier ({', '.join(MODIFIERS)})", modifier, MODIFIERS)
    scene = _Scene(desk, app, title, profile, layers, held)
    found = list(_explained(scene, control))
    if form == "json":
        show_json([structs.asdict(one) for one in found])
        return
    for number, one in enumerate(found):
        if number:
            say("")
        _show(one)


# --- What would happen ---


class _Scene:
    """The circumstances: what is in front, which layers are on, what is held on the keyboard."""

    def __init__(
        self, desk: Desk, app: str, title: str, profile: str | None, layers: tuple[str, ...], held: tuple[str, ...]
    ) -> None:
        self.desk = desk
        self._focus = Deed("front", focus=Focus(app, title))
        self._held = Deed("keyboard", modifiers=held)
        self._profile = profile
        self._layers = layers
        if profile is not None and profile not in desk.plan.profiles:
            fail_unknown(f"the desk has no profile `{profile}`", profile, desk.plan.profiles)
        engine = self.performance().engine
        self.profile: Profile = engine.profile
        self.on = engine.layers
        self.stack = engine.stack
        for layer in layers:
            if layer not in self.profile.layers:
                fail_unknown(f"the profile {self.profile.name} has no layer `{layer}`", layer, self.profile.layers)

    def performance(self) -> Performance:
        """A fresh engine in these circumstances."""
        performance = Performance(self.desk.plan)
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


def _explained(scene: _Scene, text: str) -> Iterator[Explained]:
    cells, gesture = meant(scene.desk, text)
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
    address = cells[0] if len(cells) == 1 else cells[0].rpartition(".")[0]
    if owner is not None:
        others = ", ".join(f"{_shown(cell.address)} {one}" for cell, one in bound)
        does = f"nothing: {owner.name} owns the control" + (
            f", and binds {others}" if others else " and binds nothing here"
        )
        yield Explained(address, gesture or "", scene.words, does, owner.name, "", list(_hidden(scene, cells, owner)), [], [], [])  # fmt: skip
        return
    surface, _, control = address.partition(".")
    key = scene.desk.plan.surfaces[surface].passed_on(control)
    does = f"nothing is bound; it is handed on as {key}" if key else "nothing is bound, and nothing is sent"
    yield Explained(address, gesture or "", scene.words, does, "", "", [], _elsewhere(scene, cells), [], [])


def _owns(level: Level, address: str) -> bool:
    return control_of(address) in level.controls


def _gesture(scene: _Scene, cell: Cell, gesture: str) -> Explained:
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
    )


def _is_turned(scene: _Scene, cell: Cell) -> bool:
    surface, control, *_ = cell.address.split(".")
    shape = scene.desk.plan.surfaces[surface].shape(control)
    return shape is not None and shape.turns is not None


def _words(binding: Binding) -> str:
    way = " (any of them but the last one)" if binding.at_random else " (in turn)" if binding.others else ""
    label = f"{binding.label} · " if binding.label else ""
    return f"{label}{binding.words}{way}"


def _hidden(scene: _Scene, cells: list[str], owner: Level) -> Iterator[dict[str, str]]:
    """What lower levels say of the same control, and what is therefore not in force."""
    levels = scene.levels
    for level in levels[levels.index(owner) + 1 :]:
        yield from _says(scene.desk, level, cells)


def _says(desk: Desk, level: Level, cells: list[str]) -> Iterator[dict[str, str]]:
    for cell in filter(None, map(level.cell, cells)):
        for gesture, binding in cell.gestures():
            where = desk.where(cell, gesture)
            yield {"level": level.name, "gesture": gesture, "does": _words(binding), "where": where}


def _otherwise(scene: _Scene, cells: list[str]) -> list[dict[str, str]]:
    """What layers of the profile that are not on would make of it."""
    layers = [layer for name, layer in scene.profile.layers.items() if name not in scene.on]
    return [one for layer in layers for level in layer.levels for one in _says(scene.desk, level, cells)]


def _elsewhere(scene: _Scene, cells: list[str]) -> list[dict[str, str]]:
    """What the layers and other profiles make of a control on which nothing is bound now."""
    levels = {level.name: level for profile in scene.desk.plan.profiles.values() for level in profile.levels}
    return _otherwise(scene, cells) + [one for level in levels.values() for one in _says(scene.desk, level, cells)]


def _sent(scene: _Scene, cell: Cell, gesture: str, turns: bool) -> Iterator[dict[str, Any]]:
    """What this gesture sends, in its phases, with times in seconds from the beginning of the phase."""
    performance = scene.performance()
    members = cell.members or (cell.address,)
    if turns:
        phases = [("one detent", Deed("turn", members, cell.address))]
        if gesture == "fast":
            phases = [("two detents in quick succession", Deed("turn", members, cell.address, 2, True))]
    elif gesture in ("press", "release"):
        phases = [("the press", Deed("press", members, cell.address)), ("the release", Deed("release", members, cell.address))]  # fmt: skip
    elif gesture == "hold":
        phases = [("the hold", Deed("hold", members, cell.address)), ("the release", Deed("release", members, cell.address))]  # fmt: skip
    else:
        phases = [(f"the {gesture}", Deed(gesture, members, cell.address))]
    for name, deed in phases:
        start, before = performance.t, len(performance.effects)
        performance.do(deed)
        for effect in performance.effects[before:]:
            yield {"phase": name, **effect_fields((effect[0] - start, *effect[1:]))}


def _shown(address: str) -> str:
    return address.partition(".")[2]


def _show(one: Explained) -> None:
    surface, _, control = one.control.partition(".")
    gesture = "" if one.gesture in ("", "turn") else f" {one.gesture}"
    say(f"{bold(f'{surface} {control}{gesture}')}  {dim(one.situation)}")
    _row("does", one.does)
    if one.where:
        _row("stands", f"{one.where}, {one.level}")
    for number, other in enumerate(one.hides):
        _row("" if number else "hides", f"{_in(other)}")
    for number, other in enumerate(one.otherwise):
        _row("" if number else "but", _in(other))
    if one.level and one.where:
        for number, line in enumerate(one.waits or ["for nothing"]):
            _row("" if number else "waits", line)
    phases = dict.fromkeys(entry["phase"] for entry in one.sends)
    for number, phase in enumerate(phases):
        moments: dict[float, list[Effect]] = {}
        for entry in one.sends:
            if entry["phase"] == phase:
                t, out, act, *values = (value for key, value in entry.items() if key != "phase")
                moments.setdefault(t, []).append((t, out, act, *values))
        shown = ", then ".join(
            (f"after {format_time(round(t, 4))} " if t > 0 else "") + describe(effects)
            for t, effects in moments.items()
        )
        _row("" if number else "sends", f"{phase}: {shown}")
    if one.where and not one.sends:
        _row("sends", "nothing")
    if one.note:
        _row("note", one.note)


def _in(other: dict[str, str]) -> str:
    gesture = "" if other["gesture"] == "press" else f"{other['gesture']}: "
    where = f" ({other['where']})" if other["where"] else ""
    return f"{gesture}{other['does']} in {other['level']}{where}"


def _row(title: str, text: str) -> None:
    say(f"  {dim(f'{title:<7}')} {text}")


# --- Settings ---


def _settings(name: str | None, form: str) -> None:
    from fenko.desk.settings import find_settings, settings

    found = settings() if name is None else find_settings(name)
    if not found:
        ends = [one.name.rpartition(".")[2] for one in settings()]
        fail_unknown(f"a desk file has no setting `{name}`", str(name), [*ends, *(one.name for one in settings())])
    if form == "json":
        show_json([structs.asdict(one) for one in found])
    elif name is None:
        show_table(("setting", "takes", "default"), [(one.name, one.takes, one.default) for one in found])
    else:
        alike: dict[tuple[str, str, str, str], list[str]] = {}
        for one in found:
            alike.setdefault((one.does, one.takes, one.range, one.default), []).append(one.name)
        for number, (rows, names) in enumerate(alike.items()):
            if number:
                say("")
            for one_name in names:
                say(bold(one_name))
            for title, text in zip(("does", "takes", "range", "default"), rows, strict=True):
                if text:
                    _row(title, text)
