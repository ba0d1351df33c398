"""Reads takes: recorded passes of control and focus changes, one JSON object a line."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeGuard

import msgspec
from msgspec import Struct

from fenko.core.axes import Detents
from fenko.core.changes import FOCUS, KEYBOARD, MACHINES, PLUG, RUNNING, UNPLUG, Change
from fenko.core.circumstances import FOCUS_FIELDS, Focus
from fenko.core.controls import BUTTON, KINDS, MOTION, Shape, inputs_of
from fenko.core.inputs import Raw
from fenko.core.keys import MODIFIERS
from fenko.core.plan import Surface
from fenko.core.words import nearest, reason
from fenko.system.files import open_file

VERSION = 2
"""Of what is recorded now. Version 1 had shares in place of what devices say of an axis; its takes still play."""
_VERSIONS = (1, 2)
_EVENTS = ("surface", "focus", "keyboard", "unplug", "plug", "running", "machine")
_HEAD = ("take", "name", "surfaces", "note")
_LINES = {"surface": ("surface", "control", "value", "raw", "range")} | {event: (event,) for event in _EVENTS[1:]}
"""What may stand in the first line, and in each other one besides its time."""


class TakeError(Exception):
    """A take that cannot be played. The message names the file and the line."""


class Take(Struct, frozen=True):
    """A whole take: its name, the surfaces that it was recorded from, and its changes in order of time."""

    name: str
    surfaces: dict[str, str]
    changes: list[Change]


_Check = Callable[[Any], str | None]


_MOST_RAW = 1 << 33
_LONGEST = 366 * 24 * 3600.0  # s


class _Lines:
    """Reads the lines of one take against the surfaces of a desk."""

    def __init__(self, path: Path, surfaces: dict[str, Surface]) -> None:
        self.path = path
        self.surfaces = surfaces
        self.number = 0
        self.version = VERSION
        self.last = 0.0
        self._inputs: dict[tuple[str, str], tuple[str, bool, _Check]] = {}

    def error(self, message: str, hint: str | None = None) -> TakeError:
        return TakeError(f"{self.path}:{self.number}: {message}" + (f"; did you mean `{hint}`?" if hint else ""))

    def decode(self, line: bytes) -> dict[str, Any]:
        try:
            entry = msgspec.json.decode(line)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as why:
            raise self.error(f"this line is not whole JSON ({why}); was the take cut off here?") from None
        if not isinstance(entry, dict):
            raise self.error("this line is not a JSON object")
        return entry

    def head(self, entry: dict[str, Any]) -> tuple[str, dict[str, str]]:
        if "take" not in entry:
            raise self.error('a take begins with a line such as {"take": 1, "name": "…", "surfaces": {…}}')
        if entry["take"] not in _VERSIONS or isinstance(entry["take"], bool):
            known = " and ".join(map(str, _VERSIONS))
            raise self.error(f"this is take format {entry['take']}; this Fenko reads formats {known}")
        self.version = entry["take"]
        self.known(entry, _HEAD)
        surfaces = entry.get("surfaces", {})
        if not isinstance(surfaces, dict) or not all(isinstance(kind, str) for kind in surfaces.values()):
            raise self.error("`surfaces` names each surface and its kind")
        for surface, kind in surfaces.items():
            self.surface(surface)
            if kind not in KINDS:
                raise self.error(f"there is no kind of surface `{kind}`", nearest(kind, KINDS))
        name = entry.get("name", "")
        return name if isinstance(name, str) else str(name), surfaces

    def known(self, entry: dict[str, Any], names: tuple[str, ...]) -> None:
        """Refuses what the format does not know; it was probably meant to do something."""
        for name in entry:
            if name not in names:
                raise self.error(f"`{name}` means nothing here; expected {', '.join(names)}", nearest(name, names))

    def surface(self, name: Any) -> Surface:
        surface = self.surfaces.get(name) if isinstance(name, str) else None
        if surface is None:
            raise self.error(f"the desk has no surface `{name}`", nearest(str(name), self.surfaces))
        return surface

    def change(self, entry: dict[str, Any]) -> Change:
        t = entry.get("t")
        if not _between(t, 0, _LONGEST):
            raise self.error("`t` is the time in seconds, 0 or more, and less than a year")
        if t < self.last:
            raise self.error(f"time runs backwards here: {t:g} s after {self.last:g} s")
        self.last = t = float(t)
        event = next((one for one in _EVENTS if one in entry), "")
        if event:
            self.known(entry, ("t", *_LINES[event]))
        if "surface" in entry:
            return (t, *self.control(entry))
        if FOCUS in entry:
            return (t, FOCUS, self.focus(entry[FOCUS]))
        if KEYBOARD in entry:
            held = entry[KEYBOARD]
            if not isinstance(held, list) or not all(key in MODIFIERS for key in held if isinstance(key, str)):
                raise self.error(f"`keyboard` is a list of modifiers: {', '.join(MODIFIERS)}")
            return (t, KEYBOARD, tuple(held))
        if RUNNING in entry:
            names = entry[RUNNING]
            if not isinstance(names, list) or not all(isinstance(name, str) for name in names):
                raise self.error("`running` is a list of the names of programs that run")
            return (t, RUNNING, tuple(names))
        if MACHINES in entry:
            states = entry[MACHINES]
            if not isinstance(states, list) or not all(isinstance(state, str) for state in states):
                raise self.error("`machine` is a list of machines with their states, such as `rail idle`")
            return (t, MACHINES, tuple(states))
        for event in (UNPLUG, PLUG):
            if event in entry:
                return (t, event, self.surface(entry[event]).name)
        raise self.error(f"this line tells of nothing; expected one of: {', '.join(_EVENTS)}")

    def focus(self, value: Any, owned: bool = True) -> Focus:
        if not isinstance(value, dict):
            raise self.error("`focus` is an object with app, title, program, path and arguments")
        texts = dict(value)
        owner = self.focus(texts.pop("owner"), False) if owned and "owner" in texts else None
        also = texts.pop("also", [])
        if not isinstance(also, list) or not all(isinstance(name, str) for name in also):
            raise self.error("the focus's `also` is a list of names")
        for key, text in texts.items():
            if key not in FOCUS_FIELDS:
                raise self.error(f"a focus has no `{key}`", nearest(key, FOCUS_FIELDS))
            if not isinstance(text, str):
                raise self.error(f"the focus's `{key}` is a text")
        return Focus(**texts, owner=owner, also=tuple(also))

    def control(self, entry: dict[str, Any]) -> tuple[str, Any]:
        try:
            address, is_axis, check = self._inputs[entry["surface"], entry["control"]]
        except (KeyError, TypeError):
            address, is_axis, check = self.look_up(entry)
        if "range" in entry and is_axis:
            return address, self.raw(entry)
        if "range" in entry or ("raw" in entry and self.version > 1):
            raise self.error("`raw` and `range` tell together what a device says of an axis")
        value = entry.get("value")
        wrong = check(value)
        if wrong is not None:
            raise self.error(f"{wrong}, not {msgspec.json.encode(value).decode()}")
        return address, value

    def raw(self, entry: dict[str, Any]) -> Raw:
        value, extent = entry.get("raw"), entry["range"]
        numbers = [value, *extent] if isinstance(extent, list) and len(extent) == 2 else []
        if not numbers or not all(type(number) is int and abs(number) < _MOST_RAW for number in numbers):
            raise self.error("`raw` is a whole number, and `range` the least and the most that it can be")
        if "value" in entry:
            raise self.error("`value` and `raw` are two ways to say the same; one is enough")
        return Raw(*numbers)

    def look_up(self, entry: dict[str, Any]) -> tuple[str, bool, _Check]:
        surface, named = self.surface(entry["surface"]), entry.get("control")
        if not isinstance(named, str):
            raise self.error("`control` names the control that changed")
        control, _, part = named.partition(".")
        kernel = surface.kernel_name(control)
        if kernel is None:
            raise self.error(f"a {surface.kind} has no control `{control}`", nearest(control, _known(surface)))
        rest = f".{part}" if part else ""
        shape = surface.shape(control) or BUTTON
        if f"{kernel}{rest}" not in inputs_of(kernel, shape):
            expected = ", ".join(f"`{control}{one[len(kernel) :]}`" for one in inputs_of(kernel, shape))
            raise self.error(f"`{named}` does not say which part of `{control}` changed: {expected}")
        is_axis = part in shape.axes and shape is not MOTION
        found = (f"{surface.name}.{surface.own_name(kernel)}{rest}", is_axis, _value_check(shape, part))
        self._inputs[entry["surface"], named] = found
        return found


def _known(surface: Surface) -> list[str]:
    return [*surface.names, *KINDS[surface.kind]]


def _value_check(shape: Shape, part: str) -> _Check:
    """What values an input of such a control can have; the check returns what is wrong, or None."""
    if shape is BUTTON or (part not in shape.axes and not shape.turns):
        return lambda value: None if value in (0, 1) and not isinstance(value, bool) else "a button is 0 or 1"
    if shape is MOTION or shape.turns:
        most = Detents.MOST_AT_ONCE
        what = "pixels" if shape is MOTION else "detents"
        return lambda value: None if _between(value, -most, most) else f"{what} go from -{most} to {most}"
    least = 0 if shape.axes[part][0] is None else -1
    return lambda value: None if _between(value, least, 1) else f"this axis goes from {least} to 1"


def _between(value: Any, least: float, most: float) -> TypeGuard[float]:
    return isinstance(value, int | float) and not isinstance(value, bool) and least <= value <= most


def read_take(path: Path, surfaces: dict[str, Surface], progress: Callable[[int], None] | None = None) -> Take:
    """The take at `path`, checked line by line against the desk's surfaces; raises TakeError.

    `progress` is told now and then how many bytes have been read since it was last told."""
    lines = _Lines(path, surfaces)
    changes: list[Change] = []
    head: tuple[str, dict[str, str]] | None = None
    told = read = 0
    try:
        with open_file(path) as file:
            for line in file:
                lines.number += 1
                read += len(line)
                if progress is not None and read - told > 200_000:
                    progress(read - told)
                    told = read
                if line.isspace():
                    continue
                entry = lines.decode(line)
                if head is None:
                    head = lines.head(entry)
                else:
                    changes.append(lines.change(entry))
    except OSError as why:
        raise TakeError(f"{path}: cannot be read: {reason(why)}") from None
    if head is None:
        raise TakeError(f"{path}: this file is empty; a take has at least its first line")
    return Take(*head, changes)
