"""Times in desk files."""

from __future__ import annotations

from typing import Any

from fenko.core.words import format_time, parse_time
from fenko.desk.locate import KeyPath
from fenko.desk.model import LIMITS, TimingFile
from fenko.desk.sources import Sources
from fenko.desk.structure import fields, read


def read_times(
    sources: Sources, path: KeyPath, table: Any, kind: type[TimingFile] = TimingFile, checked: bool = False
) -> dict[str, float]:
    """The times of a `timing` table in seconds, without those that are faulty, which is noted. `checked`: its structure
    has been looked at already."""
    if not checked:
        read(sources, path, table, kind)
    times: dict[str, float] = {}
    for name, text in table.items() if isinstance(table, dict) else ():
        if name in fields(kind) and isinstance(text, str) and (found := read_time(sources, (*path, name), text, *LIMITS[name])) is not None:  # fmt: skip
            times[name] = found
    return times


_DAYS = {"day": 1, "week": 7, "month": 30, "year": 365}


def days_of(text: str) -> float:
    """How many days `90 days`, `2 weeks`, `1 year` are; 0 for `nothing`, and for what is no such time."""
    number, _, unit = text.partition(" ")
    return float(int(number) * _DAYS.get(unit.removesuffix("s"), 0)) if number.isdecimal() else 0.0


def read_time(sources: Sources, path: KeyPath, text: Any, least: float, most: float) -> float | None:
    """A time within its range; None, which is noted or has been, for anything else."""
    if not isinstance(text, str):
        return None
    try:
        seconds = parse_time(text)
    except ValueError:
        return None  # noted with the structure
    if not least <= seconds <= most:
        sources.add(path, f"`{text}` is out of range", expected=f"{format_time(least)} to {format_time(most)}")
        return None
    return seconds
