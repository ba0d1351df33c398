"""`fenko resume`: the running desk goes on."""

from __future__ import annotations

import click

from fenko.cli.running import running_desk
from fenko.cli.shared import note


@click.command()
def command() -> None:
    """Have the running desk go on after a pause."""
    with running_desk() as desk:
        desk.resume()
    note("running again")
