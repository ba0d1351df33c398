"""Which programs have a device open, as far as this user may see it."""

from __future__ import annotations

import os
from pathlib import Path

from msgspec import Struct

_PROC = Path("/proc")


class Opener(Struct, frozen=True):
    """A running program that has a file open."""

    pid: int
    program: str
    words: str

    @property
    def is_fenko(self) -> bool:
        """Whether it is a Fenko at work."""
        return any(word.rpartition("/")[2] == "fenko" for word in self.words.split()[:4])


def openers(path: str) -> list[Opener]:
    """The programs, other than this one, that have `path` open."""
    found = []
    for folder in _PROC.glob("[0-9]*"):
        if int(folder.name) == os.getpid():
            continue
        try:
            if any(os.readlink(entry) == path for entry in os.scandir(folder / "fd")):
                words = (folder / "cmdline").read_bytes().replace(b"\0", b" ").decode("utf-8", "replace").strip()
                program = (folder / "comm").read_text(encoding="utf-8", errors="replace").strip()
                found.append(Opener(int(folder.name), program, words))
        except OSError:
            continue  # another user's, or it has just ended
    return found
