"""A surface that is lent to another computer: heard here, told there, and given back when nobody has it."""

from __future__ import annotations

import contextlib
import os
import secrets
import threading
import time
from collections import deque
from collections.abc import Callable, Collection, Mapping, Sequence
from math import inf
from pathlib import Path
from typing import Any

import msgspec

from fenko.core.changes import OUTSIDE, PLUG, UNPLUG, Change
from fenko.core.controls import BUTTON, KINDS, shape_of, turning
from fenko.core.plan import Surface
from fenko.desk.compiled import LINKED, Compiled, linked_entry
from fenko.integrations.lending.protocol import Lending, Offer, sorts_of
from fenko.integrations.mqtt.line import MqttLine
from fenko.live.far_surfaces import FarSurfaces
from fenko.live.loop import Loop
from fenko.live.registry import DeskRegistry
from fenko.live.surfaces import Surfaces
from fenko.system.turns import short_turns
from fenko.workers.worker import Away

UNANSWERED = 5.0
"""Seconds without an answer after which whoever has it is taken for gone."""
REOPENS_FIRST, REOPENS_LAST = 0.5, 15.0
"""Seconds after which a broker that is gone is reached again: at first, and, doubled each time, at last."""
_TOLD = ("rumble", "lamp", "tone", "text", "show")


