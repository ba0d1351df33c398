"""A running desk whose files change: they are watched, read again beside what goes on, and put in force between two events."""

from __future__ import annotations

import contextlib
import gc
import time
from collections import deque
from collections.abc import Callable
from functools import partial
from math import inf
from pathlib import Path

from fenko.desk.compiled import Compiled
from fenko.desk.sources import digest_of
from fenko.live.loop import Loop
from fenko.services.compiling import Assembly, Broken
from fenko.services.messages import CompileDesk, CompilerFailed, DeskEnd, DeskPart, FromCompiler
from fenko.system.child_process import ChildProcess, ended
from fenko.system.files import real_path
from fenko.system.inotify import FolderWatch
from fenko.system.trouble import described

SOON = 0.05
"""Seconds from a change of a file to the reading, for files that are saved together."""
FRESH = 30.0
"""Seconds within which a desk has been read for certain that is going to be watched."""
MOST_WAITING = 8
"""Desks that wait to be compiled."""

Settings = tuple[tuple[tuple[str, ...], str], ...]
"""Paths in a desk, each with a TOML value."""
Found = Compiled | Broken | str
"""A desk, what is wrong with it, or why it could not be read at all."""

Told = Callable[[str | None, bool], None]
"""Hears what is wrong with it, or None, and whether it has changed."""


class Compiling:
    """Compiles desks in a child process, one at a time."""

    def __init__(self, loop: Loop) -> None:
        self.child = ChildProcess(
            "fenko.services.compiler", FromCompiler, self._on_message, self._on_exit, loop=loop, paced=True
        )
        self._assembly: Assembly | None = None
        self._found: Compiled | Broken | None = None
        self._done: Callable[[Found], None] = lambda found: None
        self._waiting: deque[tuple[str, Settings, Callable[[Found], None]]] = deque()

    @property
    def busy(self) -> bool:
        """Whether one is being compiled."""
        return self._assembly is not None

    def ask(self, folder: str, settings: Settings, done: Callable[[Found], None]) -> bool:
        """Compiles a desk, with other values at some paths, when those are done that were asked for before. False, and nothing is
        done, if too many wait."""
        if self._assembly is not None:
            if len(self._waiting) < MOST_WAITING:
                self._waiting.append((folder, settings, done))
                return True
            return False
        assembly = Assembly()
        self._assembly, self._found, self._done = assembly, None, done
        gc.disable()  # nothing of a desk is rubbish, and looking for some takes longer than a press
        self.child.try_start()
        if self._assembly is assembly:  # otherwise it could not be started, and the answer is known
            self.child.send(CompileDesk(folder, settings))
        return True

    def _on_message(self, message: FromCompiler) -> None:
        match message:
            case DeskPart(data) if self._assembly is not None:
                try:
                    self._found = self._assembly.read(data) or self._found
                except Exception as why:  # a part needs code of an output that this process cannot load
                    self.child.stop()
                    self._answer(f"it cannot be read: {described(why)}")
            case DeskEnd():
                self._answer(self._found or "no desk was received")
            case CompilerFailed(reason):
                self._answer(reason)

    def _on_exit(self, reason: str) -> None:
        if self._assembly is not None:
            self._answer(ended("the process that compiles it", reason))

    def _answer(self, found: Found) -> None:
        self._assembly = None
        gc.freeze()
        gc.enable()
        self._done(found)
        if self._waiting and self._assembly is None:
            self.ask(*self._waiting.popleft())

    def close(self) -> None:
        """End the child process."""
        self._waiting.clear()
        self.child.close()


