"""The journal of a desk: which binding was used when, in a database of the person's own (SQLite).

Nothing stands in it of what was typed, of windows' titles, or of keys that no binding has. Uses are kept in *batches*, each a row
with many packed `USE` records, in the order of time: whoever counts millions of them reads a few hundred rows."""

from __future__ import annotations

import contextlib
import os
import re
import sqlite3
import struct
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path

from msgspec import Struct

from fenko.core.plan import Binding as Bound
from fenko.core.verbs.keys import Keys

USE = struct.Struct("<IHHHHHH")
"""One use: the second (Unix time) and the millisecond; the numbers of the binding, of the program in front and of the profile in force;
how many milliseconds it took (`UNKNOWN` where nobody measured that); how often it came in a row."""
UNKNOWN = 0xFFFF
OTHER = 0
"""Stands for a binding or name for which there is no number left."""
LONGEST = 60.0
"""Seconds; what took longer took that long."""
_DAY = 86_400
_MOST_BYTES = 1 << 30
_MOST_NUMBERS = 60_000
_MOST_NAMES = 4000  # programs choose their own names
_LONGEST_NAME = 80
_LONGEST_WORDS = 60
_QUOTED = re.compile(r'"(?:[^"\\]|\\.)*"')
_PATIENCE = 2.0  # s, for another process that writes

STEPS: tuple[tuple[str, ...], ...] = (
    (
        "CREATE TABLE bindings (number INTEGER PRIMARY KEY, level TEXT NOT NULL, control TEXT NOT NULL, gesture TEXT NOT NULL,"
        " does TEXT NOT NULL, UNIQUE (level, control, gesture, does))",
        "CREATE TABLE names (number INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE)",
        "CREATE TABLE batches (first INTEGER NOT NULL, last INTEGER NOT NULL, uses BLOB NOT NULL)",
        "CREATE INDEX batches_first ON batches (first)",
    ),
    (
        "ALTER TABLE bindings ADD COLUMN undoes INTEGER NOT NULL DEFAULT 0",
        "UPDATE bindings SET undoes = 1 WHERE does LIKE 'undo%' OR does LIKE 'ctrl+z%'",
    ),
)
"""What brings the database from each version to the next; its version (`user_version`) is how many of them it has seen."""


class JournalError(Exception):
    """A journal that cannot be used; the message says why and what helps."""


class Binding(Struct, frozen=True):
    """What was used: the level that has it, the address of its cell, its gesture, and what it does in words. Of a layer that went off the
    control is empty; where a time was measured, the gesture is `hold`, `double` or `chord` with `time` before it."""

    level: str
    control: str
    gesture: str
    does: str = ""
    undoes: bool = False
    """Whether it takes back what was done before."""

    @property
    def counts(self) -> bool:
        """Whether it is something that a hand did, and not a time that was measured or a layer that went off."""
        return bool(self.control) and not self.gesture.startswith("time ")


class Use(Struct, frozen=True, array_like=True):
    """One use, as a running desk tells of it. `at` is Unix time; `lasted` in seconds, negative where nobody measured it."""

    at: float
    binding: Binding
    program: str
    profile: str
    lasted: float = -1.0
    count: int = 1


def words_of(binding: Bound) -> str:
    """What a binding does: its label, or the beginning of its phrase, with nothing of what it types."""
    if binding.label:
        return binding.label[:_LONGEST_WORDS]
    first = str(binding.written[0] if binding.written else binding.phrase)
    begins, _, more = _QUOTED.sub('"…"', first).partition(" then ")
    return f"{begins} then …"[:_LONGEST_WORDS] if more else begins[:_LONGEST_WORDS]


def undoes(binding: Bound) -> bool:
    """Whether a binding takes back what was done before, as far as that can be known."""
    if words_of(binding).partition(": ")[2].lower().startswith("undo") or words_of(binding).lower().startswith("undo"):
        return True
    return any({*step.keys} == {"ctrl", "z"} for step in binding.phrase.steps if isinstance(step, Keys))


def unpacked(raw: tuple[int, ...], bindings: Mapping[int, Binding], names: Mapping[int, str]) -> Use:
    """A record, with the words for its numbers."""
    second, millisecond, binding, program, profile, lasted, count = raw
    return Use(
        second + millisecond / 1000, bindings.get(binding, Binding("", "", "", "another binding")), names.get(program, ""),
        names.get(profile, ""), -1.0 if lasted == UNKNOWN else lasted / 1000, count,
    )  # fmt: skip


