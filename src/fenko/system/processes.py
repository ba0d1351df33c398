"""Which programs run, of some that are asked for, told by what the kernel says of its processes (`/proc`).

The kernel tells only root of a process that begins, so this looks again and again; a running desk has it done beside it."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence

from fenko.core.patterns import Pattern

OFTEN = 1.0
"""Seconds from one look to the next."""
MOST = 200
"""Names that are told."""
_YOUNG = 5  # looks in which a process may still become another program
_OLD = 10  # looks after which the others are looked at again
_LONGEST = 4096  # bytes of a command line
INTERPRETERS = ("python", "perl", "ruby", "bash", "sh", "node", "lua", "guile")
"""Beginnings of the names of programs that run others, which are meant."""


class Processes:
    """The processes of this person and of the system, looked at again by `running`."""

    def __init__(self) -> None:
        self._names: dict[str, frozenset[str]] = {}
        self._looks: dict[str, int] = {}

    def running(self, wanted: Sequence[Pattern]) -> list[str]:
        """The names, of programs that run now, that fit one of the patterns."""
        there = [name for name in os.listdir("/proc") if name.isdecimal()]
        self._looks = {number: self._looks.get(number, 0) + 1 for number in there}
        self._names = {number: self._named(number) for number in there}
        found = {
            name
            for number, names in self._names.items()
            for name in names
            if any(pattern.fits(name) for pattern in wanted) and not _ended(number)
        }  # fmt: skip
        return sorted(found)[:MOST]

    def _named(self, number: str) -> frozenset[str]:
        looks = self._looks[number]
        known = self._names.get(number)
        if known is not None and looks > _YOUNG and looks % _OLD:
            return known
        return frozenset(filter(None, _names_of(number)))


def _names_of(number: str) -> Iterator[str]:
    """The names that a process goes by: the program's file, where that is, and of a script the script's."""
    place = f"/proc/{number}"
    try:
        if os.stat(place).st_uid not in (0, os.getuid()):
            return
        with open(f"{place}/comm", "rb") as file:
            yield file.read().decode("utf-8", "replace").rstrip("\n")
        with open(f"{place}/cmdline", "rb") as file:
            words = file.read(_LONGEST).decode("utf-8", "replace").split("\0")
    except OSError:
        return
    program = os.path.basename(words[0])
    yield program
    try:
        path = os.readlink(f"{place}/exe").removesuffix(" (deleted)")
    except OSError:
        path = ""
    yield path
    yield os.path.basename(path)
    if os.path.basename(path or program).startswith(INTERPRETERS):
        yield os.path.basename(next((word for word in words[1:] if word and not word.startswith("-")), ""))


def _ended(number: str) -> bool:
    """Whether it is gone, but for what its parent has not asked for yet."""
    try:
        with open(f"/proc/{number}/stat", "rb") as file:
            return file.read().rpartition(b")")[2].split()[:1] in ([b"Z"], [b"X"])
    except OSError:
        return True


_LONGEST_LINE = 4000
"""Bytes of a command line that count."""


def program_of(pid: int) -> tuple[str, str, str]:
    """The file name of a process's program, where that is, and its arguments; empty if it is gone or may not be looked at."""
    try:
        path = os.readlink(f"/proc/{pid}/exe").removesuffix(" (deleted)")
        with open(f"/proc/{pid}/cmdline", "rb") as file:
            words = file.read(_LONGEST_LINE).decode("utf-8", "replace").rstrip("\0").split("\0")
    except OSError:
        return "", "", ""
    return os.path.basename(path), path, " ".join(words[1:])
