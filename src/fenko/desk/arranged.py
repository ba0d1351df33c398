"""Puts bindings of a profile on other controls of the same surface: which may go where, and how the files change.

Keys of the files are renamed and nothing else is touched, so comments stay with what they tell of. Expectations that press those controls
press where the bindings are then."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct

from fenko.core.controls import BUTTON
from fenko.core.descriptions import burst_of
from fenko.core.keys import MODIFIERS
from fenko.core.performing import Performance
from fenko.core.phrase import steps_of
from fenko.core.plan import Binding, Cell, Level, Profile, Surface
from fenko.core.steps import Hold, SwitchPause, UseLayer
from fenko.desk.editing import Edit, EditError, edit_of
from fenko.desk.load import Desk, load_desk
from fenko.desk.locate import Extent, KeyPath, keys, line_and_column
from fenko.desk.sources import SourceFile
from fenko.desk.writing import key
from fenko.system.files import real_path
from fenko.system.journal import words_of

_OPPOSITES = (
    ("previous", "next"), ("back", "on"), ("back", "forward"), ("earlier", "later"), ("left", "right"), ("up", "down"), ("in", "out"),
    ("louder", "quieter"), ("undo", "redo"), ("first", "last"), ("beginning", "end"), ("copy", "paste"), ("cut", "paste"),
    ("brighter", "darker"), ("more", "less"), ("larger", "smaller"), ("open", "close"), ("start", "stop"), ("play", "stop"), ("on", "off"),
)  # fmt: skip
"""Words by which two bindings are known to belong together."""


class Movable(Struct):
    """Of a surface in a profile: the controls whose bindings may go elsewhere (each with what it does), those that are free for them,
    and those that have to stay, with why."""

    things: dict[str, str]
    free: list[str]
    stay: dict[str, str]
    deeds: dict[tuple[str, str], str]
    """What each does, by gesture and in words, and where that is now: it may have been elsewhere."""


def movable(desk: Desk, profile: str, surface: str, controls: Iterable[str], keep: Iterable[str] = ()) -> Movable:
    """What may move on a surface; `controls` are the buttons of it that have a place, by the desk's names, and `keep` those of which the
    person says that they stay."""
    plan, own = desk.plan, desk.plan.profiles[profile]
    kept = set(keep)
    level = own.levels[-1]
    below = _bound(own.levels[:-1])
    above = _bound(_others_above(desk, own))
    in_layers = _bound(one for layer in own.layers.values() for one in layer.levels)
    members = {member for one in _all_levels(desk, own) for member in one.chords}
    bursts = {of for one in _all_levels(desk, own) for of in one.bursts}
    found = Movable({}, [], {}, {})
    known = plan.surfaces[surface]
    for control in controls:
        address = f"{surface}.{control}"
        if known.shape(control) is not BUTTON:
            continue
        cells = level.controls.get(address, ())
        bound = [binding for cell in cells for _, binding in cell.gestures()]
        why = ""
        if control in kept:
            why = "you keep it"
        elif address in plan.watched:
            why = "a layer asks for it"
        elif address in members:
            why = "it belongs to several at once"
        elif address in bursts or burst_of(known.kernel_name(control) or control):
            why = "it sends its code several times"
        elif address in below and bound:
            why = "it does something else in profiles beneath"
        elif address in above:
            why = "another profile has something of its own there"
        elif any(_is_held_with_others(one) for one in bound):
            why = "it is held while others are pressed"
        elif bound and not _in_files(desk, profile, surface, cells):
            why = "it is not written where it could be changed"
        if bound and why:
            found.stay[control] = why
        elif bound:
            found.things[control] = " / ".join(one.title for one in bound)
            for cell in cells:
                for gesture, one in cell.gestures():
                    found.deeds.setdefault((gesture, words_of(one)), control)
        elif not why and not cells and address not in below | in_layers and not _means_something(known, control):
            found.free.append(control)
    for address, cells in level.controls.items():
        name, _, control = address.partition(".")
        if (
            name != surface
            or control in found.things
            or control in found.stay
            or not any(any(c.gestures()) for c in cells)
        ):
            continue
        if "+" in control:
            found.stay[control] = "it is several at once"
        elif burst_of(known.kernel_name(control) or control):
            found.stay[control] = "it is a key that sends its code several times"
        elif known.shape(control) is not BUTTON:
            found.stay[control] = "it is no button"
        else:
            found.stay[control] = "nobody has said where it is"
    return found


def _means_something(surface: Surface, control: str) -> bool:
    """Whether people use an unbound control for what it is, such as a digit."""
    return surface.kind in ("keyboard", "keypad", "mouse") and surface.passed_on(control) is not None


def _bound(levels: Iterable[Level]) -> set[str]:
    return {address for level in levels for address in level.controls}


def _others_above(desk: Desk, own: Profile) -> Iterator[Level]:
    """The levels of profiles that build on this one."""
    for other in desk.plan.profiles.values():
        if other.name != own.name and own.levels[-1] in other.levels:
            yield from other.levels[other.levels.index(own.levels[-1]) + 1 :]


def _all_levels(desk: Desk, own: Profile) -> list[Level]:
    layers = [level for layer in own.layers.values() for level in layer.levels]
    return [*own.levels, *layers, *_others_above(desk, own)]


def _is_held_with_others(binding: Binding) -> bool:
    for step in steps_of(binding.phrase):
        if isinstance(step, UseLayer | SwitchPause):
            return True
        if isinstance(step, Hold) and all(out == "pointer" or name in MODIFIERS for out, name in step.items):
            return True
    return False


def _path(desk: Desk, level: str, cell: Cell, gesture: str) -> KeyPath:
    return desk.places.get((level, cell.address, gesture), ())


def _in_files(desk: Desk, profile: str, surface: str, cells: Iterable[Cell]) -> bool:
    return all(
        _path(desk, cell.profile, cell, gesture)[:4] == ("profile", profile, "on", surface)
        for cell in cells
        for gesture, _ in cell.gestures()
    )


def belong_together(one: str, other: str) -> bool:
    """Whether two names tell of opposites: they differ in one word each, and these are known to be such."""
    words, others = (re.findall(r"\w+", text.lower()) for text in (one, other))
    mine = [word for word in words if word not in others]
    theirs = [word for word in others if word not in words]
    return len(mine) == len(theirs) == 1 and any({mine[0], theirs[0]} == {*pair} for pair in _OPPOSITES)


# --- The files ---


def rearranged(desk: Desk, profile: str, surface: str, moves: Mapping[str, str]) -> list[Edit]:
    """The edits that put the binding of each control in `moves` on the other one. Raises EditError; DeskError if the desk would have
    faults."""
    level = desk.plan.profiles[profile].levels[-1]
    renamed: dict[str, str] = {}
    for control, to in moves.items():
        for cell in level.controls[f"{surface}.{control}"]:
            for gesture, _ in cell.gestures():
                renamed[str(_path(desk, level.name, cell, gesture)[4])] = to
    texts: dict[Path, str] = {}
    changes: dict[Path, list[tuple[Extent, str]]] = {}
    where: KeyPath = ("profile", profile, "on", surface)
    for file in desk.sources.files:
        found = [
            (spot, key(renamed[str(path[4])])) for path, spot in keys(file.text) if path[:4] == where and len(path) == 5 and str(path[4]) in renamed
        ]  # fmt: skip
        if found:
            changes.setdefault(file.path, []).extend(found)
    for file, spot, text in _expectations(desk, level.name, surface, moves):
        changes.setdefault(file.path, []).append((spot, text))
    files = {file.path: file for file in desk.sources.files}
    edits = []
    for path, spots in changes.items():
        text = files[path].text
        for spot, new in sorted(spots, key=lambda one: -one[0].start):
            text = text[: spot.start] + new + text[spot.start + spot.length :]
        _compare(files[path], text, where, renamed)
        texts[real_path(path)] = text
        line, _ = line_and_column(text, min(spot.start for spot, _ in spots))
        edits.append(edit_of(files[path], text, line))
    load_desk(desk.sources.folder, texts)
    return edits


def failures(desk: Desk, edits: Iterable[Edit]) -> list[str]:
    """What the desk would expect in vain with these edits."""
    texts = {edit.path: edit.after.decode("utf-8-sig") for edit in edits}
    new = load_desk(desk.sources.folder, texts)
    return [
        f"{one.title}: expected {expected}, got {got}"
        for one in new.expectations
        for _, expected, got in one.failures(new.plan)
    ]


def _compare(file: SourceFile, text: str, where: KeyPath, renamed: Mapping[str, str]) -> None:
    """The text says what it said before, with other names for some controls."""
    wanted = tomllib.loads(file.text)
    table: Any = wanted
    for part in where[:-1]:
        table = table.get(part, {}) if isinstance(table, dict) else {}
    if where[-1] in table:
        table[where[-1]] = {renamed.get(name, name): value for name, value in table[where[-1]].items()}
    try:
        found = tomllib.loads(text)
    except tomllib.TOMLDecodeError:
        found = {}
    for data in (wanted, found):
        for one in data.get("expect", []):
            one.pop("do", None)
    if found != wanted:
        raise EditError(f"{file.path} is written in a way that Fenko cannot change; nothing was written")


def _expectations(
    desk: Desk, level: str, surface: str, moves: Mapping[str, str]
) -> Iterator[tuple[SourceFile, Extent, str]]:
    """The steps of expectations that press what has moved: the file, where the step stands, and what it says then."""
    for one in desk.expectations:
        hands = Performance(desk.plan)
        held: set[str] = set()
        for number, step in enumerate(one.hand_steps):
            name, _, control = step.control.partition(".")
            if name == surface and control in moves:
                cell = hands.engine.in_force(step.control)
                meant = cell is not None and cell.profile == level
                if step.word == "release":
                    meant = step.control in held
                    held.discard(step.control)
                elif step.word in ("press", "hold") and meant:
                    held.add(step.control)
                if meant:
                    found = desk.sources.entry((*one.path, "do", number))
                    if found is None or not found[2]:
                        raise EditError(f"`{one.title}` cannot be changed with it; nothing was written")
                    file, path, _ = found
                    spot = file.places[path].value
                    old = file.text[spot.start : spot.start + spot.length]
                    new = re.sub(
                        rf"(?<![\w.-]){re.escape(step.control)}(?![\w.+-])", f"{surface}.{moves[control]}", old
                    )
                    yield file, spot, new
            hands.do(step)
