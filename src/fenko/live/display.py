"""The display of a running desk, which may go away and come back: everything that hangs on it does so together."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from fenko.live.loop import Loop
from fenko.live.returning import Returning
from fenko.outputs.port import PortError
from fenko.system.session import DisplayError, on_wayland, shown_name
from fenko.system.wayland import Wayland
from fenko.system.xserver import open_display

_PATIENCE = 0.3
"""Seconds that a compositor, or an X server, has to say that it is there."""


class Dependent(Protocol):
    """Something that needs the display."""

    def display_lost(self) -> None:
        """The display is gone; nothing of it is asked any more."""

    def display_back(self) -> None:
        """It is there again. Raises DisplayError or PortError if not yet."""


class Displays:
    """Whoever depends on the display. `lost` is called once each time when it has gone, after everybody knows."""

    def __init__(self, loop: Loop, note: Callable[[str], None], lost: Callable[[], None]) -> None:
        self._loop = loop
        self._note = note
        self._lost = lost
        self._dependents: list[Dependent] = []
        self._returning = Returning(loop, self._try)
        self._losing = False

    def depend(self, one: Dependent) -> None:
        """Tells it from now on when the display goes and comes back."""
        self._dependents.append(one)

    def lose(self) -> None:
        """Somebody noticed that the display is gone. Nothing happens before the event at hand is dealt with."""
        if not self._losing and not self._returning.waiting:
            self._losing = True
            self._loop.soon(self._lose)

    def _lose(self) -> None:
        self._losing = False
        self._returning.wait()
        self._note(f"display {shown_name()} is gone; Fenko waits for it to come back")
        for one in self._dependents:
            one.display_lost()
        self._lost()

    def _try(self) -> bool:
        """One attempt to open the display again; True if it worked."""
        try:
            (Wayland(patience=_PATIENCE) if on_wayland() else open_display(patience=_PATIENCE)).close()
            for one in self._dependents:
                one.display_back()
        except (DisplayError, PortError):
            return False
        self._note(f"display {shown_name()} is back")
        return True
