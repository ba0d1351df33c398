"""Windows of KWin, which tells of them to scripts that it has been given over the bus (Plasma 5 and 6)."""

from __future__ import annotations

import contextlib
import os
import tempfile
import time
from collections.abc import Iterator
from importlib import resources
from typing import Any

from fenko.system.bus import BusError, open_bus
from fenko.system.desktop_windows import AnotherDesktop, DesktopWindow, SaidWindows
from fenko.system.session import DisplayError

_KWIN = "org.kde.KWin"
_SCRIPTING = (_KWIN, "/Scripting", "org.kde.kwin.Scripting")
_SLOTS = 16
"""Runs of Fenko that can follow windows at the same time."""
_ANSWERS_WITHIN = 3.0


class KWinWindows(SaidWindows):
    """Follows the active window. The script is taken out at the end; one that a killed Fenko left, when the next one comes."""

    def __init__(self) -> None:
        self._bus = open_bus()
        self.fd = self._bus.fd
        self.where = "KWin"
        self._kwin = self._bus.owner_of(_KWIN)
        try:
            if not self._kwin:
                raise AnotherDesktop("KWin does not run")
            self._slot = next(
                (slot for slot in (f"fenko.windows{number}" for number in range(_SLOTS)) if self._bus.take(slot)), ""
            )
            if not self._slot:
                raise BusError("too many others follow the windows of KWin")
            self._bus.match(f"type='signal',member='NameOwnerChanged',arg0='{_KWIN}'")
            self._unload(self._slot)
            with self._loaded(self._slot, "follow"):
                self._wait_for("Front")
        except DisplayError:
            self._bus.close()
            raise

    # --- Scripts ---

    @contextlib.contextmanager
    def _loaded(self, name: str, task: str, number: str = "") -> Iterator[None]:
        """A script that runs; its file is there until it does."""
        text = resources.files("fenko.data").joinpath("kwin/windows.js").read_text("utf-8")
        for mark, value in (("@NAME@", self._bus.name), ("@TASK@", task), ("@ID@", number)):
            text = text.replace(mark, value)
        with tempfile.NamedTemporaryFile("w", suffix=".js", encoding="utf-8") as file:
            os.chmod(file.name, 0o644)  # the compositor may be another user's
            file.write(text)
            file.flush()
            self._bus.call(_SCRIPTING, "loadScript", "ss", file.name, name)
            self._bus.call(_SCRIPTING, "start")
            yield

    def _unload(self, name: str) -> None:
        with contextlib.suppress(BusError):
            self._bus.call(_SCRIPTING, "unloadScript", "s", name)

    def _ask(self, task: str, member: str, number: str = "") -> Any:
        """Has a script do one thing, and waits for its word."""
        name = f"{self._slot}-{task}"
        self._unload(name)
        try:
            with self._loaded(name, task, number):
                return self._wait_for(member)
        finally:
            self._unload(name)

    def _wait_for(self, member: str) -> Any:
        end = time.monotonic() + _ANSWERS_WITHIN
        while (left := end - time.monotonic()) > 0:
            for said, body in self._read(left):
                if said == member:
                    return body
        raise BusError("KWin does not run the script that it was given")

    # --- What it says ---

    def _read(self, wait: float = 0.0) -> list[tuple[str, Any]]:
        told = []
        for sender, member, body in self._bus.read(wait):
            if member == "NameOwnerChanged" and body[:1] == (_KWIN,):
                raise BusError("KWin is gone")
            if sender != self._kwin or not body or not isinstance(body[0], str):
                continue
            if member == "Front" and not self._hear(body[0]):
                continue
            told.append((member, body[0]))
        return told

    def read(self) -> bool:
        """Hears what has come; whether any of it is about the window in front."""
        return any(member == "Front" for member, _ in self._read())

    def all(self) -> list[DesktopWindow]:
        """Every window, from the top to the bottom."""
        return self._listed(self._ask("list", "All"))

    def bring_to_front(self, window: DesktopWindow) -> None:
        """Has a script do it."""
        self._ask("front", "Done", window.number)

    def ask_to_close(self, window: DesktopWindow) -> None:
        """Has a script ask its program."""
        self._ask("close", "Done", window.number)

    def close(self) -> None:
        """Takes the script out."""
        self._unload(self._slot)
        self._bus.close()
