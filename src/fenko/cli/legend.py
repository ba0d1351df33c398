"""`fenko legend`: what each control does now, where it sits."""

from __future__ import annotations

import contextlib
import os
import select
import sys
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import click
from msgspec import structs

from fenko.cli.fullscreen import FullScreen
from fenko.cli.running import running_desk
from fenko.cli.shared import bold, dim, fail_unknown, format_option, open_desk, say, show_json, tinted, visible_width
from fenko.cli.sheet import COLOURS, description_of, mentioned
from fenko.client import NobodyThere, RunningDesk
from fenko.core.descriptions import Description
from fenko.core.plan import Surface
from fenko.core.stack import Stack
from fenko.desk.descriptions import Catalogue
from fenko.desk.load import Desk, load_desk
from fenko.desk.meanings import Meaning, meanings, pressed_controls, stack_with, together
from fenko.desk.problems import DeskError
from fenko.drawing import terminal
from fenko.drawing.labels import Label, labels

_LOOKS = 0.5  # seconds after which another size of the terminal is seen at the latest
_APART = 3  # columns between two plans
_UNBOUND = "bright_black"


@click.command()
@click.argument("surfaces", nargs=-1, metavar="[SURFACE]...")
@format_option("text", "json")
def command(surfaces: tuple[str, ...], form: str) -> None:
    """Show what each control of the running desk does now, where it sits, and change with its profile and layers.

    On a terminal it stays until q or Ctrl-C, and lights up what is pressed; Tab shows the next surface first. Elsewhere, and with
    json, it is printed once. Without SURFACE all that are plugged in are shown, or all if none is.
    """
    with running_desk() as running:
        legend = _Legend(running)
        for name in surfaces:
            if name not in legend.desk.plan.surfaces:
                fail_unknown(f"the desk has no surface `{name}`", name, legend.desk.plan.surfaces)
        status = running.status()
        if form == "json":
            show_json(legend.data(status, surfaces))
        elif not sys.stdout.isatty():
            for line in legend.lines(status, surfaces, 100, 0, 0):
                say(line)
        else:
            _View(legend, surfaces).run()


class _View:
    """A terminal that shows the legend until somebody has seen enough, also of desks that end and are started again."""

    def __init__(self, legend: _Legend, surfaces: tuple[str, ...]) -> None:
        self._legend = legend
        self._surfaces = surfaces
        self._first = 0
        self._resized = True
        self._status: dict[str, Any] = {}

    def run(self) -> None:
        """Shows it."""
        with contextlib.suppress(KeyboardInterrupt), FullScreen(self._resize) as screen:
            while True:
                try:
                    with RunningDesk() as running:
                        self._legend.use(running)
                        if self._follow(running, screen):
                            return
                except NobodyThere:
                    screen.draw(["no desk is running; it is shown again when one does", "", dim("q ends this")])
                    if self._ends(select.select([sys.stdin], [], [], 1.0)[0]):
                        return

    def _resize(self) -> None:
        self._resized = True

    def _follow(self, running: RunningDesk, screen: FullScreen) -> bool:
        """Draws again with each change; True when that is enough."""
        with contextlib.closing(running.listen("status")) as told:
            while True:
                at_once = self._resized or told.heard
                ready = select.select([told, sys.stdin], [], [], 0 if at_once else _LOOKS)[0]
                heard = told.heard or told in ready
                if heard:
                    self._status = told.told()
                if self._ends(ready):
                    return True
                if self._status and (heard or self._resized or sys.stdin in ready):
                    self._resized = False
                    columns, rows = screen.size()
                    screen.draw(self._legend.lines(self._status, self._surfaces, columns, rows, self._first)[:rows])

    def _ends(self, ready: list[Any]) -> bool:
        """Takes what is typed; whether that is the end."""
        typed = os.read(sys.stdin.fileno(), 16) if sys.stdin in ready else b"-"
        self._first += typed.count(b"\t")
        return not typed or b"q" in typed or b"\x03" in typed


