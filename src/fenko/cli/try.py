"""`fenko try`: the desk live, with its outputs shown instead of sent; or caught by a window, to see what arrives."""

from __future__ import annotations

import contextlib
import select
import sys
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import ExitStack, closing
from math import inf
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fenko.cli.live_desk import changes_of, opener, play_options, say_why_not, start
from fenko.cli.shared import (
    bold,
    colour,
    desk_option,
    dim,
    fail,
    format_option,
    goes_with,
    note,
    open_desk,
    say,
    say_json,
)
from fenko.cli.timeline import Actions, Flow, Moment, describe, moment_lines, table_head
from fenko.core.arrival import Arrivals, column_titles
from fenko.core.changes import Change, Effect
from fenko.core.circumstances import Focus
from fenko.core.effects import effect_fields
from fenko.core.keys import format_key
from fenko.core.phrase import Phrase
from fenko.core.seen import KeyView
from fenko.desk.load import Desk

if TYPE_CHECKING:
    from fenko.live.session import Session
    from fenko.system.keywindow import KeyWindow
    from fenko.system.talking import Doorway

_OPENS_WITHIN = 3.0  # s
_DRAWS = 0.03  # s in which nothing arrives; then what has is drawn, all at once
_HELD = 0.05  # s; what comes up sooner was a stroke


@click.command()
@desk_option
@format_option("text", "jsonl")
@click.option("--app", metavar="ID", help="Behave as if this program were in front, whatever is.")
@click.option("--title", metavar="TEXT", default="", help="With --app: the title of its window.")
@click.option("--window", is_flag=True, help="Send for real into a small window, and show what arrives there.")
@play_options
def command(
    desk_folder: Path | None,
    form: str,
    app: str | None,
    title: str,
    window: bool,
    take_path: Path | None,
    play_focus: bool,
) -> None:
    """Try the desk live: what it would send is shown instead of sent, with profile, layer and binding.

    Devices are left to other programs meanwhile. With --window a small window takes the keys for real: what was sent
    and did not arrive there is kept by the desktop. Say with --app which program it stands for.
    """
    goes_with("--app", app is not None, title=title)
    desk = open_desk(desk_folder)
    changes = changes_of(desk, take_path, play_focus)
    focus = Focus(app, title) if app is not None else Focus() if window or play_focus else None
    if window and form != "text":
        raise click.UsageError("--window shows text, and --format does not go with it")
    sys.exit(_in_window(desk, changes, focus or Focus()) if window else _shown(desk, changes, focus, form))


class Spoken:
    """Effects in words, keys as a person calls them: `ctrl+shift+b`, and what a hand had held for a while and lifts."""

    def __init__(self) -> None:
        self._view = KeyView()
        self._since: dict[str, float] = {}

    def __call__(self, effects: Iterable[Effect]) -> str:
        return "  ".join(self._words(list(effects)))

    def _words(self, effects: list[Effect]) -> Iterator[str]:
        keys = ("down", "up", "type")
        sent = [effect for effect in effects if effect[1] in ("keys", "pointer") and effect[2] in keys]
        shown = [str(Phrase((step,))) for step in self._view.see(sent)]
        lifted = [format_key(effect[3]) for effect in sent if effect[2] == "up" and self._was_held(effect)]
        self._since.update((effect[3], effect[0]) for effect in sent if effect[2] == "down")
        yield from shown
        if lifted:
            yield dim(f"lifts {'+'.join(reversed(lifted))}")
        for effect in effects:
            if effect not in sent:
                yield describe([effect])

    def _was_held(self, effect: Effect) -> bool:
        return bool(effect[0] - self._since.pop(effect[3], effect[0]) >= _HELD)


_REST = 0.15
"""Seconds in which nothing moves; then it is told how far it went."""


def _shown(desk: Desk, changes: list[Change] | None, focus: Focus | None, form: str) -> int:
    from fenko.live.loop import Loop
    from fenko.live.wiring import ears
    from fenko.outputs.listing import ListingPort

    begun = time.monotonic()
    actions, words, flow = Actions(), Spoken(), Flow()

    def tell(moments: Iterable[Moment]) -> None:
        for moment in moments:
            for line in moment_lines(moment, begun, words):
                say(line)

    def show(effects: Sequence[Effect]) -> None:
        if form == "jsonl":
            for t, *rest in effects:
                say_json(effect_fields((t - begun, *rest)))
            return
        for moment in actions.moments(effects):
            tell(flow.add(moment))
        if flow.waits:
            pause.set_in(_REST)

    with ExitStack() as stack:
        loop = stack.enter_context(Loop())
        pause = loop.timer(lambda now: tell(flow.end()))
        note("output: none; what would be sent is shown")
        if form == "text":
            say(table_head())
        start(
            desk,
            loop,
            stack,
            lambda desk, open_now: [] if open_now else [ListingPort(show), *ears(desk, note)],
            changes,
            True,
            focus,
            actions.report,
            listens=True,
            keeps=False,
            door=stack.enter_context(_door()),
        )
        loop.run()
    tell(flow.end())
    tell(actions.before(inf) if form == "text" else ())
    note("ended; nothing was sent")
    return 0


