"""What else a program is called: desktops name the same one by its window's class, by its desktop file, or by its command."""

from __future__ import annotations

import os
import threading
from collections.abc import Iterator
from pathlib import Path

from fenko.system.processes import INTERPRETERS

_MOST = 5000
"""Desktop files that are read."""
_LARGEST = 1 << 18  # bytes of one; translations make them long


class Applications:
    """The desktop files of this machine (freedesktop.org's Desktop Entry Specification), read by a thread: until that is done nothing
    is known."""

    def __init__(self) -> None:
        self._names: dict[str, frozenset[str]] = {}
        self._thread = threading.Thread(target=self._read, daemon=True)
        self._thread.start()

    def wait(self, seconds: float) -> None:
        """Waits until all is known, at most that long."""
        self._thread.join(seconds)

    def also(self, app: str, program: str) -> tuple[str, ...]:
        """What else a program is called that a desktop calls `app` and whose file is `program`."""
        if not self._names:
            return ()
        by_program = (
            frozenset() if program.startswith(INTERPRETERS) else self._names.get(program.casefold(), frozenset())
        )
        found = self._names.get(app.casefold(), frozenset()) | by_program
        return tuple(sorted(name for name in found if name.casefold() != app.casefold()))

    def _read(self) -> None:
        names: dict[str, frozenset[str]] = {}
        for entry in _entries():
            for name in entry:
                key = name.casefold()
                names[key] = names.get(key, frozenset()) | entry
        self._names = names


def _entries() -> Iterator[frozenset[str]]:
    """Of each program its names: its file's without `.desktop`, its window's class, and its command's."""
    home = os.environ.get("XDG_DATA_HOME") or os.path.expanduser("~/.local/share")
    rest = os.environ.get("XDG_DATA_DIRS") or "/usr/local/share:/usr/share"
    seen: set[str] = set()
    for folder in (home, *rest.split(":")):
        try:
            files = sorted(Path(folder, "applications").glob("*.desktop"))
        except OSError:
            continue
        for file in files:
            if file.name in seen or len(seen) >= _MOST:
                continue
            seen.add(file.name)
            try:
                with file.open("rb") as opened:
                    text = opened.read(_LARGEST).decode("utf-8", "replace")
            except OSError:
                continue
            yield frozenset(filter(None, (file.stem, *_named_in(text))))


def _named_in(text: str) -> tuple[str, str]:
    """The window's class and the command that a desktop file names; empty where it names none."""
    _, _, section = text.partition("[Desktop Entry]")
    values: dict[str, str] = {}
    for line in section.split("\n[", 1)[0].splitlines():
        key, is_there, value = line.partition("=")
        if is_there:
            values.setdefault(key.strip(), value.strip())
    command = os.path.basename(values.get("Exec", "").partition(" ")[0].strip('"'))
    return values.get("StartupWMClass", ""), "" if command.startswith(
        (*INTERPRETERS, "env", "flatpak", "snap")
    ) else command
