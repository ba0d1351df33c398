"""`fenko watch`: every control of the surfaces, live."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Sequence
from contextlib import ExitStack
from itertools import groupby, zip_longest
from math import inf
from pathlib import Path
from typing import TypeVar

import click
from click.core import ParameterSource

from fenko.cli.fullscreen import FullScreen
from fenko.cli.shared import (
    bold,
    colour,
    desk_option,
    dim,
    fail,
    fail_unknown,
    format_option,
    goes_with,
    note,
    say,
    say_json,
    usual_desk,
)
from fenko.cli.timeline import clip
from fenko.core.board import FRESH, Board, Row
from fenko.core.changes import FOCUS, PLUG, Change
from fenko.core.circumstances import Focus
from fenko.core.controls import THRESHOLDS
from fenko.core.links import LinkedDevice, linked_device, linked_devices
from fenko.core.plan import Plan
from fenko.core.stack import stack_of
from fenko.core.words import reason, width
from fenko.desk.compiled import compiled
from fenko.desk.descriptions import Catalogue
from fenko.desk.load import Desk
from fenko.devices.recorder import TakeWriter, take_line
from fenko.live.far_surfaces import FarSurfaces, if_heard, of_desk, of_things
from fenko.live.loop import Loop
from fenko.live.registry import DeskRegistry, EveryThing
from fenko.live.surfaces import Surfaces

T = TypeVar("T")
_REDRAW_EVERY = 0.05  # s
_CELL = 58  # columns that one control wants
_NAME = 18
_BAR = 8


@click.command()
@click.argument("surfaces", nargs=-1)
@desk_option
@format_option("text", "jsonl")
@click.option(
    "--link", "links", multiple=True, metavar="LINK",
    help="A board too, `serial DEVICE` or `tcp HOST:PORT`, or `midi PORT`, whatever your desk has. MIDI controllers are found.",
)  # fmt: skip
@click.option("--take", "take_path", metavar="FILE", type=click.Path(path_type=Path), help="Record it as a take.")
@click.option("--name", metavar="TEXT", default="", help="With --take: what the take is called.")
@click.option("--note", "take_note", metavar="TEXT", help="With --take: anything worth knowing about it.")
def command(
    surfaces: tuple[str, ...],
    desk_folder: Path | None,
    form: str,
    links: tuple[str, ...],
    take_path: Path | None,
    name: str,
    take_note: str | None,
) -> None:
    """Watch every control of the surfaces as it moves: pressed or not, how far, which way, how fast.

    With a desk, its surfaces, their names and what they mean for the program in front; without one, everything that
    is plugged in, except ordinary keyboards that you do not name. On a terminal a picture of them all (q ends it); else
    a line for each change.
    """
    goes_with("--take", take_path is not None, name=name, note=take_note)
    source = click.get_current_context().get_parameter_source("desk_folder")
    if links and source is ParameterSource.COMMANDLINE:
        raise click.UsageError("--link is for things that no desk knows; the desk of --desk has their links.")
    desk = None if links else usual_desk(desk_folder)
    things = _things(links)
    if desk is not None:
        for unknown in [surface for surface in surfaces if surface not in desk.plan.surfaces]:
            fail_unknown(f"the desk has no surface `{unknown}`", unknown, desk.plan.surfaces)
    with ExitStack() as stack:
        loop = stack.enter_context(Loop())
        full = form == "text" and sys.stdout.isatty()
        watcher = _Watcher(loop, desk, surfaces, things, form, full, stack)
        if take_path is not None:
            watcher.record(take_path, name or take_path.stem, take_note, stack)
        if full:
            watcher.use_screen(stack)
        loop.run()
    if take_path is not None:
        note(
            f"{watcher.recorded} changes are in {take_path}"
            + (", and then it could not be written" if watcher.failed else "")
        )
        sys.exit(1 if watcher.failed else 0)


def _things(links: Sequence[str]) -> list[LinkedDevice]:
    """Those that a person names."""
    try:
        return [linked_device(link) for link in links]
    except ValueError as why:
        raise click.BadParameter(str(why), param_hint="--link") from None


class _Watcher:
    """Wires devices, focus, recorder and picture together."""

    def __init__(
        self,
        loop: Loop,
        desk: Desk | None,
        wanted: tuple[str, ...],
        things: Sequence[LinkedDevice],
        form: str,
        full: bool,
        stack: ExitStack,
    ) -> None:
        self._loop = loop
        self._form = form
        self._full = full
        self._start = time.monotonic()
        self._board = Board()
        self._plan: Plan | None = desk.plan if desk else None
        self._in_front(Focus())
        self._writer: TakeWriter | None = None
        self.recorded = 0
        self.failed = False
        self._last_line = "nothing has moved yet"
        self._screen: FullScreen | None = None
        self._timer = loop.timer(self._draw)
        self._drawn_at = -inf
        self._kinds: dict[str, str] = {}
        registry = DeskRegistry(desk, share=True, wanted=wanted) if desk else EveryThing(Catalogue.usual(), wanted)
        self._surfaces = Surfaces(registry, loop, self._feed, lambda raw: None, self._say, raw=True)
        stack.callback(self._surfaces.close)
        self._far = self._far_surfaces(desk, wanted, things)
        if self._far is not None:
            stack.callback(self._far.close)
            self._far.learned = self._learn
        if self._plan is not None:
            self._follow_focus(stack)
        self._surfaces.start()
        if self._far is None:
            self._say_if_nothing(wanted)

    def _far_surfaces(
        self, desk: Desk | None, wanted: tuple[str, ...], things: Sequence[LinkedDevice]
    ) -> FarSurfaces | None:
        """What is no kernel device: of a desk what it names; else every MIDI controller, and what a person names."""
        if desk is not None:
            return if_heard(lambda: of_desk(self._loop, compiled(desk), wanted, self._feed, self._say), self._say)
        found = [*things, *(thing for thing in linked_devices(unasked=True) if not wanted or thing.slug in wanted)]
        return if_heard(lambda: of_things(self._loop, found, self._feed, self._say), self._say)

    def _say_if_nothing(self, wanted: Sequence[str]) -> None:
        missing = [surface for surface in wanted if surface not in self._kinds]
        if missing and self._plan is None:
            self._say(f"not here yet: {', '.join(missing)}")
        elif not self._kinds:
            self._say("nothing is plugged in that could be watched; plug something in, or press Ctrl-C")

    def record(self, path: Path, name: str, text: str | None, stack: ExitStack) -> None:
        """Records everything from now on, until the end of `stack`."""
        try:
            writer = TakeWriter(path, name, text, self._kinds, self._start)
        except FileExistsError:
            fail(f"{path} is already there; nothing was written", 2)
        except OSError as why:
            fail(f"{path} cannot be written: {reason(why)}")
        stack.callback(writer.close)
        self._writer = writer
        if self._plan is not None and self._focus != Focus():
            self._record((self._start, FOCUS, self._focus))

    def _follow_focus(self, stack: ExitStack) -> None:
        from fenko.focus.opening import open_front
        from fenko.system.session import DisplayError

        try:
            source = open_front()
            stack.callback(source.close)
            self._in_front(source.current())
        except DisplayError:
            return  # without a display the base profile says what the controls mean

        def readable() -> None:
            try:
                while (focus := source.read()) is not None:
                    if focus != self._focus:
                        self._in_front(focus)
                        self._feed([(time.monotonic(), FOCUS, focus)])
            except DisplayError:
                self._loop.remove(source.fd)

        self._loop.add(source.fd, readable)

    def _in_front(self, focus: Focus) -> None:
        self._focus = focus
        self._profile = self._plan.profiles[self._plan.for_window(focus)] if self._plan else None

    # --- What comes ---

    def _feed(self, changes: Sequence[Change]) -> None:
        for change in changes:
            if change[1] == PLUG:
                self._learn(change[2])
            if self._writer is not None:
                self._record(change)
            change = self._conditioned(change)
            self._board.see(change)
            if not self._full:
                self._print(change)
        self._redraw_soon()

    def _conditioned(self, change: Change) -> Change:
        name, _, control = change[1].partition(".")
        if self._far is None or name not in self._far.surfaces or not control:
            return self._surfaces.inputs.conditioned(change)
        if not self._board.knows(change[1]):
            self._board.add(
                self._far.surfaces[name], [control.partition(".")[0]]
            )  # it says nothing of itself before it is used
        return self._far.inputs.conditioned(change)

    def _record(self, change: Change) -> None:
        assert self._writer is not None
        try:
            self._writer.add(change)
            self.recorded += 1
        except OSError as why:
            self._writer = None
            self.failed = True
            self._say(f"recording ended here: {reason(why)}")

    def _learn(self, name: str) -> None:
        for surface, controls in self._surfaces.present(name):
            self._kinds[surface.name] = surface.kind
            self._board.add(surface, controls)
        if self._far is not None and name in self._far.surfaces:
            surface = self._far.surfaces[name]
            self._kinds[name] = surface.kind
            said = {control for one in self._far.linked.said(name) for control in one.get("controls") or ()}
            self._board.add(surface, [*surface.shapes, *sorted(said - surface.shapes.keys())])

    def _print(self, change: Change) -> None:
        if self._form == "jsonl":
            raw = self._surfaces.raw(change[1])
            say_json(take_line(change, self._start) | ({"raw": raw} if raw else {}))
            return
        t, address, value = change
        row = self._board.row(address, t)
        if row is not None:
            meaning = self._meaning(row)
            words = f"{t - self._start:9.3f}  {row.surface} {row.control}"
            say(f"{words:<40}  {row.words:<28}  {self._surfaces.raw(address):<10}  {dim(meaning)}".rstrip())
        elif isinstance(value, Focus):
            say(f"{t - self._start:9.3f}  in front: {value.app} {value.title}")

    def _say(self, line: str) -> None:
        if self._full:
            self._last_line = line.partition("\n")[0]
            self._redraw_soon()
        else:
            note(line)

    def _meaning(self, row: Row) -> str:
        """What the bindings of a control do in the profile that the focus asks for."""
        if self._plan is None or self._profile is None:
            return ""
        address = f"{row.surface}.{row.control}"
        stack = stack_of(self._plan, self._profile.name)
        shape = self._plan.surfaces[row.surface].shape(row.control)
        parts = shape.cells if shape and shape.cells else ("",)
        pushed = [f"{part}.{far}".lstrip(".") for part in parts for far in THRESHOLDS] if shape and shape.axes else []
        found = []
        for part in (*parts, *pushed):
            cell = stack.cell(f"{address}.{part}" if part else address)
            for gesture, binding in cell.gestures() if cell else ():
                which = " ".join(word for word in (part, "" if gesture == "press" else gesture) if word)
                found.append(f"{which}: {binding.title}" if which else binding.title)
        return "; ".join(found)

    # --- The picture ---

    def use_screen(self, stack: ExitStack) -> None:
        """Takes the terminal over."""
        self._screen = stack.enter_context(FullScreen(self._redraw_soon))
        if sys.stdin.isatty():
            self._loop.add(sys.stdin.fileno(), self._key)
        self._draw(time.monotonic())

    def _key(self) -> None:
        if os.read(sys.stdin.fileno(), 1) in (b"q", b"Q", b"\x04", b""):
            self._loop.stop()

    def _redraw_soon(self) -> None:
        if self._screen is not None:
            self._timer.set(self._drawn_at + _REDRAW_EVERY)

    def _draw(self, now: float) -> None:
        assert self._screen is not None
        self._drawn_at = now
        columns, lines = self._screen.size()
        rows = self._board.rows(now)
        head = [bold("fenko watch") + "   " + clip(self._situation(rows), max(1, columns - 14)), ""]
        foot = ["", dim(clip(self._footer(), columns))]
        self._screen.draw([*head, *self._body(rows, columns, lines - len(head) - len(foot), now), *foot])
        if any(row.moved_at is not None and now - row.moved_at < FRESH for row in rows):
            self._timer.set(now + FRESH)  # once more, so that what stood out steps back

    def _situation(self, rows: list[Row]) -> str:
        surfaces = ", ".join(dict.fromkeys(row.surface for row in rows)) or "no surfaces"
        recording = f"recording, {self.recorded} changes   " if self._writer else ""
        front = ""
        if self._profile is not None:
            front = f"   in front {self._focus.app or 'nothing'}, profile {self._profile.name}"
        return f"{recording}{surfaces}{front}"

    def _footer(self) -> str:
        return f"{self._last_line}   ·   q or Ctrl-C ends"

    def _body(self, rows: list[Row], columns: int, lines: int, now: float) -> list[str]:
        """All controls in columns; where they do not all fit, those around the one that moved last."""
        blocks: list[list[str | Row]] = [
            [surface, *group] for surface, group in groupby(rows, key=lambda row: row.surface)
        ]
        across = max(1, columns // (_CELL + 2))
        stacks = _stacked(blocks, across, lines)
        more = ""
        if stacks is None:
            flat = [cell for block in blocks for cell in block]
            high = max(1, lines - 1)
            first = max(0, min(self._latest(rows) - high // 2, len(flat) - across * high))
            shown = flat[first : first + across * high]
            stacks = [shown[at : at + high] for at in range(0, len(shown), high)]
            if len(flat) > len(shown):
                more = f"… {len(flat) - len(shown)} more; a larger terminal shows them all"
        room = (columns - 2 * (len(stacks) - 1)) // max(1, len(stacks))
        drawn = [
            [self._title(cell, room) if isinstance(cell, str) else self._cell(cell, room, now) for cell in stack]
            for stack in stacks
        ]
        body = ["  ".join(cells) for cells in zip_longest(*drawn, fillvalue=" " * room)]
        return body + ([dim(clip(more, columns))] if more else [])

    @staticmethod
    def _latest(rows: list[Row]) -> int:
        """The line, counting one for each surface's title, of the control that moved last."""
        latest, moved, line, surface = 0, -inf, -1, None
        for row in rows:
            line += 1 if row.surface == surface else 2
            surface = row.surface
            if row.moved_at is not None and row.moved_at > moved:
                moved, latest = row.moved_at, line
        return latest

    def _title(self, surface: str, room: int) -> str:
        kind = f" ({self._kinds.get(surface, '')})" + (" gone" if self._board.gone(surface) else "")
        return bold(surface) + dim(kind) + " " * max(0, room - width(surface) - width(kind))

    def _cell(self, row: Row, room: int, now: float) -> str:
        fresh = row.moved_at is not None and now - row.moved_at < FRESH
        filled = round((row.share or 0.0) * _BAR)
        bar = "█" * filled + "·" * (_BAR - filled) if row.share is not None else " " * _BAR
        raw = "/".join(text for address in row.inputs if (text := self._surfaces.raw(address)))
        words = "  ".join(text for text in (row.words, raw, self._meaning(row)) if text)
        text = f"{clip(row.control, _NAME):<{_NAME}} {bar} {words}"
        text = clip(text, room)
        text += " " * (room - width(text))
        if row.active:
            return colour(bold(text), "bright_cyan") if fresh else bold(text)
        return colour(text, "bright_cyan") if fresh else text if row.moved_at is not None else dim(text)


def _stacked(blocks: list[list[T]], across: int, lines: int) -> list[list[T]] | None:
    """The blocks in at most `across` columns, none of them broken; None if they do not fit."""
    stacks: list[list[T]] = [[]]
    for block in blocks:
        if stacks[-1] and len(stacks[-1]) + len(block) > lines:
            stacks.append([])
        stacks[-1].extend(block)
    return stacks if len(stacks) <= across and all(len(stack) <= lines for stack in stacks) else None
