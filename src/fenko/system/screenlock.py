"""Whether the screen is locked, as the desktop's screen saver tells on the session's bus (KWin, GNOME's shell, and the lockers of
other desktops that have the same interface)."""

from __future__ import annotations

import contextlib
import os
import select

from fenko.system.bus import Bus, BusError

_SAVERS = (
    ("org.freedesktop.ScreenSaver", "/org/freedesktop/ScreenSaver", "org.freedesktop.ScreenSaver"),
    ("org.freedesktop.ScreenSaver", "/ScreenSaver", "org.freedesktop.ScreenSaver"),
    ("org.gnome.ScreenSaver", "/org/gnome/ScreenSaver", "org.gnome.ScreenSaver"),
    ("org.mate.ScreenSaver", "/org/mate/ScreenSaver", "org.mate.ScreenSaver"),
    ("org.cinnamon.ScreenSaver", "/org/cinnamon/ScreenSaver", "org.cinnamon.ScreenSaver"),
    ("org.xfce.ScreenSaver", "/org/xfce/ScreenSaver", "org.xfce.ScreenSaver"),
)
"""Who tells, where, and by which interface; all have the same `GetActive` and `ActiveChanged`."""


class ScreenLock:
    """Tells of each change; `read` opens the bus, so it may wait. Raises BusError where there is none, or once it is gone."""

    def __init__(self) -> None:
        self._poll = select.epoll()
        self._first = os.eventfd(1, os.EFD_CLOEXEC)
        self._poll.register(self._first, select.EPOLLIN)
        self.fd = self._poll.fileno()
        self._bus: Bus | None = None
        self._locked = False
        self._told = False

    def read(self) -> bool | None:
        """Whether the screen is locked now; None if that has not changed."""
        if self._bus is None:
            self._open()
        else:
            for _, member, body in self._bus.read():
                if member == "ActiveChanged" and body:
                    self._locked = body[0] is True
        if self._locked == self._told:
            return None
        self._told = self._locked
        return self._locked

    def _open(self) -> None:
        self._poll.unregister(self._first)
        self._bus = bus = Bus()
        for name, interface in dict.fromkeys((name, interface) for name, _, interface in _SAVERS):
            # Only what has the name is believed.
            bus.match(f"type='signal',sender='{name}',interface='{interface}',member='ActiveChanged'")
        for saver in _SAVERS:
            if bus.owner_of(saver[0]):
                with contextlib.suppress(BusError):
                    self._locked = self._locked or bus.call(saver, "GetActive")[0] is True
        self._poll.register(bus.fd, select.EPOLLIN)

    def close(self) -> None:
        """Leaves the bus."""
        if self._bus is not None:
            self._bus.close()
        self._poll.close()
        os.close(self._first)