@contextlib.contextmanager
def _door() -> Iterator[Doorway | None]:
    """Where `fenko legend`, `status` and `set` find this desk; None where another one of this person runs, or nobody could come in."""
    from fenko.system.talking import Doorway, Taken

    try:
        door = Doorway()
    except (Taken, OSError) as why:
        note(f"`fenko status`, `legend` and `set` do not find this desk: {why}")
        yield None
        return
    with closing(door):
        yield door


def _in_window(desk: Desk, changes: list[Change] | None, focus: Focus) -> int:
    from fenko.drawing.lines import page_of_lines
    from fenko.drawing.painter import pixels
    from fenko.live.guard import Guard
    from fenko.live.loop import Loop
    from fenko.outputs.port import PortError
    from fenko.system.keywindow import HEIGHT, WIDTH, KeyWindow
    from fenko.system.session import DisplayError, display_name
    from fenko.system.xkb import X_KEYCODE_OFFSET, character_of

    if not display_name():
        fail("--window needs an X server, and DISPLAY is not set")
    with ExitStack() as stack:
        loop = stack.enter_context(Loop())
        guard = stack.enter_context(closing(Guard()))
        try:
            window = stack.enter_context(closing(KeyWindow("fenko try: what arrives here")))
        except DisplayError as why:
            fail(str(why))
        arrivals = Arrivals()
        running: list[Session] = []
        head = column_titles()
        shown = [f"This window stands for {focus.app or 'no program in particular'}. Ctrl-C ends.", "", head]

        def tell(lines: list[str]) -> None:
            for line in lines:
                say(_coloured(line))
            if lines:
                shown.extend(lines)
                picture.set_in(_DRAWS)
            timer.set(arrivals.due)

        def readable() -> None:
            try:
                while (keys := window.read()) is not None:
                    for key in keys:
                        names = [character_of(key.plain), character_of(key.shifted)]
                        tell(arrivals.arrived(key.keycode - X_KEYCODE_OFFSET, names, key.modifiers))
            except DisplayError:
                loop.stop()
                return
            if window.closed:
                loop.stop()
            elif running:
                _keep_to_window(running[0], window)

        def overdue(now: float) -> None:
            tell(arrivals.overdue(now))

        def draw(now: float = 0.0) -> None:
            try:
                window.show(pixels(page_of_lines(shown, WIDTH, HEIGHT, "LOST"), 1.0))
            except DisplayError:
                loop.stop()
            else:
                readable()  # what came while the picture was sent

        timer = loop.timer(overdue)
        picture = loop.timer(draw)
        loop.add(window.fd, readable)

        def sent(effects: Sequence[Effect]) -> None:
            arrivals.sent(effects, time.monotonic())
            timer.set(arrivals.due)

        _wait_until_in_front(window, readable)
        draw()
        say(bold(head))
        try:
            door = stack.enter_context(_door())
            choose = opener(guard.page, far=False)
            running.append(
                start(desk, loop, stack, choose, changes, False, focus, told=sent, listens=True, keeps=False, door=door)
            )
        except PortError as error:
            say_why_not(error)
            return 1
        loop.run()
        readable()
        tell(arrivals.overdue(inf))
    if arrivals.lost:
        note(
            f"{arrivals.lost} of {arrivals.count} did not arrive: the desktop keeps them, or the layout makes something else"
        )
        return 1
    note(f"all {arrivals.count} arrived; everything is released")
    return 0


def _wait_until_in_front(window: KeyWindow, readable: Callable[[], None]) -> None:
    """Keys that are sent before the window is in front would go to somebody else."""
    end = time.monotonic() + _OPENS_WITHIN
    while not window.in_front and time.monotonic() < end:
        select.select([window.fd], [], [], 0.1)
        readable()
    if not window.in_front:
        note("the window is not in front; click on it, for keys go to whatever is")


def _keep_to_window(session: Session, window: KeyWindow) -> None:
    """Sends nothing while another window is in front: it would be typed there."""
    if session.held_back == window.in_front:
        session.hold_back(not window.in_front)
        note(
            "the window is in front again"
            if window.in_front
            else "the window is not in front any more; nothing is sent until you click on it"
        )


def _coloured(line: str) -> str:
    return colour(line, "bright_red") if line.endswith("LOST") else line
