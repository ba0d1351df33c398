"""The legend's window at work: a process of its own, which has everything ready but the picture."""

from __future__ import annotations

import contextlib
import importlib
import subprocess
import sys
import threading
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from fenko.core.changes import Effect
from fenko.system.opening import open_overlay
from fenko.system.session import DisplayError
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


class LegendWorker(Worker):
    """Starts the window with the desk, hidden, and again if it should end."""

    eager = True

    def __init__(self, *arguments: Any) -> None:
        super().__init__(*arguments)
        self._window: subprocess.Popen[bytes] | None = None
        self._shown = False

    def open(self) -> None:
        """Starts it."""
        command = [sys.executable, "-m", "fenko", "legend", "--window", "--held"]
        try:
            self._window = subprocess.Popen(
                command,
                stdin=subprocess.PIPE,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.PIPE,
                start_new_session=True,
            )
        except OSError as why:
            raise Away(f"the window cannot be started: {why}") from why
        threading.Thread(target=self._until_gone, args=(self._window,), daemon=True).start()
        if self._shown:
            self._say(b"show\n")

    def _until_gone(self, window: subprocess.Popen[bytes]) -> None:
        window.wait()
        self.wake()

    def send(self, effects: Sequence[Effect]) -> None:
        """Shows and hides."""
        for effect in effects:
            self._shown = effect[2] == "show"
            self._say(b"show\n" if self._shown else b"hide\n")

    def _say(self, word: bytes) -> None:
        if self._window is None or self._window.stdin is None:
            return
        try:
            self._window.stdin.write(word)
            self._window.stdin.flush()
        except OSError:
            self._gone()

    def _gone(self) -> None:
        window, self._window = self._window, None
        said = b""
        if window is not None:
            with contextlib.suppress(Exception):
                _, said = window.communicate(timeout=_ENDS)
        lines = said.decode("utf-8", "replace").strip().splitlines()
        raise Away(lines[-1] if lines else "its window has ended")

    def watch(self) -> float | None:
        """Sees whether it has ended."""
        if self._window is not None and self._window.poll() is not None:
            self._gone()
        return None

    def release(self) -> None:
        """It is hidden."""
        if self._shown:
            self._shown = False
            with contextlib.suppress(Away):
                self._say(b"hide\n")

    def close(self) -> None:
        """Its window ends."""
        self.release()
        window, self._window = self._window, None
        if window is None:
            return
        with contextlib.suppress(OSError):
            if window.stdin is not None:
                window.stdin.close()
        try:
            window.wait(_ENDS)
        except subprocess.TimeoutExpired:
            window.kill()
            window.wait()
        if window.stderr is not None:
            window.stderr.close()
