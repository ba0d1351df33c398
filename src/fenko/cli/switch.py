"""`fenko switch`: another profile of the running desk."""

from __future__ import annotations

import click

from fenko.cli.running import running_desk
from fenko.cli.shared import say


@click.command()
@click.argument("profile", metavar="NAME|next|previous|auto")
def command(profile: str) -> None:
    """Put a profile of the running desk in force, or the next or previous one; with `auto` what is in front decides again.

    It stays until `auto`, or, if the desk says so in [focus], until another program comes in front. Prints the profile that is
    in force then.
    """
    with running_desk() as desk:
        say(desk.switch(profile))
