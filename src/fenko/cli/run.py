"""`fenko run`: the desk at work."""

from __future__ import annotations

import sys
from contextlib import ExitStack, closing
from pathlib import Path

import click

from fenko.cli.live_desk import changes_of, opener, play_options, say_why_not, start
from fenko.cli.shared import desk_option, note, open_desk
from fenko.core.changes import Change
from fenko.core.plan import Focus
from fenko.desk.load import Desk


@click.command()
@desk_option
@play_options
def command(desk_folder: Path | None, take_path: Path | None, play_focus: bool) -> None:
    """Run the desk: surfaces in, shortcuts out, until Ctrl-C.

    Says which surfaces, output and profile are on, and whatever changes. At the end, and whenever a surface goes
    away, everything that was down is lifted. The signal USR1 has the desk read again, between two events; one with a
    mistake changes nothing. To see what would be sent without sending it, `fenko try`.
    """
    desk = open_desk(desk_folder)
    changes = changes_of(desk, take_path, play_focus)
    if not desk.plan.surfaces:
        note("this desk has no surfaces yet; there is nothing to listen to")
    sys.exit(_run(desk, changes, play_focus))


def _run(desk: Desk, changes: list[Change] | None, play_focus: bool) -> int:
    from fenko.live.guard import Guard
    from fenko.live.loop import Loop
    from fenko.outputs.port import PortError
    from fenko.system.xserver import display_name

    with ExitStack() as stack:
        # First of all: from here on Ctrl-C ends the loop, and never breaks into the middle of something.
        loop = stack.enter_context(Loop())
        # Before the display is opened: the guard shall hold nothing but the page.
        guard = stack.enter_context(closing(Guard())) if display_name() else None

        try:
            choose = opener(desk, guard.page if guard else None)
            focus = Focus() if play_focus else None
            start(desk, loop, stack, choose, changes, share=False, focus=focus, listens=True)
        except PortError as error:
            say_why_not(error)
            return 1
        loop.run()
    note("ended; everything is released")
    return 0
