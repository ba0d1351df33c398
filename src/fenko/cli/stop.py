"""`fenko stop`: the running desk ends."""

from __future__ import annotations

import click

from fenko.cli.running import running_desk
from fenko.cli.shared import note


@click.command()
def command() -> None:
    """End the running desk, and wait until everything is released."""
    with running_desk() as desk:
        desk.stop()
    note("ended; everything is released")
