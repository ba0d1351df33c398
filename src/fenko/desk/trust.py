"""What of a desk a person has to have agreed to before it is done: what starts programs, opens things, sends requests.

An agreement is to the very words in which it was shown, kept by the desk's folder, for the person alone. A desk that changes
one of them asks again for that one."""

from __future__ import annotations

import contextlib
import hashlib
import os
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct

from fenko.core.effects import effects_of
from fenko.core.phrase import Phrase, steps_of
from fenko.core.verbs import OUTPUTS
from fenko.desk.load import Desk
from fenko.desk.locate import KeyPath
from fenko.system.files import whole_file

_LARGEST = 1 << 20  # bytes


class Risk(Struct, frozen=True):
    """Something that needs an agreement: in words, and where it is first said."""

    what: str
    where: KeyPath


def risks(desk: Desk) -> list[Risk]:
    """All of a desk, in the order of its files."""
    found: dict[str, KeyPath] = {}
    for path, phrase in desk.phrases:
        for what in risks_of(phrase, desk.sources.data):
            found.setdefault(what, path)
    for output in OUTPUTS.values():
        for place, what in output.asks(desk.sources.data):
            found.setdefault(what, place)
    return [Risk(what, path) for what, path in found.items()]


def risks_of(phrase: Phrase, tables: Mapping[str, Any]) -> Iterator[str]:
    """All of a phrase, in words."""
    for step in steps_of(phrase):
        for out, *values in effects_of(step):
            if out in OUTPUTS and (risk := OUTPUTS[out].risk) is not None and (what := risk(tuple(values), tables)):
                yield what


class Agreement:
    """What a person has agreed to of the desk in a folder."""

    def __init__(self, folder: str) -> None:
        import platformdirs

        place = os.path.realpath(folder)
        self._path = Path(platformdirs.user_state_dir("fenko")) / "trusted" / f"{_digest(place)[:16]}.json"
        self._place = place
        self._seen: tuple[int, int] | None = None
        self._known: frozenset[str] = frozenset()
        self._look()

    def holds(self, what: str) -> bool:
        """Whether that is agreed to. Looks again if it was not, for it may be by now."""
        digest = _digest(what)
        if digest not in self._known:
            self._look()
        return digest in self._known

    def _look(self) -> None:
        with contextlib.suppress(OSError, msgspec.DecodeError):
            status = self._path.stat()
            if status.st_uid != os.getuid() or status.st_mode & 0o022 or status.st_size > _LARGEST:
                return  # somebody else may have written it
            if (status.st_mtime_ns, status.st_size) != self._seen:
                self._seen = (status.st_mtime_ns, status.st_size)
                found = msgspec.json.decode(self._path.read_bytes(), type=dict[str, Any])
                known = found.get("agreed") if found.get("desk") == self._place else None
                self._known = frozenset(one for one in known or () if isinstance(one, str))

    def agree(self, whats: Iterable[str]) -> None:
        """From now on these are agreed to, and nothing else. Raises OSError."""
        os.makedirs(self._path.parent, mode=0o700, exist_ok=True)
        with whole_file(self._path, 0o600) as file:
            file.write(msgspec.json.encode({"desk": self._place, "agreed": sorted({*map(_digest, whats)})}))
        self._seen = None


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()
