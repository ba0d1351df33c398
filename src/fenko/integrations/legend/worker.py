"""The legend's window at work: a process of its own, which has everything ready but the picture."""

from __future__ import annotations

import importlib
import os
import select
import threading
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from fenko.core.changes import Effect
from fenko.system.child_process import ChildProcess
from fenko.system.opening import open_overlay
from fenko.system.session import DisplayError
from fenko.system.wire import Failed, Message
from fenko.workers.worker import Away, Worker

_ENDS = 1.0  # seconds that it has for that


def ready(tables: Mapping[str, Any], folder: Path) -> list[tuple[bool, str, str]]:
    """How things stand: good or not, what is so, what helps."""
    try:
        importlib.import_module("fenko.drawing.painter")  # by name, for nothing here draws
    except (ImportError, OSError) as why:
        return [(False, f"the legend cannot be drawn: {why}", "Cairo and Pango: `apt install libpangocairo-1.0-0`")]
    try:
        open_overlay("", solid=False).close()
    except DisplayError as why:
        return [(False, f"the legend has no screen: {why}", "an X11 session, a compositor with layers, or XWayland")]
    return [(True, "the legend is shown over all windows", "")]


class ShowLegend(Message, frozen=True):
    """Show the window, or hide it."""

    visible: bool


class LegendWorker(Worker):
    """Starts the window's process with the desk, hidden, and again if it ends."""

    eager = True

    def __init__(self, *arguments: Any) -> None:
        super().__init__(*arguments)
        self._window: ChildProcess | None = None
        self._visible = False

    def open(self) -> None:
        """Start the process."""
        window = self._window = ChildProcess("fenko.integrations.legend.ui.window", Failed, _ignore, self._on_exit)
        try:
            window.start()
            process = os.pidfd_open(window.pid)
        except OSError as why:
            raise Away(f"the window cannot be started: {why}") from why
        threading.Thread(target=self._wake_at_end, args=(process,), daemon=True).start()
        window.send(ShowLegend(self._visible))

    def _wake_at_end(self, process: int) -> None:
        select.select([process], [], [])
        os.close(process)
        self.wake()

    def _on_exit(self, reason: str) -> None:
        raise Away(reason or "its window has ended")

    def send(self, effects: Sequence[Effect]) -> None:
        """Show and hide."""
        for effect in effects:
            self._show(effect[2] == "show")

    def _show(self, visible: bool) -> None:
        self._visible = visible
        if self._window is not None:
            self._window.send(ShowLegend(visible))

    def watch(self) -> float | None:
        """See whether the process has ended."""
        if self._window is not None:
            self._window.readable()
        return None

    def release(self) -> None:
        """Hide the window."""
        if self._visible:
            self._show(False)

    def close(self) -> None:
        """End the process."""
        self.release()
        window, self._window = self._window, None
        if window is not None:
            window.finish(_ENDS)


def _ignore(message: Failed) -> None:
    """The window sends nothing else."""
