"""The desk's devices as a source."""

from __future__ import annotations

from fenko.live.registry import DeskRegistry
from fenko.live.source import Source, Surroundings
from fenko.live.surfaces import Surfaces


class DeviceSource(Source):
    """Takes changes from the desk's devices."""

    def __init__(self, around: Surroundings) -> None:
        registry = DeskRegistry(around.desk, around.share)
        self._surfaces = Surfaces(
            registry, around.loop, around.inbox.put, around.router.pass_motion, around.say, raw=True
        )

    def start(self) -> None:
        """Opens what is there, and follows what comes."""
        self._surfaces.start()

    def close(self) -> None:
        """Gives every device back."""
        self._surfaces.close()

    def pause(self, paused: bool) -> None:
        """Other programs have the surfaces while Fenko is paused."""
        (self._surfaces.lend if paused else self._surfaces.take_back)()
