"""Earlier versions of the files that Fenko changes, in the state folder of the person, bounded in number and in size."""

from __future__ import annotations

import contextlib
import hashlib
import os
import re
import time
from pathlib import Path

from msgspec import Struct

from fenko.system.files import read_file, real_path, whole_file

MOST = 50
"""Versions of one file; the oldest go first."""
LARGEST = 4 << 20
"""Bytes of the versions of one file together."""
LARGEST_OF_ALL = 64 << 20
"""Bytes of all versions of all files together."""
_NAME = re.compile(r"(\d{1,9})-(\d{1,18})")
_WHOSE = "file"


class Version(Struct, frozen=True):
    """What a file said before a change: its number, which grows from version to version, and when the change was made (seconds since
    1970)."""

    number: int
    at: float
    path: Path

    def read(self) -> bytes:
        """What it said. Raises OSError."""
        return read_file(self.path)


def _root() -> Path:
    import platformdirs

    return Path(platformdirs.user_state_dir("fenko")) / "history"


def _folder(path: Path) -> Path:
    return _root() / hashlib.sha256(os.fsencode(real_path(path))).hexdigest()[:16]


def versions(path: Path) -> list[Version]:
    """The versions of a file that are kept, the newest first."""
    return _versions_in(_folder(path))


def _versions_in(folder: Path) -> list[Version]:
    found = []
    with contextlib.suppress(OSError):
        for one in folder.iterdir():
            name = _NAME.fullmatch(one.name)
            if name is not None and one.is_file():
                found.append(Version(int(name[1]), int(name[2]) / 1e6, one))
    return sorted(found, key=lambda version: -version.number)


def keep(path: Path, raw: bytes) -> None:
    """A file that says this is going to say something else. Raises OSError if that cannot be kept."""
    folder = _folder(path)
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    known = _versions_in(folder)
    if known and known[0].read() == raw:
        return
    with whole_file(folder / _WHOSE, 0o600) as file:
        file.write(os.fsencode(real_path(path)))
    number = known[0].number + 1 if known else 1
    with whole_file(folder / f"{number}-{time.time_ns() // 1000}", 0o600) as file:
        file.write(raw)
    _forget_old(folder)


def _forget_old(folder: Path) -> None:
    room = LARGEST
    for place, version in enumerate(_versions_in(folder)):
        room -= version.path.stat().st_size
        if place >= MOST or (place and room < 0):
            version.path.unlink(missing_ok=True)
    every = [version for one in folder.parent.iterdir() if one.is_dir() for version in _versions_in(one)]
    left = sum(version.path.stat().st_size for version in every) - LARGEST_OF_ALL
    for version in sorted(every, key=lambda version: (version.at, version.number)):
        if left <= 0:
            return
        left -= version.path.stat().st_size
        version.path.unlink(missing_ok=True)


def files_below(folder: Path) -> list[Path]:
    """The files of a folder of which versions are kept, also if they are there no more."""
    found = []
    with contextlib.suppress(OSError):
        for one in _root().iterdir():
            with contextlib.suppress(OSError):
                path = Path(os.fsdecode(read_file(one / _WHOSE)))
                if path.is_relative_to(real_path(folder)) and _versions_in(one):
                    found.append(path)
    return sorted(found)