class Lender:
    """One surface of a desk, at `topic` of a broker. `allowed` are those who may take it; nobody named is everybody. `note` gets a
    line for all that a person wants to know. Raises OSError where nothing can be started."""

    def __init__(
        self,
        loop: Loop,
        desk: Compiled,
        name: str,
        topic: str,
        broker: tuple[str, Mapping[str, Any]],
        allowed: Collection[str],
        note: Callable[[str], None],
    ) -> None:
        short_turns()  # the broker's line has a thread of its own
        self._loop = loop
        self._surface: Surface = desk.plan.surfaces[name]
        self._name = name
        self.topic = topic
        self._broker = broker
        self._folder = Path(desk.folder)
        self._allowed = frozenset(allowed)
        self._says = note
        self._session = secrets.token_hex(8)
        self._kernel = self._surface.names
        self._offer: Offer | None = None
        self._turning: frozenset[str] = frozenset()
        self._line: MqttLine | None = None
        self._lending: Lending | None = None
        self._taker = ""
        self._late = 0
        self._answered = -inf
        self._pause = REOPENS_FIRST
        self._closed = False
        self._reached: deque[MqttLine | str] = deque()
        self._came: deque[tuple[str, bytes]] = deque(maxlen=4000)
        self._wake_read, self._wake_write = os.pipe2(os.O_NONBLOCK | os.O_CLOEXEC)
        loop.add(self._wake_read, self._look)
        self._timer = loop.timer(self._tell)
        self._reopening = loop.timer(lambda now: self._open())
        self._surfaces = Surfaces(
            DeskRegistry(desk, wanted=(name,)), loop, self._feed, lambda raw: None, note, raw=True,
            bound_motion=frozenset({name}), otherwise_here=self._is_far,
        )  # fmt: skip
        self._surfaces.lend()
        tables = {LINKED: {name: linked_entry(desk, name)}, "mqtt": desk.tables.get("mqtt", {})}
        self._far = FarSurfaces(loop, {name: self._surface}, tables, desk.folder, self._feed, note)
        self._far.linked.a_device = lambda surface: bool(self._surfaces.present(surface))

    def _is_far(self, surface: str) -> bool:
        return self._far.linked.present(surface)

    def _note(self, text: str) -> None:
        self._says(f"{self._name}: {text}")

    def start(self) -> None:
        """Looks for it, and offers it."""
        self._surfaces.start()
        self._open()

    # --- The broker ---

    def _open(self) -> None:
        """Reaches the broker, beside the loop: it may take its time."""
        threading.Thread(target=self._reach, daemon=True).start()

    def _reach(self) -> None:
        name, entry = self._broker
        will = (f"{self.topic}/offer", b"", True)
        try:
            line = MqttLine(name, entry, self._folder, self._wake, will, self._hear)
            line.subscribe(f"{self.topic}/by/+")
        except Away as why:
            self._reached.append(str(why))
        else:
            self._reached.append(line)
        self._wake()

    def _take_line(self, found: MqttLine | str) -> None:
        """The broker is there, or why it is not."""
        if self._closed and isinstance(found, MqttLine):
            found.close()
        elif isinstance(found, MqttLine):
            if self._pause > REOPENS_FIRST:
                self._note(f"`{self._broker[0]}` is back")
            self._line, self._pause = found, REOPENS_FIRST
            self._publish_offer()
        elif not self._closed:
            if self._pause == REOPENS_FIRST:
                self._note(found)
            self._reopening.set_in(self._pause)
            self._pause = min(REOPENS_LAST, self._pause * 2)

    def _wake(self) -> None:
        with contextlib.suppress(OSError):  # a full pipe wakes it anyway
            os.write(self._wake_write, b".")

    def _hear(self, topic: str, payload: bytes) -> None:
        self._came.append((topic, payload))

    def _look(self) -> None:
        with contextlib.suppress(BlockingIOError):
            os.read(self._wake_read, 4096)
        while self._reached:
            self._take_line(self._reached.popleft())
        while self._came:
            topic, payload = self._came.popleft()
            try:
                data = msgspec.json.decode(payload)
            except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
                continue
            if isinstance(data, dict):
                self._heard(topic.rpartition("/")[2], data)
        if self._line is not None and self._line.gone:
            self._lose_line()

    def _lose_line(self) -> None:
        line, self._line = self._line, None
        if line is not None:
            line.close()
        self._note(f"`{self._broker[0]}` is gone")
        self._give_back("")
        self._reopening.set_in(self._pause)

    def _publish(self, where: str, what: Any, sure: bool = False, keep: bool = False) -> None:
        if self._line is None:
            return
        try:
            self._line.publish(
                f"{self.topic}/{where}", msgspec.json.encode(what) if what is not None else b"", sure, keep
            )
        except Away:
            self._loop.soon(self._look)

    # --- What is here ---

    def _feed(self, changes: Sequence[Change]) -> None:
        told = []
        for t, address, value in changes:
            if address in (PLUG, UNPLUG):
                self._here_or_gone(address == PLUG)
            elif address not in OUTSIDE:
                control, _, part = address.partition(".")[2].partition(".")
                kernel = self._kernel.get(control, control)
                if self._offer is not None and kernel in self._offer.sorts:
                    told.append((t, f"{kernel}.{part}" if part else kernel, value))
        if told and self._lending is not None and self._offer is not None:
            now = time.monotonic()
            self._lending.put(now, told, self._turning)
            self._tell(now)

    def _here_or_gone(self, here: bool) -> None:
        before = self._offer
        sorts = {} if not here else self._sorts()
        self._offer = Offer(self._session, self._title(), self._surface.kind, sorts) if sorts else None
        if self._offer == before:
            return
        if self._offer is None:
            self._give_back("it is gone")
        self._session = secrets.token_hex(8)  # whoever has it takes it anew
        if self._offer is not None:
            self._offer = msgspec.structs.replace(self._offer, session=self._session)
        self._turning = turning(sorts)
        self._publish_offer()

    def _sorts(self) -> dict[str, str]:
        found: dict[str, str] = {}
        for surface, controls in self._surfaces.present(self._name):
            found |= {control: (surface.shape(surface.own_name(control)) or BUTTON).name for control in controls}
        for said in self._far.linked.said(self._name):
            found |= {control: str(one.get("sort", "button")) for control, one in (said.get("controls") or {}).items()}
        for control, shape in self._surface.shapes.items():
            found.setdefault(control, shape.name)
        if self._surface.kind == "midi":
            found = {
                control: shape_of(control).name for control in KINDS["midi"] if not control.endswith("-pressure")
            } | found
        return sorts_of(found)

    def _title(self) -> str:
        said = self._far.linked.said(self._name)
        return str(said[0].get("title", self._name)) if said else self._surfaces.called(self._name) or self._name

    def _publish_offer(self) -> None:
        self._publish("offer", self._offer.as_data() if self._offer is not None else None, sure=True, keep=True)

    # --- Who has it ---

    def _heard(self, who: str, data: dict[str, Any]) -> None:
        session = data.get("session")
        if data.get("leave") is True and who == self._taker:
            self._give_back("given back")
        elif data.get("take") is True and isinstance(session, str) and len(session) < 100:
            self._taken(who, session)
        elif who == self._taker and self._lending is not None and session == self._lending.session:
            self._answered = time.monotonic()
            upto, told = data.get("ack"), data.get("do")
            if isinstance(upto, int):
                self._lending.arrived(upto)
            late = data.get("late")
            if isinstance(late, int) and self._late < late < 1 << 31:
                self._late = late
                self._note(f"{who}: {late} press{'es' if late != 1 else ''} came too late there, and began nothing")
            if isinstance(told, list) and told and isinstance(told[0], str):
                self._do(told[0], told[1:])

    def _taken(self, who: str, session: str) -> None:
        refused = ""
        if self._allowed and who not in self._allowed:
            refused = f"it is not lent to {who}"
        elif self._taker not in ("", who):
            refused = f"{self._taker} has it"
        elif self._offer is None:
            return
        if refused:
            self._publish(f"for/{who}", {"session": session, "refused": refused})
            return
        if self._taker != who:
            self._note(f"taken by {who}")
            self._surfaces.take_back()
        self._taker, self._late = who, 0
        self._lending = Lending(session)
        self._answered = now = time.monotonic()
        self._tell(now)

    def _give_back(self, why: str) -> None:
        """Nobody has it any more."""
        if not self._taker:
            return
        self._timer.set(inf)
        self._lending = None
        if why:
            self._note(f"{self._taker}: {why}" if why != "it is gone" else why)
        self._taker = ""
        self._far.all_out()
        self._surfaces.lend()

    def _do(self, act: str, values: list[Any]) -> None:
        """A lamp, or whatever its taker wants of it."""
        if act == "rest":
            self._far.all_out()
        elif act in _TOLD and _plain(act, values):
            self._far.send([(time.monotonic(), "feedback", act, self._name, *values)])

    def _tell(self, now: float) -> None:
        if self._lending is None:
            return
        if self._lending.waits and now > self._answered + UNANSWERED:
            self._give_back("says nothing any more")
            return
        self._publish(f"for/{self._taker}", self._lending.packet(now))
        if self._lending is not None:
            self._timer.set(self._lending.due)

    def close(self) -> None:
        """It is lent no more."""
        self._closed = True
        if self._lending is not None:
            now = time.monotonic()
            self._lending.release_all(now)
            self._tell(now)
        self._offer = None
        self._publish_offer()
        self._give_back("")
        self._timer.set(inf)
        self._reopening.set(inf)
        if self._line is not None:
            self._line.close()
        self._surfaces.close()
        self._far.close()
        self._loop.remove(self._wake_read)


def _plain(act: str, values: list[Any]) -> bool:
    """Whether these are values of such an act."""
    match act, values:
        case (("rumble" | "tone"), [level, seconds]):
            return _number(level, 0, 20000) and _number(seconds, 0.001, 10)
        case "lamp", [name, to]:
            return isinstance(name, str) and isinstance(to, str) and len(name) < 50 and len(to) < 10
        case "show", [name, at]:
            return isinstance(name, str) and len(name) < 50 and _number(at, 0, 1)
        case "text", [text]:
            return isinstance(text, str) and len(text) <= 100
    return False


def _number(value: Any, least: float, most: float) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and least <= value <= most