class Rereading:
    """Reads a desk again when somebody asks, and, once it `watch`es, whenever one of its files has changed. `take` gets what is
    found, unless nothing has changed; who asked is told so too: None, or what is wrong."""

    def __init__(
        self, loop: Loop, compiling: Compiling, desk: Callable[[], Compiled], take: Callable[[Found], None]
    ) -> None:
        self._loop = loop
        self._compiling = compiling
        self._desk = desk
        self._take = take
        self._askers: list[Told] = []
        self._answered: list[Told] = []
        self._watches: dict[Path, FolderWatch] = {}
        self._names: frozenset[str] = frozenset()
        self._broken: dict[str, str] | None = None
        self._watching = False
        self._due = loop.timer(lambda now: self.read())

    def ask(self, told: Told) -> None:
        """Reads it again for somebody."""
        self._askers.append(told)
        self.read()

    def read(self) -> None:
        """Reads it again; if that is under way, once more after it."""
        if self._compiling.busy:
            self._due.set_in(SOON)
            return
        self._due.set(inf)
        # Who asks from now on may mean what is saved from now on.
        self._answered, self._askers = self._askers, []
        self._compiling.ask(self._desk().given, (), self._found)

    def _found(self, found: Found) -> None:
        askers, self._answered = self._answered, []
        digests = found.digests if not isinstance(found, str) else {}
        same = isinstance(found, Compiled) and self._broken is None and digests == self._desk().digests
        if not same and not (isinstance(found, Broken) and digests and digests == self._broken and not askers):
            self._take(found)
        self._broken = None if isinstance(found, Compiled) else digests
        if self._watching:
            self._watch(digests)
        for told in askers:
            told(_wrong(found), not same)

    # --- Watching ---

    def watch(self) -> None:
        """From now on."""
        self._watching = True
        self._watch(self._desk().digests)

    def _watch(self, digests: dict[str, str]) -> None:
        """Watches the folders of these files, and of what they are links to."""
        read = {Path(name): digest for name, digest in (self._desk().digests | digests).items()}
        files = {real_path(file): digest for file, digest in read.items()} | read
        folders = {file.parent for file in files}
        # Of a folder that is not there (one may be removed and made anew) the closest one above is watched, for the next on the way.
        missing = [folder for folder in folders if not folder.is_dir()]
        above = {folder: next(one for one in folder.parents if one.is_dir()) for folder in missing}
        self._names = frozenset(
            [*(file.name for file in files), *(folder.relative_to(up).parts[0] for folder, up in above.items())]
        )
        folders = (folders - above.keys()) | {*above.values()}
        for gone in self._watches.keys() - folders:
            self._forget(gone)
        for folder in folders - self._watches.keys():
            # One that is not there is looked for again.
            with contextlib.suppress(OSError):
                watch = self._watches[folder] = FolderWatch(folder, contents=True)
                self._loop.add(watch.fd, partial(self._changed, folder, watch))
                there = {file for file in files if file.parent == folder} | {*folder.glob("*.toml")}
                if any(_fresh(file) and digest_of(file) != files.get(file) for file in there):
                    self._due.set_in(SOON)
        if any(folder.is_dir() for folder in missing):
            self._due.set_in(SOON)  # it was made before the one above was watched

    def _changed(self, folder: Path, watch: FolderWatch) -> None:
        changes = list(watch.read())
        if ("", False) in changes:
            self._forget(folder)
            self._due.set_in(SOON)
        elif any(name in self._names or name.endswith(".toml") for name, _ in changes):
            self._due.set_in(SOON)

    def _forget(self, folder: Path) -> None:
        watch = self._watches.pop(folder)
        self._loop.remove(watch.fd)
        watch.close()

    def close(self) -> None:
        """Watches no more."""
        self._watching = False
        self._due.set(inf)
        for folder in list(self._watches):
            self._forget(folder)


def _fresh(file: Path) -> bool:
    """Whether it may have changed after it was read and before it was watched; what is not there may have gone then."""
    try:
        found = file.stat()
    except OSError:
        return True
    return time.time() - max(found.st_mtime, found.st_ctime) < FRESH


def _wrong(found: Found) -> str | None:
    """What is wrong with it, in words."""
    if isinstance(found, Compiled):
        return None
    return found if isinstance(found, str) else "\n".join(found.problems)
