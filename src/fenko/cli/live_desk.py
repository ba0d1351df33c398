"""What `fenko run` and `fenko try` have in common: a desk wired to its devices, focus and an output, until it ends."""

from __future__ import annotations

import signal
from collections.abc import Callable, Collection, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from fenko.cli.shared import fail, note
from fenko.core.changes import FOCUS, KEYBOARD, MACHINES, RUNNING, Change, Effect
from fenko.core.circumstances import Focus
from fenko.core.plan import Report
from fenko.desk.compiled import Compiled, compiled
from fenko.desk.load import Desk
from fenko.devices.take import TakeError, read_take

if TYPE_CHECKING:
    from fenko.live.loop import Loop
    from fenko.live.session import OpenPorts, Session
    from fenko.outputs.port import Memory, Port
    from fenko.system.talking import Doorway

F = TypeVar("F", bound=Callable[..., Any])


def play_options(function: F) -> F:
    """`--play TAKE` and `--play-focus`."""
    with_focus = click.option(
        "--play-focus", is_flag=True, help="With --play: take the focus and the keyboard's modifiers from it too."
    )
    with_take = click.option(
        "--play",
        "take_path",
        metavar="TAKE",
        type=click.Path(path_type=Path),
        help="Play a take in its own time in place of the devices, then end.",
    )
    return with_take(with_focus(function))


def changes_of(desk: Desk, take_path: Path | None, play_focus: bool) -> list[Change] | None:
    """The changes of the take that is to be played; None if the devices are to be heard."""
    if take_path is None:
        if play_focus:
            raise click.UsageError("--play-focus goes with --play TAKE")
        return None
    try:
        changes = read_take(take_path, desk.plan.surfaces).changes
    except TakeError as error:
        fail(str(error), 2)
    return (
        changes
        if play_focus
        else [change for change in changes if change[1] not in (FOCUS, KEYBOARD, RUNNING, MACHINES)]
    )


def opener(page: Memory | None, far: bool = True, note: Callable[[str], None] = note) -> OpenPorts:
    """Opens the ports that a desk names, or that work here, and says which and why; without `far` none of workers. Raises
    PortError."""
    from fenko.live.wiring import Chosen, open_ports

    chosen = Chosen()

    def choose(desk: Compiled, open_now: Collection[str]) -> list[Port]:
        ports = open_ports(desk, note, page, open_now, far, chosen)
        for port in ports:
            note(f"output: {port.name}, {port.why}")
        return ports

    return choose


def start(
    desk: Desk,
    loop: Loop,
    stack: ExitStack,
    open_ports: OpenPorts,
    changes: list[Change] | None,
    share: bool,
    focus: Focus | None,
    report: Report | None = None,
    told: Callable[[Sequence[Effect]], None] | None = None,
    listens: bool = False,
    keeps: bool = True,
    door: Doorway | None = None,
    note: Callable[[str], None] = note,
) -> Session:
    """A session that is ready to run. `focus` None follows the window in front; with `share`, devices are left to other
    programs too; `told` hears of all that is sent; with `listens` other programs can talk to it through a `door`, and, where it `keeps`, it
    keeps its values for the next time, journals what is used, and sends nothing while the screen is locked. Raises PortError."""
    from fenko.live.session import Session

    session = Session(compiled(desk), loop, open_ports, note, report, told, share)
    stack.callback(session.close)
    loop.on_signal(signal.SIGUSR1, session.reload)
    loop.on_signal(signal.SIGTSTP, session.suspend)
    if focus is None:
        session.use("focus", "keyboard", "running")
    else:
        session.pretend_focus(focus)
    if changes is None:
        session.use("devices")
    else:
        session.play(changes)
    if listens:
        session.listen(door, keeps)  # before it says that it runs
    if listens and keeps:
        session.use("lock")
    session.watch_files()
    session.announce()
    return session


def say_why_not(error: Exception) -> None:
    """Why no keys can be sent, and what helps."""
    from fenko.outputs.port import PortError

    note(f"fenko: {error}")
    if isinstance(error, PortError) and error.remedy.writes:
        note("To allow it for good:")
        for command in error.remedy.commands():
            note(f"    {command}")
