"""The desk's devices as a source."""

from __future__ import annotations

import time

from fenko.core.changes import UNPLUG
from fenko.core.plan import unconditioned
from fenko.desk.compiled import Compiled
from fenko.live.registry import DeskRegistry
from fenko.live.source import Source, Surroundings
from fenko.live.surfaces import Surfaces


class DeviceSource(Source):
    """Takes changes from the desk's devices."""

    def __init__(self, around: Surroundings) -> None:
        self._around = around
        self._paused = False
        self._left: frozenset[str] = frozenset()
        around.linked.a_device = self._is_here
        self._surfaces = self._made()

    def _made(self) -> Surfaces:
        around = self._around
        registry = DeskRegistry(around.desk, around.share)
        return Surfaces(
            registry, around.loop, around.inbox.put, around.router.pass_motion, around.note, raw=True,
            bound_motion=around.desk.motion, felt=around.desk.felt, otherwise_here=around.linked.present,
        )  # fmt: skip

    def start(self) -> None:
        """Opens what is there, and follows what comes."""
        self._surfaces.start()
        self._tell_missing()

    def _is_here(self, surface: str) -> bool:
        return bool(self._surfaces.present(surface))

    def _tell_missing(self) -> None:
        """Until somebody says otherwise every surface is there."""
        now = time.monotonic()
        here = [self._is_here, self._around.linked.present]
        surfaces = self._around.desk.plan.surfaces
        self._around.inbox.put([(now, UNPLUG, name) for name in surfaces if not any(look(name) for look in here)])

    def raw(self, address: str) -> str:
        """What the kernel says: a code, or the value of an axis."""
        return self._surfaces.raw(address)

    def pause(self, paused: bool) -> None:
        """Other programs have the surfaces while Fenko is paused."""
        self._paused = paused
        (self._surfaces.lend if paused else self._surfaces.take_back)()

    def leave(self, surfaces: frozenset[str]) -> None:
        """Other programs have these, as long as the profile is active."""
        self._left = surfaces
        self._surfaces.leave(surfaces)

    def use_desk(self, before: Compiled) -> None:
        """Takes the devices of the other desk, where it has others or knows them by other names."""
        if _devices_of(self._around.desk) == _devices_of(before):
            return
        self._surfaces.close()
        self._surfaces = self._made()
        self._surfaces.leave(self._left)
        self._surfaces.start()
        self._tell_missing()
        if self._paused:
            self._surfaces.lend()

    def close(self) -> None:
        """Gives every device back."""
        self._surfaces.close()


def _devices_of(desk: Compiled) -> tuple[object, ...]:
    """What decides which devices are opened, and how."""
    return (
        desk.links,
        desk.motion,
        desk.felt,
        {name: unconditioned(surface) for name, surface in desk.plan.surfaces.items()},
    )