def journal_file(folder: str | Path) -> Path:
    """Where the journal of the desk in that folder is."""
    import hashlib

    import platformdirs

    name = hashlib.sha256(str(Path(folder).resolve()).encode()).hexdigest()[:16]
    return Path(platformdirs.user_state_dir("fenko")) / "journal" / f"{name}.sqlite"


class Journal:
    """A journal that is open. With `new`, it is made where there is none. Raises JournalError, as everything does here."""

    def __init__(self, path: Path, new: bool = False) -> None:
        self.path = path
        if not new and not path.exists():
            raise JournalError(f"there is no journal yet ({path})")
        with self._told():
            if new and not path.exists():
                path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
                os.close(os.open(path, os.O_CREAT | os.O_RDWR | os.O_CLOEXEC, 0o600))  # nobody else's business
            self._base = sqlite3.connect(path, timeout=_PATIENCE, isolation_level=None)
        try:
            with self._told():
                self._migrate()
        except JournalError:
            self._base.close()
            raise
        self._numbers: dict[Binding, int] = {}
        self._names: dict[str, int] = {}

    def _migrate(self) -> None:
        self._base.execute("PRAGMA journal_mode = WAL")  # who reads keeps nobody from writing
        self._base.execute("PRAGMA synchronous = NORMAL")
        if self._version() > len(STEPS):
            raise JournalError(f"{self.path} was written by a newer Fenko than this one")
        while self._version() < len(STEPS):
            self._base.execute("BEGIN IMMEDIATE")
            try:
                version = self._version()  # another process may have done it meanwhile
                for statement in STEPS[version] if version < len(STEPS) else ():
                    self._base.execute(statement)
                self._base.execute(f"PRAGMA user_version = {min(version + 1, len(STEPS))}")
                self._base.execute("COMMIT")
            except sqlite3.Error:
                self._base.rollback()
                raise

    def _version(self) -> int:
        found: int = self._base.execute("PRAGMA user_version").fetchone()[0]
        return found

    # --- Writing ---

    def add(self, uses: Iterable[Use]) -> None:
        """Writes uses, all of them or none."""
        with self._told(), self._all_or_nothing():
            packed = bytearray()
            seconds = []
            for use in uses:
                at = int(use.at * 1000)
                lasted = UNKNOWN if use.lasted < 0 else int(min(use.lasted, LONGEST) * 1000)
                seconds.append(at // 1000)
                packed += USE.pack(
                    at // 1000, at % 1000, self._number(use.binding), self._name(use.program), self._name(use.profile), lasted,
                    min(use.count, 0xFFFF),
                )  # fmt: skip
            if seconds:
                self._base.execute("INSERT INTO batches VALUES (?, ?, ?)", (min(seconds), max(seconds), bytes(packed)))

    def _number(self, binding: Binding) -> int:
        if binding not in self._numbers:
            where = (binding.level, binding.control, binding.gesture, binding.does)
            number = self._numbered("bindings", "level, control, gesture, does", where, _MOST_NUMBERS)
            if binding.undoes:
                self._base.execute("UPDATE bindings SET undoes = 1 WHERE number = ?", (number,))
            self._numbers[binding] = number
        return self._numbers[binding]

    def _name(self, name: str) -> int:
        if name not in self._names:
            self._names[name] = self._numbered("names", "name", (name[:_LONGEST_NAME],), _MOST_NAMES)
        return self._names[name]

    def _numbered(self, table: str, columns: str, values: tuple[str, ...], most: int) -> int:
        marks = ", ".join("?" * len(values))
        known = self._base.execute(f"SELECT number FROM {table} WHERE ({columns}) = ({marks})", values).fetchone()
        if known is not None:
            return int(known[0])
        (last,) = self._base.execute(f"SELECT coalesce(max(number), 0) FROM {table}").fetchone()
        if last >= most:
            return OTHER
        self._base.execute(f"INSERT INTO {table} (number, {columns}) VALUES (?, {marks})", (last + 1, *values))
        return int(last) + 1

    def tidy(self, before: float, now: float) -> None:
        """Forgets what is older than that (Unix time), and puts together the batches of each day that is over."""
        with self._told(), self._all_or_nothing():
            self._base.execute("DELETE FROM batches WHERE last < ?", (int(before),))
            for first in self._days(now):
                rows = self._base.execute(
                    "SELECT uses FROM batches WHERE first >= ? AND first < ? ORDER BY first, rowid",
                    (first, first + _DAY),
                ).fetchall()
                whole = b"".join(row[0] for row in rows)
                times = [USE.unpack_from(whole, at)[0] for at in (0, len(whole) - USE.size)]
                self._base.execute("DELETE FROM batches WHERE first >= ? AND first < ?", (first, first + _DAY))
                self._base.execute("INSERT INTO batches VALUES (?, ?, ?)", (min(first, *times), max(times), whole))
            while self._size() > _MOST_BYTES:
                self._base.execute("DELETE FROM batches WHERE first = (SELECT min(first) FROM batches)")

    def _days(self, now: float) -> list[int]:
        """The beginnings of the days before this one that have several batches."""
        found = self._base.execute(
            "SELECT first - first % ? AS day FROM batches WHERE first < ? GROUP BY day HAVING count(*) > 1",
            (_DAY, int(now) - int(now) % _DAY),
        )
        return [int(day) for (day,) in found]

    def _size(self) -> int:
        """Bytes of all uses."""
        (size,) = self._base.execute("SELECT coalesce(sum(length(uses)), 0) FROM batches").fetchone()
        return int(size)

    def clear(self) -> None:
        """Forgets everything, also on the disk."""
        with self._told():
            self._base.execute("PRAGMA secure_delete = ON")
            with self._all_or_nothing():
                for table in ("batches", "bindings", "names"):
                    self._base.execute(f"DELETE FROM {table}")
            self._base.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            self._base.execute("VACUUM")
            self._base.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        self._numbers.clear()
        self._names.clear()

    def add_batches(self, bindings: Sequence[Binding], names: Sequence[str], batches: Iterable[bytes]) -> None:
        """Puts whole batches into an empty journal, in which 1 is the first of these bindings, and of these names."""
        with self._told(), self._all_or_nothing():
            for table in ("batches", "bindings", "names"):
                self._base.execute(f"DELETE FROM {table}")
            for binding in bindings:
                self._number(binding)
            for name in names:
                self._name(name)
            for batch in batches:
                times = [USE.unpack_from(batch, at)[0] for at in (0, len(batch) - USE.size)]
                self._base.execute("INSERT INTO batches VALUES (?, ?, ?)", (*times, batch))

    # --- Reading ---

    def bindings(self) -> dict[int, Binding]:
        """Every binding that was ever used, by its number."""
        with self._told():
            rows = self._base.execute("SELECT number, level, control, gesture, does, undoes FROM bindings").fetchall()
        return {
            number: Binding(level, control, gesture, does, bool(back))
            for number, level, control, gesture, does, back in rows
        }

    def names(self) -> dict[int, str]:
        """The names of programs and profiles, by their numbers."""
        with self._told():
            return {OTHER: ""} | dict(self._base.execute("SELECT number, name FROM names").fetchall())

    def batches(self, since: float = 0.0, until: float = 1e11) -> Iterator[bytes]:
        """The packed uses between two times (Unix), in their order; the first and the last batch may reach further."""
        with self._told():
            for (uses,) in self._base.execute(
                "SELECT uses FROM batches WHERE last >= ? AND first < ? ORDER BY first, rowid", (int(since), int(until))
            ):
                yield uses

    def extent(self) -> tuple[int, int, int]:
        """How many uses there are (records), and the first and the last second of them."""
        with self._told():
            size, first, last = self._base.execute(
                "SELECT coalesce(sum(length(uses)), 0), coalesce(min(first), 0), coalesce(max(last), 0) FROM batches"
            ).fetchone()
        return size // USE.size, first, last

    def close(self) -> None:
        """Closes it."""
        self._base.close()

    @contextlib.contextmanager
    def _all_or_nothing(self) -> Iterator[None]:
        self._base.execute("BEGIN IMMEDIATE")
        try:
            yield
            self._base.execute("COMMIT")
        except BaseException:  # raised again below
            # What was numbered within it was not written.
            self._numbers.clear()
            self._names.clear()
            with contextlib.suppress(sqlite3.Error):
                self._base.execute("ROLLBACK")
            raise

    @contextlib.contextmanager
    def _told(self) -> Iterator[None]:
        try:
            yield
        except sqlite3.DatabaseError as why:
            damaged = not isinstance(why, sqlite3.OperationalError)
            help_ = "; `fenko journal clear` begins a new one" if damaged else ""
            raise JournalError(f"{self.path}: {why}{help_}") from why
        except OSError as why:
            raise JournalError(f"{self.path}: {(why.strerror or str(why)).lower()}") from why
