"""`fenko legend`: what each control does now, where it sits."""

from __future__ import annotations

import contextlib
import select
import sys
from collections.abc import Mapping
from typing import Any

import click

from fenko.cli.fullscreen import FullScreen, ends, typed
from fenko.cli.running import running_desk
from fenko.cli.shared import (
    bold,
    dim,
    fail_unknown,
    format_option,
    note,
    say,
    show_json,
    show_problems,
    tinted,
    visible_width,
)
from fenko.cli.sheet import COLOURS
from fenko.client import NobodyThere, RunningDesk
from fenko.desk.problems import DeskError
from fenko.drawing import terminal
from fenko.drawing.labels import Label
from fenko.showing.legend import Legend, View, in_force, why

_LOOKS = 0.5  # seconds after which another size of the terminal is seen at the latest
_APART = 3  # columns between two plans
_UNBOUND = "bright_black"


@click.command()
@click.argument("surfaces", nargs=-1, metavar="[SURFACE]...")
@format_option("text", "json")
@click.option("--window", is_flag=True, help="In a small window that stays on top and never has the focus.")
@click.option("--web", is_flag=True, help="As a page for a browser, whose address is printed.")
@click.option(
    "--listen", metavar="ADDRESS", default="127.0.0.1", show_default=True, help="With --web: who may reach it."
)
@click.option(
    "--port", type=click.IntRange(0, 65535), default=47420, show_default=True, help="With --web; 0 takes a free one."
)
@click.option("--new-address", is_flag=True, help="With --web: the addresses given out so far no longer work.")
def command(
    surfaces: tuple[str, ...],
    form: str,
    window: bool,
    web: bool,
    listen: str,
    port: int,
    new_address: bool,
) -> None:
    """Show what each control of the running desk does now, where it sits, and change with its profile and layers.

    On a terminal it stays until q or Ctrl-C, and lights up what is pressed; Tab shows the next surface first. Elsewhere, and with
    json, it is printed once. Without SURFACE all that are plugged in are shown, or all if none is.

    The window of --window is moved by dragging, grows and shrinks with the wheel, and is closed with the right button; the phrase
    `show legend` shows it while a control is held. The page of --web also goes into a stream (`?background=transparent`), and
    with --listen to a tablet.
    """
    if sum((window, web, form != "text")) > 1:
        raise click.UsageError("--window, --web and --format do not go together.")
    if not web and (new_address or listen != "127.0.0.1" or port != 47420):
        raise click.UsageError("--listen, --port and --new-address go with --web.")
    with running_desk() as running:
        try:
            legend = Legend(running)
        except DeskError as error:
            show_problems(error.problems, err=True)
            sys.exit(2)
        for name in surfaces:
            if name not in legend.desk.plan.surfaces:
                fail_unknown(f"the desk has no surface `{name}`", name, legend.desk.plan.surfaces)
        if window:
            from fenko.showing.legend_window import LegendWindow

            sys.exit(LegendWindow(legend, surfaces, note).run())
        if web:
            from fenko.showing.legend_web import serve

            sys.exit(serve(legend, surfaces, listen, port, new_address, note, say))
        status = running.status()
        if form == "json":
            show_json(legend.data(status, surfaces))
        elif not sys.stdout.isatty():
            for line in lines(legend, status, surfaces, 100, 0, 0):
                say(line)
        else:
            _View(legend, surfaces).run()


class _View:
    """A terminal that shows the legend until somebody has seen enough, also of desks that end and are started again."""

    def __init__(self, legend: Legend, surfaces: tuple[str, ...]) -> None:
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
                ready = select.select([told, sys.stdin], [], [], 0 if self._resized else _LOOKS)[0]
                heard = told.arrived() if told in ready else []
                if heard:
                    self._status = heard[-1]
                if self._ends(ready):
                    return True
                if self._status and (heard or self._resized or sys.stdin in ready):
                    self._resized = False
                    columns, rows = screen.size()
                    screen.draw(lines(self._legend, self._status, self._surfaces, columns, rows, self._first)[:rows])

    def _ends(self, ready: list[Any]) -> bool:
        """Takes what is typed; whether that is the end."""
        keys = typed(ready)
        self._first += keys.count(b"\t")
        return ends(keys)


def lines(
    legend: Legend, status: Mapping[str, Any], wanted: tuple[str, ...], columns: int, rows: int, first: int
) -> list[str]:
    """The lines of the whole, as many surfaces beside one another as there is room for, `first` before the others."""
    views = legend.views(status, wanted)
    paused = dim("   paused: other programs have the surfaces") if status["paused"] else ""
    head = f"{bold(in_force(status))}   {dim(why(status))}{paused}"
    turned = views[first % len(views) :] + views[: first % len(views)] if views else []
    blocks = [_block(view, columns) for view in turned]
    found = [head, ""]
    while blocks:
        across = 1
        while across < len(blocks) and sum(_wide(block) + _APART for block in blocks[: across + 1]) <= columns + _APART:
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


def _block(view: View, columns: int) -> list[str]:
    """The plan of one surface, with what its controls do; a list of them where there is no room for it."""

    def style(text: str, label: Label) -> str:
        return tinted(text, label.colour or (COLOURS[label.sort] if label.bound else _UNBOUND), label.lit)

    labels = [one.label for one in view.shown]
    drawn = terminal.draw(labels, view.body, columns, style) if labels else []
    if drawn is None:
        drawn = [style(", ".join((one.spoken, *one.small)), one) for one in labels if one.bound]
    return [bold(view.name), *drawn, *(dim(line) for line in view.together)]


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
