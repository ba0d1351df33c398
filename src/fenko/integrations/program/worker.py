"""Programs at work: started so that they are the person's own, and windows through the window manager."""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import subprocess
import tempfile
import threading
from collections.abc import Callable, Mapping, Sequence
from contextlib import closing
from functools import partial
from pathlib import Path
from typing import IO, Any

from fenko.core.changes import Effect
from fenko.core.patterns import BadPattern, Pattern, compile_pattern
from fenko.core.words import shortened, slug_of
from fenko.integrations.program.spec import command_of
from fenko.integrations.wording import entry
from fenko.system.desktop_windows import DesktopWindow, WindowList
from fenko.system.opening import open_windows
from fenko.system.session import DisplayError
from fenko.workers.worker import Worker

_SOON = 3.0
"""Seconds within which a program that ends with an error has not started."""
_TIDIES = 60.0
"""Seconds after which what a program has said is forgotten, again and again."""
_ADDRESS = re.compile(r"[a-z][a-z0-9+.-]*:", re.IGNORECASE)


def ready(tables: Mapping[str, Any], folder: Path) -> list[tuple[bool, str, str]]:
    """How things stand: good or not, what is so, what helps."""
    found = []
    apps = tables.get("app")
    for name in apps if isinstance(apps, dict) else ():
        command = command_of(tables, name)
        if command:
            path = shutil.which(os.path.expanduser(command[0]))
            good = f"`{name}` is started as {path}"
            found.append(
                (
                    bool(path),
                    good if path else f"`{name}`: there is no program {command[0]}",
                    "" if path else f"install it, or say where it is in [app.{name}]",
                )
            )
    try:
        with closing(open_windows()) as windows:
            number = len(windows.all())
        found.append((True, f"{number} window{'' if number == 1 else 's'} can be brought to the front", ""))
    except DisplayError as why:
        found.append((False, f"no windows can be brought to the front: {why}", "see docs/desktops.md"))
    return found


def offers(tables: Mapping[str, Any], folder: Path) -> list[tuple[str, str]]:
    """Phrases for the desk's programs; those that run and are none of them are named too."""
    apps = tables.get("app")
    names = list(apps) if isinstance(apps, dict) else []
    found = [(f"front {name}", "of the desk") for name in names] + [("close window", "whichever is in front")]
    with contextlib.suppress(DisplayError):
        with closing(open_windows()) as windows:
            running = {window.focus.app for window in windows.all()}
        known = [pattern for name in names for pattern in patterns_of(tables, name)]
        found += [
            (f"front {slug_of(app)}", f'runs; first give the desk an [app.{slug_of(app)}] with `app = "{app}"`')
            for app in sorted(running)
            if app and not any(pattern.fits(app) for pattern in known)
        ]
    return found


def patterns_of(tables: Mapping[str, Any], name: str) -> list[Pattern]:
    """The app ids of a program of the desk."""
    texts = entry(tables, "app", name).get("app", name)
    found = []
    for text in texts if isinstance(texts, list) else [texts]:
        with contextlib.suppress(BadPattern):  # loading the desk has said so
            found.append(compile_pattern(text))
    return found


class ProgramWorker(Worker):
    """Starts programs, and asks the window manager for windows."""

    def send(self, effects: Sequence[Effect]) -> None:
        """Starts, fronts, closes and opens."""
        for _, _, act, what in effects:
            match act:
                case "start":
                    self._start(what)
                case "front":
                    self._with_windows(partial(self._front, name=what))
                case "close":
                    self._with_windows(partial(self._close, name=what))
                case "open":
                    self._open(what)

    # --- Windows ---

    def _with_windows(self, do: Callable[[WindowList], None]) -> None:
        """Does something with the windows of this desktop; says why, if nobody knows of any. The desktop is let go of again, for
        what it tells meanwhile nobody would hear."""
        try:
            with closing(open_windows()) as windows:
                do(windows)
        except DisplayError as why:
            self.desk.note(f"Programs and windows: {why}")

    def _of(self, windows: WindowList, name: str) -> list[DesktopWindow]:
        patterns = patterns_of(self.tables, name)
        return [window for window in windows.all() if any(pattern.fits(window.focus.app) for pattern in patterns)]

    def _front(self, windows: WindowList, name: str) -> None:
        found = self._of(windows, name)
        if not found:
            if command_of(self.tables, name):
                self._start(name)
            else:
                self.desk.note(
                    f"Programs and windows: `{name}` has no window, and the desk does not say how it is started"
                )
            return
        # The one in front makes room for the program's next one.
        behind = [window for window in found if not window.front]
        if behind:
            windows.bring_to_front(behind[-1] if len(behind) < len(found) else behind[0])

    def _close(self, windows: WindowList, name: str | None) -> None:
        meant = self._of(windows, name) if name is not None else [window for window in windows.all() if window.front]
        for window in meant:
            windows.ask_to_close(window)
        if not meant:
            self.desk.note(f"Programs and windows: {f'`{name}` has no window' if name else 'no window is in front'}")

    # --- Programs ---

    def _start(self, name: str) -> None:
        self._run(name, command_of(self.tables, name))

    def _open(self, what: str) -> None:
        opener = next(filter(None, (shutil.which(one) for one in ("xdg-open", "gio"))), None)
        if opener is None:
            self.desk.note(f'Programs and windows: nothing here opens "{shortened(what)}" (xdg-utils does)')
            return
        place = what if _ADDRESS.match(what) else str(self.folder / os.path.expanduser(what))
        if place.startswith("-"):
            place = f"./{place}"
        command = [opener, "open", place] if opener.endswith("gio") else [opener, place]
        self._run(shortened(what), command)

    def _run(self, name: str, command: list[str]) -> None:
        """A program of the person's own: it goes on when Fenko ends, and hears nothing of the terminal."""
        words = [os.path.expanduser(word) if word.startswith("~") else word for word in command]
        said = tempfile.TemporaryFile("ab+")  # noqa: SIM115  # the thread below closes it
        try:
            process = subprocess.Popen(
                words,
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=said,
                cwd=Path.home(),
                start_new_session=True,
            )
        except (OSError, ValueError) as why:
            said.close()
            reason = (getattr(why, "strerror", None) or str(why)).lower()
            self.desk.note(f"Programs and windows: `{name}` does not start: {words[0]}: {reason}")
            return
        threading.Thread(target=self._see_off, args=(name, process, said), daemon=True).start()

    def _see_off(self, name: str, process: subprocess.Popen[bytes], said: IO[bytes]) -> None:
        """Waits for the end of a program, so that nothing of it stays; says why, if it ended before it had begun."""
        with said:
            try:
                status = process.wait(_SOON)
            except subprocess.TimeoutExpired:
                self._wait_for(process, said)
                return
            if status:
                said.seek(0, os.SEEK_END)
                said.seek(max(0, said.tell() - 2000))
                lines = said.read().decode("utf-8", "replace").split("\n")
                last = next((line.strip() for line in reversed(lines) if line.strip()), "")
                last = "".join(character for character in last if character.isprintable())
                how = f"status {status}" if status > 0 else f"signal {-status}"
                self.desk.note(
                    f"Programs and windows: `{name}` ended at once, with {how}{f': {shortened(last, 200)}' if last else ''}"
                )

    def _wait_for(self, process: subprocess.Popen[bytes], said: IO[bytes]) -> None:
        """Waits for the end of a program that runs; what it says is of no use any more, and must not pile up."""
        while True:
            os.ftruncate(said.fileno(), 0)
            try:
                process.wait(_TIDIES)
                return
            except subprocess.TimeoutExpired:
                continue
