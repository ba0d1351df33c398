"""The process of the workers: takes what a desk sends, hands it to the lanes, and ends everything with the desk."""

from __future__ import annotations

import os
import signal
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from fenko.core.changes import Effect
from fenko.core.lazy import load_named
from fenko.core.registration import Output
from fenko.core.verbs import OUTPUTS
from fenko.integrations import load
from fenko.outputs.messages import ActiveProgram, AtWork, Do, FromDesk, LeftOver, Note, Release, UseDesk
from fenko.system.parent_process import ParentProcess
from fenko.system.trouble import described
from fenko.system.turns import short_turns
from fenko.workers.lane import LAST_WORDS, Lane, Line, Telling
from fenko.workers.worker import Worker


class Host:
    """All lanes of a desk: one for each output, or for each of its ends where these have nothing to do with one another."""

    def __init__(self, parent: ParentProcess) -> None:
        self._parent = parent
        self._back = Line(parent)
        self._lanes: dict[tuple[str, str], Lane] = {}
        self._read: dict[tuple[str, str], dict[str, Any]] = {}
        self._ending: list[Lane] = []
        self._focus = ("", "")

    def run(self) -> None:
        """Takes what the desk sends until it is gone; then everything ends."""
        for message in self._parent.messages():
            try:
                self._take(message)
            except Exception as why:  # of one worker, or of somebody else's code; the others go on
                self._back.put(None, Note(f"unexpected error at `{type(message).__name__}`: {described(why)}"))
        _end([*self._lanes.values(), *self._ending])

    def _take(self, message: FromDesk) -> None:
        match message:
            case Do():
                for place, effects in _by_lane(message.typed()).items():
                    if place in self._lanes:
                        self._lanes[place].put(effects)
            case UseDesk(folder, outs, tables):
                self._use(folder, outs, tables)
            case ActiveProgram(app, program):
                self._focus = (app, program)
                self._each(lambda worker: worker.focus(app, program))
            case AtWork(at):
                self._each(lambda worker: worker.alive(at))
            case Release():
                for lane in self._lanes.values():
                    lane.release()
            case LeftOver(begun, left):
                of_lane = _by_lane(begun)
                for (out, end), lane in self._lanes.items():
                    effects, facts = of_lane.get((out, end), []), left.get(out) or {}
                    if effects or facts:
                        lane.take_over(effects, facts)

    def _each(self, what: Callable[[Worker], None]) -> None:
        """Does this with every worker; one that fails begins again by itself."""
        for lane in self._lanes.values():
            try:
                what(lane.worker)
            except Exception as why:  # reported by the lane
                lane.fail(why)

    def _use(self, folder: str, outs: list[str], tables: dict[str, Any]) -> None:
        """A desk: workers that would read the same as before stay."""
        wanted = {
            (out, end): _read_by(OUTPUTS[out], end, folder, tables)
            for out in outs
            if out in OUTPUTS
            for end in _ends_of(OUTPUTS[out], tables)
        }
        gone = {place: lane for place, lane in self._lanes.items() if self._read[place] != wanted.get(place)}
        for place, lane in gone.items():
            # Not waited for: others are at work. What takes its place waits for it in a thread of its own.
            lane.end()
            del self._lanes[place]
        self._ending = [lane for lane in (*self._ending, *gone.values()) if lane.at_work]
        for place, read in wanted.items():
            if place not in self._lanes:
                before = [lane for lane in gone.values() if lane.output.name == place[0]]
                self._start(place, read, before)

    def _start(self, place: tuple[str, str], read: dict[str, Any], before: Sequence[Lane]) -> None:
        output = OUTPUTS[place[0]]
        telling = Telling(output.name, self._back)
        try:
            worker: Worker = load_named(output.worker)(read, Path(read[FOLDER]), telling)
        except Exception as why:  # a library that is not there, or somebody else's code
            telling.note(f"{output.title} cannot be used: {described(why)}")
            return
        worker.focus(*self._focus)
        self._read[place] = read
        self._lanes[place] = Lane(output, worker, telling, before)


FOLDER = ""
"""Where, among the tables that a worker reads, the desk's folder stands; no table is called so."""


def _ends_of(output: Output, tables: Mapping[str, Any]) -> list[str]:
    """The ends of an output that have a lane each."""
    entries = tables.get(output.each) if output.each else None
    return list(entries) if isinstance(entries, dict) else [""] if not output.each else []


def _read_by(output: Output, end: str, folder: str, tables: Mapping[str, Any]) -> dict[str, Any]:
    """What of a desk a worker reads."""
    read = {FOLDER: folder} | {name: tables.get(name) for name in (*output.tables, *output.reads)}
    return read | {output.each: {end: tables[output.each][end]}} if output.each else read


def _by_lane(effects: Sequence[Effect]) -> dict[tuple[str, str], list[Effect]]:
    """Effects by the lane that does them."""
    found: dict[tuple[str, str], list[Effect]] = {}
    for effect in effects:
        output = OUTPUTS.get(effect[1])
        if output is not None:
            end = output.end(*effect[3:]) if output.each else ""
            found.setdefault((output.name, end), []).append(effect)
    return found


def _end(lanes: list[Lane]) -> None:
    until = time.monotonic() + LAST_WORDS
    for lane in lanes:
        lane.end()
    for lane in lanes:
        lane.join(max(0.0, until - time.monotonic()))


def run(parent: ParentProcess) -> None:
    """The whole process."""
    for number in (signal.SIGINT, signal.SIGHUP, signal.SIGTERM):
        # Not ignored, which programs that are started from here would inherit.
        signal.signal(number, lambda number, frame: None)
    short_turns()  # a press passes three threads on its way
    load()
    Host(parent).run()
    os._exit(0)  # threads that still wait for somebody are waited for no longer
