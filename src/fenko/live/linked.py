"""Surfaces that are there otherwise than as kernel devices: MIDI controllers, boards, surfaces of another computer. Their workers
tell of them; here their changes get the desk's names, and their coming and going is told like that of any other."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from math import inf
from typing import Any

from fenko.core.changes import PLUG, UNPLUG, Change
from fenko.core.controls import BUTTON
from fenko.core.flow import LIVELY, Sent
from fenko.core.inputs import Inputs, Raw
from fenko.core.plan import Surface
from fenko.desk.model import LATEST


class Linked:
    """Puts changes of these `surfaces` into `feed`. `note` gets a line for each coming and going."""

    def __init__(
        self,
        surfaces: Mapping[str, Surface],
        feed: Callable[[Sequence[Change]], None],
        note: Callable[[str], None],
    ) -> None:
        self._surfaces = surfaces
        self._inputs = Inputs(surfaces)
        self._refused: set[str] = set()
        self._feed = feed
        self._note = note
        self._here: dict[str, dict[str, dict[str, Any]]] = {}
        self._addresses: dict[tuple[str, str], str] = {}
        self.until: dict[str, float] = {}
        """Of surfaces that say so, until when all that happened has been told."""
        self.latest: Mapping[str, float] = {}
        """How long is waited for what may be under way, by surface (seconds)."""
        self.deaf = False
        """Whether nobody wants to hear of them: somebody else's hands are played."""
        self._changed: dict[str, float] = {}
        self._raw: dict[str, int] = {}
        self.a_device: Callable[[str], bool] = lambda surface: False
        """Whether a surface is there as a kernel device too."""
        self.came: Callable[[str], None] = lambda surface: None
        """Told of each surface that has come."""
        self.moved: Callable[[Sequence[Change]], None] = lambda changes: None
        """Told of what hands do, before it is fed."""

    def use(self, surfaces: Mapping[str, Surface]) -> None:
        """The desk has these now."""
        self._surfaces = surfaces
        self._inputs = Inputs(surfaces)
        self._refused.clear()
        self._here = {name: links for name, links in self._here.items() if name in surfaces}
        self._addresses.clear()

    def present(self, surface: str) -> bool:
        """Whether a surface is there by any such link."""
        return bool(self._here.get(surface))

    def said(self, surface: str) -> list[dict[str, Any]]:
        """What a surface says that it is, by each link by which it is there."""
        return list(self._here.get(surface, {}).values())

    def changes(self, surface: str, changes: Sequence[Sent]) -> None:
        """Controls of a surface have changed."""
        if not self.deaf and self.present(surface) and surface in self._surfaces:
            named = [(t, self._address(surface, control), value) for t, control, value in changes]
            if not all(self._inputs[address].takes(value) for _, address, value in named):
                named = [change for change in named if self._is_taken(*change)]
            if surface in self.until:
                self._changed[surface] = time.monotonic()
            for _, address, value in named:
                if isinstance(value, Raw):
                    self._raw[address] = value.value
            self.moved(named)
            self._feed(named)

    def _is_taken(self, t: float, address: str, value: Any) -> bool:
        """Whether the desk knows the control as one that can have such a value; where not, it is noted once."""
        place = self._inputs[address]
        if place.takes(value):
            return True
        if place.control not in self._refused:
            self._refused.add(place.control)
            surface, _, control = place.control.partition(".")
            sort = (self._surfaces[surface].shape(control) or BUTTON).name
            sends = "positions" if isinstance(value, Raw) else "steps" if value not in (0, 1) else "presses"
            self._note(
                f"surface {surface}: `{control}` sends {sends}, but the desk has it as a {sort}; they are left out. Set its "
                f"`sort` in the description of `{surface}`"
            )
        return False

    def raw(self, address: str) -> str:
        """What the surface itself says of an axis; empty if it has said nothing."""
        return str(self._raw.get(address, ""))

    def horizon(self, now: float) -> float:
        """Until when all is known that hands have done, where gestures on a surface that is elsewhere may be undecided."""
        known = now
        for surface, until in self.until.items():
            if now < self._changed.get(surface, -inf) + LIVELY:
                known = min(known, max(until, now - self.latest.get(surface, LATEST)))
        return known

    def _address(self, surface: str, control: str) -> str:
        found = self._addresses.get((surface, control))
        if found is None:
            name, _, part = control.partition(".")
            own = self._surfaces[surface].own_name(name)
            found = f"{surface}.{own}.{part}" if part else f"{surface}.{own}"
            self._addresses[surface, control] = found
        return found

    def here(self, surface: str, link: str, what: dict[str, Any] | None) -> None:
        """A surface is there by that link, or is not any more."""
        if surface not in self._surfaces or self.deaf:
            return
        links = self._here.setdefault(surface, {})
        if what is None:
            if links.pop(link, None) is not None:
                self._gone(surface)
            return
        anew = link in links
        links[link] = what
        if anew:
            self._feed([(time.monotonic(), UNPLUG, surface)])
        self._feed([(time.monotonic(), PLUG, surface)])
        if not anew:
            self._note(f"surface {surface}: here now, {what.get('title') or link} ({link})")
        self.came(surface)

    def _gone(self, surface: str) -> None:
        self.until.pop(surface, None)
        self._feed([(time.monotonic(), UNPLUG, surface)])
        if self.present(surface) or self.a_device(surface):
            self._feed([(time.monotonic(), PLUG, surface)])  # by another link
        else:
            self._note(f"surface {surface}: gone; it works again as soon as it is back")

    def ended(self) -> None:
        """Nobody tells of them any more."""
        here, self._here = self._here, {}
        for surface, links in here.items():
            if links:
                self._gone(surface)
