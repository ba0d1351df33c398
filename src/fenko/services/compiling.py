"""Compiles a desk into parts that another process can read fast, and assembles a desk from such parts."""

from __future__ import annotations

import os
import pickle
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from msgspec import Struct, structs

from fenko.core.plan import Level, Profile
from fenko.desk.compiled import Compiled, compiled, filled
from fenko.desk.editing import EditError, with_entries
from fenko.desk.load import load_desk
from fenko.desk.problems import DeskError
from fenko.desk.sources import MAIN_FILE, settled

_CELLS_AT_ONCE = 100
_TRIES, _APART = 10, 0.05
"""How often a desk is read again whose files change meanwhile, and after how many seconds each time."""


class Broken(Struct, frozen=True):
    """A desk that has problems, in words; and the files that it would be read from, as far as it is known."""

    problems: list[str]
    digests: dict[str, str] = {}


def compile_desk(folder: str, settings: tuple[tuple[tuple[str, ...], str], ...] = ()) -> Iterator[tuple[str, Any]]:
    """The desk in a folder, with other values (TOML) at some paths: its levels, piece by piece, then the rest; or its
    problems, if it has any."""
    for left in range(_TRIES, -1, -1):
        found = _read(folder, settings)
        main = Path(folder) / MAIN_FILE if os.path.isdir(folder) else Path(folder)
        if settings or not left or settled(found.digests, main):
            break
        time.sleep(_APART)
    if isinstance(found, Broken):
        yield "problems", found
        return
    desk = found
    for level in desk.plan.levels.values():
        controls = list(level.controls.items())
        for at in range(0, len(controls) or 1, _CELLS_AT_ONCE):
            last = at + _CELLS_AT_ONCE >= len(controls)
            yield "level", (level.name, dict(controls[at : at + _CELLS_AT_ONCE]), last)
    skeleton = desk.skeleton()
    for name, profile in skeleton.profiles.items():
        yield "profile", (name, profile)
    yield "rest", skeleton.desk


def _read(folder: str, settings: tuple[tuple[tuple[str, ...], str], ...]) -> Compiled | Broken:
    try:
        return compiled(load_desk(Path(folder), with_entries(Path(folder), settings)))
    except DeskError as error:
        return Broken([problem.render() for problem in error.problems], error.digests)
    except EditError as why:
        return Broken([str(why)])


class Assembly:
    """Assembles a desk from its parts."""

    def __init__(self) -> None:
        self._controls: dict[str, Any] = {}
        self._levels: dict[str, Level] = {}
        self._profiles: dict[str, Profile] = {}

    def read(self, data: bytes) -> Compiled | Broken | None:
        """Add a part as it was sent; return the desk, or what is wrong with it, with the last one."""
        return self.take(*pickle.loads(data))

    def take(self, word: str, what: Any) -> Compiled | Broken | None:
        """One piece; the desk, or what is wrong with it, with the last of them."""
        if word == "problems":
            broken: Broken = what
            return broken
        if word == "level":
            name, controls, last = what
            self._controls |= controls
            if last:
                self._levels[name], self._controls = Level(name, self._controls), {}
            return None
        if word == "profile":
            name, profile = what
            self._profiles[name] = filled(profile, self._levels)
            return None
        desk: Compiled = what
        return structs.replace(desk, plan=structs.replace(desk.plan, profiles=self._profiles))
