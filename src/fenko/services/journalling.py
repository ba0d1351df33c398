"""Beside a running desk: writes its journal. A disk that is full, slow or gone is this process's trouble and nobody else's."""

from __future__ import annotations

import time
from pathlib import Path

from fenko.services.messages import AddUses, JournalState, KeepJournal, ToJournal
from fenko.system.journal import Journal, JournalError, Use
from fenko.system.parent_process import ParentProcess, serve

_DAY = 86_400


class Writer:
    """Writes what it is told into the journal at a path, and forgets what is older than so many days. `wrong` is why it could not be
    written the last time; empty while all is well."""

    def __init__(self, path: Path, days: float) -> None:
        self.wrong = ""
        self._path = path
        self._days = days
        self._journal: Journal | None = None
        self._tidied = -1

    def write(self, uses: list[Use], now: float) -> None:
        """Writes them; where that fails they are lost, and the next ones are tried again."""
        try:
            if self._journal is None:
                self._journal = Journal(self._path, new=True)
            if now // _DAY != self._tidied:
                self._journal.tidy(now - self._days * _DAY, now)
                self._tidied = int(now // _DAY)
            self._journal.add(uses)
            self.wrong = ""
        except JournalError as why:
            self.wrong = str(why)
            self.close()

    def close(self) -> None:
        """Closes the journal."""
        if self._journal is not None:
            self._journal.close()
            self._journal = None


def work(parent: ParentProcess) -> None:
    """Write what is used until the parent ends."""
    writer: Writer | None = None
    reported: str | None = None
    for message in parent.messages():
        match message:
            case KeepJournal(path, days):
                if writer is not None:
                    writer.close()
                writer = Writer(Path(path), days)
            case AddUses(uses) if writer is not None:
                writer.write(uses, time.time())
                if writer.wrong != reported:
                    reported = writer.wrong
                    parent.send(JournalState(reported))
    if writer is not None:
        writer.close()


if __name__ == "__main__":
    serve(work, ToJournal)
