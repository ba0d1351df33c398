"""Surfaces that are no kernel devices, for who has no running desk: heard, and told things, through a process of their workers."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from math import inf
from typing import Any

from msgspec import structs

from fenko.core.changes import Change, Effect
from fenko.core.controls import SORTS
from fenko.core.endless import EndlessReader, sort_and_coding
from fenko.core.flow import Sent
from fenko.core.inputs import Inputs, Raw
from fenko.core.links import LinkedDevice, has_transport
from fenko.core.plan import Surface
from fenko.core.words import reason
from fenko.desk.compiled import LINKED, Compiled, linked_entry
from fenko.live.linked import Linked
from fenko.live.loop import Loop
from fenko.live.router import Router
from fenko.outputs.messages import ControlsChanged, FromWorkers, SurfacePresent
from fenko.outputs.port import Settings
from fenko.outputs.workers_port import WorkersListener, WorkersPort

_ENOUGH = 4
"""Messages of an endless control by which it is recognised."""
Feed = Callable[[Sequence[Change]], None]


class FarSurfaces(WorkersListener):
    """Hears these `surfaces`, of which `tables` say all that their workers need (`linked`, and the brokers). With `guesses` it is
    recognised by what they send which controls of MIDI controllers turn without end, and what boards have is what they say. Raises
    OSError where no process can be started."""

    def __init__(
        self,
        loop: Loop,
        surfaces: Mapping[str, Surface],
        tables: Mapping[str, Any],
        folder: str,
        feed: Feed,
        note: Callable[[str], None],
        guesses: bool = False,
    ) -> None:
        self.surfaces = dict(surfaces)
        self.inputs = Inputs(self.surfaces)
        self.learned: Callable[[str], None] = lambda surface: None
        """Told of each surface of which more is known now."""
        self.codings: dict[str, str] = {}
        """By address, how controls that turn without end write their steps, as far as that was recognised."""
        self._guesses = guesses
        self._values: dict[str, list[int]] = {}
        self._turns: dict[str, EndlessReader] = {}
        self.linked = Linked(self.surfaces, feed, note)
        self._router = Router(loop, lambda port, why: None)
        self._port = WorkersPort(["feedback"], Settings(tables, note, None, folder), "surfaces")
        self._port.listener = self
        self._router.use(self._port)

    def on_message(self, message: FromWorkers) -> None:
        """A worker sent this."""
        match message:
            case ControlsChanged(surface, changes):
                self._changed(surface, list(changes))
            case SurfacePresent(surface, link, description):
                self._present(surface, link, description)

    def on_exit(self) -> None:
        """The process has ended: its surfaces are not connected any more."""
        self.linked.ended()

    def _changed(self, surface: str, changes: list[Sent]) -> None:
        if not self._guesses or surface not in self.surfaces:
            self.linked.changes(surface, changes)
            return
        for change in changes:  # one by one, for after any of them more may be known of its control
            self.linked.changes(surface, [self._guessed(surface, change)])

    def _present(self, surface: str, link: str, what: dict[str, Any] | None) -> None:
        known = self.surfaces.get(surface)
        if what is not None and known is not None and self._guesses:
            sorts = {
                name: SORTS[one["sort"]] for name, one in (what.get("controls") or {}).items() if one["sort"] in SORTS
            }
            self._know(structs.replace(known, shapes=known.shapes | sorts))
        self.linked.here(surface, link, what)

    def _know(self, surface: Surface) -> None:
        self.surfaces[surface.name] = surface
        self.inputs = Inputs(self.surfaces)
        self.linked.use(self.surfaces)
        self.learned(surface.name)

    def _guessed(self, surface: str, change: Sent) -> Sent:
        """A change of a MIDI controller, as steps if it turns without end."""
        t, control, value = change
        if not isinstance(value, Raw) or (value.least, value.most) != (0, 127) or "cc-" not in control:
            return change
        address = f"{surface}.{control}"
        if address in self._turns:
            return (t, control, self._turns[address].turn(value.value))
        values = self._values.setdefault(address, [])
        values.append(value.value)
        sort, coding = sort_and_coding(values[-_ENOUGH:]) if len(values) >= _ENOUGH else ("", "")
        if sort == "dial":
            self._turns[address], self.codings[address] = EndlessReader(coding), coding
            known = self.surfaces[surface]
            self._know(structs.replace(known, shapes=known.shapes | {control: SORTS["dial"]}))
            return (t, control, self._turns[address].turn(value.value))
        return change

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


def if_heard(make: Callable[[], FarSurfaces | None], note: Callable[[str], None]) -> FarSurfaces | None:
    """What `make` makes; None where no process can be started, which is noted: a person has other surfaces too."""
    try:
        return make()
    except OSError as why:
        note(f"MIDI controllers and boards cannot be heard: {reason(why)}")
        return None


def of_desk(
    loop: Loop, desk: Compiled, wanted: Sequence[str], feed: Feed, note: Callable[[str], None]
) -> FarSurfaces | None:
    """Those of a desk's surfaces that can turn up otherwise than as kernel devices; None where none can. Raises OSError."""
    names = [
        name for name, entry in desk.links.items()
        if (not wanted or name in wanted) and entry.far
    ]  # fmt: skip
    if not names:
        return None
    tables = {
        LINKED: {name: _heard_only(linked_entry(desk, name)) for name in names},
        "mqtt": desk.tables.get("mqtt") or {},
    }
    surfaces = {name: desk.plan.surfaces[name] for name in names}
    return FarSurfaces(loop, surfaces, tables, desk.folder, feed, note)


def _heard_only(entry: dict[str, Any]) -> dict[str, Any]:
    """The same without its kernel devices, which are heard elsewhere."""
    return {**entry, "links": [link for link in entry["links"] if has_transport(link)]}


def of_things(
    loop: Loop, things: Sequence[LinkedDevice], feed: Feed, note: Callable[[str], None]
) -> FarSurfaces | None:
    """Things that no desk knows; None where there are none. Raises OSError."""
    if not things:
        return None
    names: dict[str, LinkedDevice] = {}
    for thing in things:
        names.setdefault(
            next(n for n in (thing.slug, *(f"{thing.slug}-{k}" for k in range(2, 999))) if n not in names), thing
        )
    entries = {
        name: {"links": [thing.link], "kind": thing.kind, "controls": {}, "names": {}, "colours": {}, "latest": 0.15}
        for name, thing in names.items()
    }  # fmt: skip
    surfaces = {name: Surface(name, thing.kind) for name, thing in names.items()}
    return FarSurfaces(loop, surfaces, {LINKED: entries, "mqtt": {}}, "", feed, note, guesses=True)
