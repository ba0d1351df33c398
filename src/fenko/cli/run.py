"""`fenko run`: the desk at work."""

from __future__ import annotations

import sys
import time
from collections.abc import Sequence
from contextlib import ExitStack, closing
from pathlib import Path

import click

from fenko.cli.shared import desk_option, fail, note, open_desk, say
from fenko.core.changes import FOCUS, Change, Effect
from fenko.desk.load import Desk
from fenko.devices.take import TakeError, read_take


@click.command()
@desk_option
@click.option("--dry", is_flag=True, help="Print what would be sent, and send nothing; devices stay shared.")
@click.option(
    "--play",
    "take_path",
    metavar="TAKE",
    type=click.Path(path_type=Path),
    help="Play a take in its own time in place of the devices, then end.",
)
@click.option("--play-focus", is_flag=True, help="With --play: take the focus from the take too.")
def command(desk_folder: Path | None, dry: bool, take_path: Path | None, play_focus: bool) -> None:
    """Run the desk: surfaces in, shortcuts out, until Ctrl-C.

    Says which surfaces, output and profile are on, and whatever changes. At the end, and whenever a surface goes
    away, everything that was down is lifted.
    """
    if play_focus and take_path is None:
        raise click.UsageError("--play-focus goes with --play TAKE")
    desk = open_desk(desk_folder)
    changes: list[Change] | None = None
    if take_path is not None:
        try:
            changes = read_take(take_path, desk.plan.surfaces).changes
        except TakeError as error:
            fail(str(error), 2)
        if not play_focus:
            changes = [change for change in changes if change[1] != FOCUS]
    if not desk.plan.surfaces:
        note("this desk has no surfaces yet; there is nothing to listen to")
    sys.exit(_run(desk, dry, changes, play_focus))


def _run(desk: Desk, dry: bool, changes: list[Change] | None, play_focus: bool) -> int:
    from fenko.cli.timeline import Actions, moment_lines, table_head
    from fenko.live.guard import Guard
    from fenko.live.loop import Loop
    from fenko.live.session import Session
    from fenko.live.wiring import Output, choose_output
    from fenko.outputs.keys import OutputError
    from fenko.outputs.listing import ListingOutput
    from fenko.system.xserver import display_name

    start = time.monotonic()
    actions = Actions()

    def show(effects: Sequence[Effect]) -> None:
        for moment in actions.moments(effects):
            for line in moment_lines(moment, start):
                say(line)

    with ExitStack() as stack:
        # First of all: from here on Ctrl-C ends the loop, and never breaks into the middle of something.
        loop = stack.enter_context(Loop())
        # Before the display is opened: the guard shall hold nothing but the ledger.
        guard = stack.enter_context(closing(Guard())) if display_name() and not dry else None

        def choose() -> tuple[Output, str]:
            if dry:
                return ListingOutput(show), "and what would be sent is printed"
            choice = choose_output(desk.keys, desk.layout, note, guard.ledger if guard else None)
            return choice.output, choice.why

        try:
            output, why = choose()
        except OutputError as error:
            note(f"fenko: {error}")
            for line in (
                ["To allow it for good:", *(f"    {command}" for command in error.remedy.commands())]
                if error.remedy.writes
                else []
            ):
                note(line)
            return 1
        note(f"output: {output.name}, {why}")
        session = Session(desk, loop, output, lambda: choose()[0], note, actions.report if dry else None)
        stack.callback(session.close)
        session.listen_to_output()
        if not play_focus:
            session.use_focus()
        if changes is None:
            session.use_devices(share=dry)
        else:
            session.play(changes)
        note(f"profile: {session.engine.profile.name}; {desk.name} is running, Ctrl-C ends it")
        if dry:
            say(table_head())
        loop.run()
    note("ended; everything is released")
    return 0
