"""Windows of GNOME's shell, which tells of them through Fenko's small extension."""

from __future__ import annotations

from fenko.system.bus import Bus, BusError, open_bus
from fenko.system.desktop_windows import AnotherDesktop, DesktopWindow, SaidWindows
from fenko.system.session import DisplayError

DESK = ("fenko.Desk", "/fenko/Desk", "fenko.Desk")
_SHELL = "org.gnome.Shell"


def check(bus: Bus) -> str:
    """Who on the bus is the desk in the shell. Raises DisplayError where there is none, and says what helps."""
    if found := bus.owner_of(DESK[0]):
        return found
    if bus.owner_of(_SHELL):
        raise BusError("GNOME tells of its windows only through Fenko's extension (`fenko ready --extension on`)")
    raise AnotherDesktop("GNOME does not run")


class GnomeWindows(SaidWindows):
    """Follows the window that has the keyboard."""

    def __init__(self) -> None:
        self._bus = open_bus()
        self.fd = self._bus.fd
        self.where = "GNOME"
        try:
            self._desk = check(self._bus)
            self._bus.match(f"type='signal',member='NameOwnerChanged',arg0='{DESK[0]}'")
            self._bus.match(f"type='signal',interface='{DESK[2]}',member='FrontChanged'")
            self._hear(self._bus.call(DESK, "Front")[0])
        except DisplayError:
            self._bus.close()
            raise

    def read(self) -> bool:
        """Hears what has come; whether any of it is about the window in front."""
        heard = False
        for sender, member, body in self._bus.read():
            if member == "NameOwnerChanged" and body[:1] == (DESK[0],):
                raise BusError("GNOME, or Fenko's extension of it, is gone")
            if member == "FrontChanged" and sender == self._desk and body and isinstance(body[0], str):
                self._hear(body[0])
                heard = True
        return heard

    def all(self) -> list[DesktopWindow]:
        """Every window, the one that was in front last first."""
        return self._listed(self._bus.call(DESK, "Windows")[0])

    def bring_to_front(self, window: DesktopWindow) -> None:
        """Asks the shell."""
        self._bus.call(DESK, "Raise", "s", window.number)

    def ask_to_close(self, window: DesktopWindow) -> None:
        """Asks its program, through the shell."""
        self._bus.call(DESK, "Close", "s", window.number)

    def close(self) -> None:
        """Stops following."""
        self._bus.close()