class _Legend:
    """What is shown: the desk as its files say it, and what the running one says of itself."""

    def __init__(self, running: RunningDesk) -> None:
        self._folder = Path(running.given)
        self.desk: Desk = open_desk(self._folder)
        self._version = ""
        self._plans: dict[str, tuple[Description, list[Label]]] = {}

    def use(self, running: RunningDesk) -> None:
        """Another desk may run now."""
        if Path(running.given) != self._folder:
            self._folder, self._version = Path(running.given), ""

    def _keep_up(self, version: str) -> None:
        """The files as they are in force; while they have errors, what they said before is."""
        if version != self._version:
            with contextlib.suppress(DeskError):
                self.desk = load_desk(self._folder)
                self._version = version
                self._plans.clear()

    def _shown(self, status: Mapping[str, Any], wanted: tuple[str, ...]) -> list[Surface]:
        own = self.desk.plan.surfaces
        there = [name for name, one in status["surfaces"].items() if one["there"] and name in own]
        return [own[name] for name in wanted or there or own if name in own]

    def _plan(self, surface: Surface) -> tuple[Description, list[Label]]:
        """Where the controls of a surface sit, which stays as long as the files do."""
        known = self._plans.get(surface.name)
        if known is None:
            described = description_of(self.desk, surface, Catalogue.usual(self.desk.folder))
            description = described.laid_out(mentioned(self.desk, surface))
            known = self._plans[surface.name] = (description, labels(description, surface))
        return known

    def _meanings(self, status: Mapping[str, Any], stack: Stack, surface: Surface) -> Iterator[tuple[Label, Meaning]]:
        _, found = self._plan(surface)
        names = [surface.own_name(label.spot.control) for label in found]
        return zip(found, meanings(stack, surface, names, status["states"]), strict=True)

    def data(self, status: dict[str, Any], wanted: tuple[str, ...]) -> dict[str, Any]:
        """The same as plain data."""
        self._keep_up(status["version"])
        stack = self._stack(status)
        return {
            "profile": status["profile"], "layers": status["layers"], "paused": status["paused"],
            "surfaces": {
                surface.name: [structs.asdict(meaning) for _, meaning in self._meanings(status, stack, surface)]
                for surface in self._shown(status, wanted)
            },
        }  # fmt: skip

    def lines(self, status: dict[str, Any], wanted: tuple[str, ...], columns: int, rows: int, first: int) -> list[str]:
        """The lines of the whole, as many surfaces beside one another as there is room for, `first` before the others."""
        self._keep_up(status["version"])
        layers = f", {' and '.join(status['layers'])}" if status["layers"] else ""
        paused = dim("   paused: other programs have the surfaces") if status["paused"] else ""
        head = f"{bold(status['profile'] + layers)}   {dim(_in_front(status))}{paused}"
        surfaces = self._shown(status, wanted)
        turned = surfaces[first % len(surfaces) :] + surfaces[: first % len(surfaces)] if surfaces else []
        stack = self._stack(status)
        blocks = [self._block(status, stack, surface, columns) for surface in turned]
        found = [head, ""]
        while blocks:
            across = 1
            while (
                across < len(blocks)
                and sum(_wide(block) + _APART for block in blocks[: across + 1]) <= columns + _APART
            ):
                across += 1
            found += _beside(blocks[:across])
            found.append("")
            blocks = blocks[across:]
        if rows and len(found) > rows:
            found = [
                *found[: rows - 1],
                dim("more below: Tab shows another surface first, or make the terminal larger"),
            ]
        return found

    def _block(self, status: Mapping[str, Any], stack: Stack, surface: Surface, columns: int) -> list[str]:
        """The plan of one surface, with what its controls do; a list of them where there is no room for it."""
        pressed = pressed_controls(status["pressed"], surface)
        by_label: dict[int, Meaning] = {}
        shown = []
        for label, meaning in self._meanings(status, stack, surface):
            title = " ".join(filter(None, (meaning.icon, meaning.title or label.title)))
            small = meaning.more if meaning.title or meaning.more else ()
            one = structs.replace(label, title=title, small=small, whole=True)
            by_label[id(one)] = meaning
            shown.append(one)

        def style(text: str, label: Label) -> str:
            meaning = by_label[id(label)]
            bound = bool(meaning.title or meaning.more)
            return tinted(
                text, meaning.colour or (COLOURS[label.sort] if bound else _UNBOUND), meaning.control in pressed
            )

        description, _ = self._plan(surface)
        lines = terminal.draw(shown, description.body, columns, style) if shown else []
        if lines is None:
            lines = [style(one.title, one) for one in shown if by_label[id(one)].level]
        more = [f"{names}: {title}" for names, title in together(stack, surface)]
        return [bold(surface.name), *lines, *(dim(line) for line in more)]

    def _stack(self, status: Mapping[str, Any]) -> Stack:
        profile = status["profile"] if status["profile"] in self.desk.plan.profiles else "base"
        return stack_with(self.desk.plan, profile, status["layers"])


def _in_front(status: Mapping[str, Any]) -> str:
    window = status["in front"]
    name = window["app"] or window["program"]
    return "by hand" if status["by"] == "hand" else f"in front is {name}" if name else ""


def _wide(block: list[str]) -> int:
    return max(map(visible_width, block))


def _beside(blocks: list[list[str]]) -> list[str]:
    """Blocks side by side."""
    high = max(map(len, blocks))
    found = []
    for number in range(high):
        line = ""
        for block in blocks:
            text = block[number] if number < len(block) else ""
            line += text + " " * (_wide(block) + _APART - visible_width(text))
        found.append(line.rstrip())
    return found
