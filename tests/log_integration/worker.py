"""Appends lines to the log file."""

from __future__ import annotations

from collections.abc import Sequence

from fenko.core.changes import Effect
from fenko.core.words import reason
from fenko.workers.worker import Away, Worker


class LogWorker(Worker):
    """Opens the file for each batch of lines, so that the user can move it."""

    def send(self, effects: Sequence[Effect]) -> None:
        """Append the lines. Raises Away if the file cannot be written."""
        table = self.tables.get("log") or {}
        path = self.folder / table.get("file", "log.txt")
        try:
            with path.open("a", encoding="utf-8") as file:
                file.writelines(f"{text}\n" for *_, text in effects)
        except OSError as why:
            raise Away(f"{path}: {reason(why)}") from why
