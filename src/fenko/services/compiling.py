"""Compiles a desk, and sends it in pieces that are taken apart fast."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from fenko.core.plan import Level
from fenko.desk.compiled import Compiled, Skeleton, compiled
from fenko.desk.load import load_desk
from fenko.desk.problems import DeskError

_CELLS_AT_ONCE = 100


def compile_desk(folder: str) -> Iterator[tuple[str, Any]]:
    """The desk in a folder: its levels, piece by piece, then the rest; or its problems, if it has any."""
    try:
        desk = compiled(load_desk(Path(folder)))
    except DeskError as error:
        yield "problems", [problem.render() for problem in error.problems]
        return
    for level in desk.levels():
        controls = list(level.controls.items())
        for at in range(0, len(controls), _CELLS_AT_ONCE):
            yield "level", (level.name, dict(controls[at : at + _CELLS_AT_ONCE]))
    yield "rest", desk.skeleton()


class Assembly:
    """Puts the pieces together again."""

    def __init__(self) -> None:
        self._controls: dict[str, dict[str, Any]] = {}

    def take(self, word: str, what: Any) -> Compiled | list[str] | None:
        """One piece; the desk, or its problems, with the last of them."""
        if word == "problems":
            problems: list[str] = what
            return problems
        if word == "level":
            name, controls = what
            self._controls.setdefault(name, {}).update(controls)
            return None
        skeleton: Skeleton = what
        return skeleton.filled({name: Level(name, self._controls.get(name, {})) for name in skeleton.level_names()})
