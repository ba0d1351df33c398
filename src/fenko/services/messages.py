"""Messages between a running desk and the child processes that compile desks, write its journal, show notifications and look for
running programs."""

from __future__ import annotations

from typing import TypeAlias

from fenko.system.journal import Use
from fenko.system.wire import Message


class CompileDesk(Message, frozen=True):
    """Compile the desk in a folder, with other values (TOML) at some paths."""

    folder: str
    settings: tuple[tuple[tuple[str, ...], str], ...] = ()


class DeskPart(Message, frozen=True):
    """One of several parts of the answer, pickled: phrases contain classes of outputs that Fenko does not know. The data comes from
    Fenko's own child process, and from nowhere else."""

    data: bytes


class DeskEnd(Message, frozen=True):
    """All parts have been sent."""


class CompilerFailed(Message, frozen=True):
    """An unexpected error, instead of the rest of the parts."""

    reason: str


FromCompiler: TypeAlias = DeskPart | DeskEnd | CompilerFailed


class KeepJournal(Message, frozen=True):
    """Write the journal at `path`, and keep uses for so many `days`."""

    path: str
    days: float


class AddUses(Message, frozen=True):
    """Add these to the journal."""

    uses: list[Use]


class JournalState(Message, frozen=True):
    """Why the journal cannot be written; empty when it is written again."""

    error: str


ToJournal: TypeAlias = KeepJournal | AddUses


class ShowNotification(Message, frozen=True):
    """Show a notification of this kind (`error` or `profile`) instead of the one before; with an empty title, remove it."""

    kind: str
    title: str
    body: str


class LookForPrograms(Message, frozen=True):
    """Report which programs run whose names match these patterns."""

    patterns: list[str]


class ProgramsRunning(Message, frozen=True):
    """Patterns that a running program matches."""

    patterns: list[str]
