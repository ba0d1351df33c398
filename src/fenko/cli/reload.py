"""`fenko reload`: the running desk reads its files again."""

from __future__ import annotations

import click

from fenko.cli.running import running_desk
from fenko.cli.shared import note


@click.command()
def command() -> None:
    """Have the running desk read its files again.

    It does so by itself whenever one of them changes; this says what is wrong with them, if something is. Then the desk
    stays as it was."""
    with running_desk() as desk:
        changed = desk.reload()
    note("the desk is in force as its files are now" if changed else "nothing has changed")
