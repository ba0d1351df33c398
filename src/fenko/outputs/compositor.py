"""What the ports have in common that send over the connection to a Wayland compositor."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable

from fenko.core.axes import Detents
from fenko.outputs.keys import LOST, KeyPort
from fenko.outputs.port import Descriptor, PortLost
from fenko.system.wayland import Wayland

VERTICAL, HORIZONTAL = 0, 1
A_LINE = 15.0
"""What compositors say of one detent of a wheel."""
_AGAIN = 0.002
"""Seconds until a compositor that took no more is tried again."""


class CompositorPort(KeyPort):
    """Keys and pointer through a compositor."""

    returns = True

    def __init__(self, warn: Callable[[str], None], line: Wayland) -> None:
        super().__init__(warn)
        self._line = line
        self._scrolled = (Detents(), Detents())

    def descriptors(self) -> Iterable[Descriptor]:
        """The connection."""
        return [Descriptor(self._line.fd, self._heard)]

    def _heard(self) -> None:
        try:
            self._line.read()
            self._flush()  # what was answered to it
        except LOST as why:
            raise PortLost(str(why)) from why

    def _flush(self) -> None:
        if self._line.flush():
            self.wake(time.monotonic() + _AGAIN)

    @property
    def busy(self) -> bool:
        """Whether something waits to be sent, here or because the compositor is slow."""
        return super().busy or self._line.waits
