"""`fenko pause`: the running desk rests."""

from __future__ import annotations

import click

from fenko.cli.running import running_desk
from fenko.cli.shared import note


@click.command()
def command() -> None:
    """Have the running desk rest: everything is lifted, and other programs have its surfaces.

    `fenko resume` has it go on, and so does a control that is bound to `pause`."""
    with running_desk() as desk:
        desk.pause()
    note("paused: other programs have the surfaces")
