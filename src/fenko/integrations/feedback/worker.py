"""A surface at work: every way by which it can be there is kept open, what it says goes to the desk, and what comes back to it is
told to whichever is there."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from math import inf
from pathlib import Path
from typing import Any

from fenko.core.changes import Effect
from fenko.core.flow import Flow
from fenko.core.lazy import load_named
from fenko.core.links import has_transport, kind_of
from fenko.core.remedies import Remedy
from fenko.workers.transport import Way
from fenko.workers.worker import FIRST_PAUSE, Away, Desk, Worker

_KEPT = ("lamp", "show", "text")
"""Acts after which something is so until another one of the same kind."""


def make_way(link: str, *more: Any) -> Way:
    """The way that a link means; only now its module is loaded."""
    made: Way = load_named(kind_of(link)[0].transport)(link, *more)
    return made


class Kept:
    """A way and how it stands: open or not, when it is tried again, and whom the desk believes to be there."""

    def __init__(self, surface: str, way: Way, desk: Desk) -> None:
        self.way = way
        self._surface = surface
        self._desk = desk
        self._open = False
        self.woken = False
        self._try_at = 0.0
        self._pause = FIRST_PAUSE
        self._here: dict[str, Any] | None = None
        self._flow = Flow()
        self._said = ""
        self._summed = 0
        self._left_out = 0

    def go_on(self, now: float, wanted: Mapping[tuple[str, ...], tuple[Any, ...]]) -> float:
        """Hears it, and opens it again if it is away; when to do so next. A surface that has come is told what is `wanted`."""
        try:
            if not self._open:
                if now < self._try_at and not self.woken:
                    return self._try_at
                self.woken = False
                self.way.open()
                self._open = True
                now = time.monotonic()
            self.woken = False
            return self._listen(now, wanted)
        except Away as why:
            return self.lose(now, str(why))

    def _listen(self, now: float, wanted: Mapping[tuple[str, ...], tuple[Any, ...]]) -> float:
        way = self.way
        changes = way.hear(now)
        if way.left_out != self._left_out:
            self._left_out = way.left_out
            self._desk.fact(self._surface, {"left out": way.left_out})
        if self._here is not None and way.what is self._here:
            told = [*self._flow.pass_time(now), *self._flow.put(now, changes)]
            if told:
                self._desk.changes(self._surface, told)
            if way.until is not None:
                self._desk.until(self._surface, way.until)
            if self._flow.summed and not self._summed:
                self._desk.note(
                    f"surface {self._surface}: it says more than any hand can; what is too much is summed up ({way.link})"
                )
            self._summed = self._flow.summed
        elif way.what is not self._here:
            self._tell(way.what)
            if way.what is not None:
                self._pause, self._said = FIRST_PAUSE, ""
                for (act, *_), values in wanted.items():
                    way.do(act, values)
        return min(way.due, self._flow.due)

    def _tell(self, what: dict[str, Any] | None) -> None:
        self._here = what
        self._flow = Flow(self.way.turning)
        self._summed = 0
        self._desk.here(self._surface, self.way.link, what)

    def do(self, act: str, values: tuple[Any, ...]) -> None:
        """Tells it something, if it is there."""
        if self._open and (self._here is not None or self.way.link == ""):
            try:
                self.way.do(act, values)
            except Away as why:
                self.lose(time.monotonic(), str(why))

    def lose(self, now: float, why: str) -> float:
        """It is away: when it is tried again."""
        self.close()
        if why != self._said:
            self._said = why
            self._desk.note(f"surface {self._surface}: {why}")
        self._try_at = now + self._pause
        self._pause = min(self.way.longest_pause, self._pause * 2)
        return self._try_at

    def close(self) -> None:
        """Nobody is there any more."""
        self._open = False
        self.way.close()
        if self._here is not None:
            self._tell(None)


class SurfaceWorker(Worker):
    """One surface of a desk."""

    def __init__(self, tables: Mapping[str, Any], folder: Path, desk: Desk) -> None:
        super().__init__(tables, folder, desk)
        ((self._name, entry),) = tables["linked"].items()
        links = list(entry["links"])
        far = [link for link in links if has_transport(link)]
        entry = {**entry, "mqtt brokers": tables.get("mqtt") or {}, "folder": folder, "surface": self._name}
        self._kept = [self._made(link, entry) for link in far]
        if len(far) < len(links):
            self._kept.append(self._made("", entry))
        self.eager = bool(far)
        self._wanted: dict[tuple[str, ...], tuple[Any, ...]] = {}
        self._opens = False

    def _made(self, link: str, entry: Mapping[str, Any]) -> Kept:
        def wake() -> None:
            kept.woken = True
            self.wake()

        kept = Kept(self._name, make_way(link, entry, wake, self._note), self.desk)
        return kept

    def _note(self, text: str) -> None:
        self.desk.note(f"surface {self._name}: {text}")

    def open(self) -> None:
        """From now on it is looked for."""
        self._opens = True

    def send(self, effects: Sequence[Effect]) -> None:
        """Tells the surface things."""
        self._go_on()
        for _, _, act, _, *values in effects:
            if act in _KEPT:
                key = (act, str(values[0])) if act != "text" else (act,)
                self._wanted.pop(key, None)
                if not (act == "lamp" and values[1] == "off"):
                    self._wanted[key] = tuple(values)
            for kept in self._kept:
                kept.do(act, tuple(values))

    def watch(self) -> float | None:
        """Hears what has come, and opens what is away."""
        due = self._go_on()
        return None if due == inf else max(0.0, due - time.monotonic())

    def _go_on(self) -> float:
        if not self._opens:
            return inf
        now = time.monotonic()
        return min((kept.go_on(now, self._wanted) for kept in self._kept), default=inf)

    def release(self) -> None:
        """Whatever it was told ends: lamps go out, nothing rumbles."""
        self._wanted.clear()
        for kept in self._kept:
            kept.way.dark()

    def close(self) -> None:
        """The same, and every way is closed."""
        self.release()
        self._opens = False
        for kept in self._kept:
            kept.close()
            kept.way.end()


def ready(tables: Mapping[str, Any], folder: Path) -> list[tuple[bool, str, str | Remedy]]:
    """How things stand with the links of the desk's surfaces that are no kernel devices."""
    return [
        load_named(kind.ready)(surface, rest, tables)
        for surface, entry in (tables.get("surface") or {}).items()
        for kind, rest in map(kind_of, entry.get("links") or ())
        if kind.ready
    ]
