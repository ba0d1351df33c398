"""Surfaces that are no kernel devices, for who has no running desk: heard, and told things, through a process of their workers."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from math import inf
from typing import Any

from fenko.core.changes import Change, Effect
from fenko.core.flow import Sent
from fenko.core.plan import Surface
from fenko.desk.compiled import LINKED
from fenko.live.linked import Linked
from fenko.live.loop import Loop
from fenko.live.router import Router
from fenko.outputs.afar import FarPort, Unheard
from fenko.outputs.port import Settings


class FarSurfaces(Unheard):
    """Hears these `surfaces`, of which `tables` say all that their workers need (`linked`, and the brokers). Raises OSError where
    no process can be started."""

    def __init__(
        self,
        loop: Loop,
        surfaces: Mapping[str, Surface],
        tables: Mapping[str, Any],
        folder: str,
        feed: Callable[[Sequence[Change]], None],
        note: Callable[[str], None],
    ) -> None:
        self.linked = Linked(surfaces, feed, note)
        self._router = Router(loop, lambda port, why: None)
        self._port = FarPort(["feedback"], Settings(tables, note, None, folder), "surfaces")
        self._port.hearer = self
        self._router.use(self._port)

    def changes(self, surface: str, changes: list[Sent]) -> None:
        """Controls have changed."""
        self.linked.changes(surface, changes)

    def here(self, surface: str, link: str, what: dict[str, Any] | None) -> None:
        """A surface has come, or gone."""
        self.linked.here(surface, link, what)

    def ended(self) -> None:
        """Whatever was there is gone."""
        self.linked.ended()

    def send(self, effects: Sequence[Effect]) -> None:
        """Tells surfaces things."""
        self._router.send(effects)

    def all_out(self) -> None:
        """Whatever they were told ends."""
        self._port.release()

    def close(self) -> None:
        """Lets go of them all."""
        self._port.wake(inf)
        self._router.close()


def tables_of(entries: Mapping[str, Mapping[str, Any]], brokers: Any = None) -> dict[str, Any]:
    """The tables that workers of such surfaces read."""
    usual = {"links": [], "kind": "other", "controls": {}, "names": {}, "colours": {}, "latest": 0.15}
    return {LINKED: {name: {**usual, **entry} for name, entry in entries.items()}, "mqtt": brokers or {}}
