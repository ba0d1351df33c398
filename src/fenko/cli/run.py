"""`fenko run`: the desk at work."""

from __future__ import annotations

import sys
import time
from contextlib import ExitStack, closing, suppress
from pathlib import Path
from typing import TYPE_CHECKING

import click

from fenko.cli.live_desk import changes_of, opener, play_options, say_why_not, start
from fenko.cli.messages import Messages
from fenko.cli.shared import desk_option, note, open_desk
from fenko.core.changes import Change
from fenko.core.circumstances import Focus
from fenko.core.words import reason
from fenko.desk.load import Desk

if TYPE_CHECKING:
    from fenko.live.loop import Loop
    from fenko.live.session import Session
    from fenko.system.supervised import Failures, Supervisor
    from fenko.system.talking import Taken


SIGN_OF_LIFE = 10.0
"""Seconds from one sign of life to the next, at most."""


@click.command()
@desk_option
@play_options
def command(desk_folder: Path | None, take_path: Path | None, play_focus: bool) -> None:
    """Run the desk: surfaces in, shortcuts out, until Ctrl-C.

    Says which surfaces, output and profile are on, and whatever changes. At the end, and whenever a surface goes
    away, everything that was down is lifted. Files of the desk that change are read again, between two events; with a
    mistake nothing changes. A person has one desk: `fenko status`, `switch`, `pause`, `reload` and `stop` talk to it. To see what
    would be sent without sending it, `fenko try`.
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
    from fenko.system.session import shown_name
    from fenko.system.supervised import Failures, Supervisor
    from fenko.system.talking import Doorway, Taken, private_folder, private_runtime

    messages = Messages(note)
    with closing(messages), ExitStack() as stack:
        supervisor = stack.enter_context(closing(Supervisor()))
        failures = None
        if supervisor:
            with suppress(OSError):
                # Of a folder that others can reach nothing is believed, and nothing is written into it.
                private_folder(private_runtime())
                failures = Failures(private_runtime() / "failures")
        if failures is not None and failures.before:
            time.sleep(failures.pause)  # nothing is held yet, and nobody waits; a signal ends it
        try:
            door = stack.enter_context(closing(Doorway()))
        except Taken as other:
            _say_which(other)
            return 1
        except OSError as why:
            note(f"other programs cannot talk to this desk: {reason(why)}")
            door = None
        # First of all: from here on Ctrl-C ends the loop, and never breaks into the middle of something.
        loop = stack.enter_context(Loop())
        # Before the display is opened: the guard shall hold nothing but the page.
        guard = stack.enter_context(closing(Guard())) if shown_name() else None

        try:
            choose = opener(guard.page if guard else None, note=messages.put)
            focus = Focus() if play_focus else None
            session = start(
                desk, loop, stack, choose, changes, False, focus, listens=True, door=door, note=messages.put
            )
        except PortError as error:
            messages.close()
            say_why_not(error)
            return 1
        if failures is not None and failures.before:
            session.warn(
                f"the desk had failed ({failures.before} in a row) and is running again; what it held was lifted"
            )
        if supervisor:
            _give_signs_of_life(supervisor, failures, loop, session)
        loop.run()
        supervisor.tell(STOPPING=1)
        if failures is not None:
            failures.clear()
        stack.close()
        messages.put("ended; everything is released")
    return 0


def _give_signs_of_life(supervisor: Supervisor, failures: Failures | None, loop: Loop, session: Session) -> None:
    """Tells whoever keeps this running that it does; from within the loop, so that a loop that hangs is noticed."""
    every = min(supervisor.every or SIGN_OF_LIFE, SIGN_OF_LIFE)

    def tell(now: float) -> None:
        supervisor.tell(WATCHDOG=1, STATUS=f"profile {session.engine.profile.name}")
        if failures is not None:
            failures.alive()
        timer.set_in(every)

    timer = loop.timer(tell)
    supervisor.tell(READY=1)
    tell(0.0)


def _say_which(other: Taken) -> None:
    """Which desk runs already, and what can be done about it."""
    about, process = other.about, f"process {other.process}" if other.process else "in another process"
    if about is None:
        note(f"fenko: a desk of yours runs already, {process}, and does not answer")
        note(f"`kill {other.process}` ends it, and lifts what it holds" if other.process else "end it first")
        return
    since = time.strftime("%H:%M on %d %B", time.localtime(about["since"]))
    note(f"fenko: a desk of yours runs already: {about['desk']} ({about['folder']}), since {since}, {process}")
    note("`fenko status` says what it does; it reads its files again whenever they change; `fenko stop` ends it")
