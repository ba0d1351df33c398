"""`fenko trust`: what of a desk starts programs, opens things, sends requests or moves machines, and whether you agree to it."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from fenko.cli.shared import bold, colour, desk_option, dim, fail, format_option, note, open_desk, say, show_json
from fenko.core.words import reason
from fenko.desk.trust import Agreement, Risk, risks


@click.command()
@desk_option
@click.option("--yes", is_flag=True, help="Agree without being asked.")
@click.option("--withdraw", is_flag=True, help="Agree to nothing of this desk any more.")
@format_option("text", "json")
def command(desk_folder: Path | None, yes: bool, withdraw: bool, form: str) -> None:
    """Show what a desk does that somebody else's desk should not do unseen, and agree to it.

    Steps that start programs, open things or send requests, or move machines, are not done before. A desk that changes one of them asks again
    for that one. With --format json nothing is asked. The exit status is 1 if something is not agreed to.
    """
    if yes and withdraw:
        raise click.UsageError("--yes and --withdraw are opposites")
    desk = open_desk(desk_folder)
    found = risks(desk)
    agreement = Agreement(str(desk.folder))
    if withdraw:
        _agree(agreement, [])
        note("Nothing of this desk is agreed to any more.")
        return
    agreed = [agreement.holds(risk.what) for risk in found]
    if form == "json":
        show_json([
            {"what": risk.what, "where": desk.sources.where(risk.where), "agreed": good}
            for risk, good in zip(found, agreed, strict=True)
        ])  # fmt: skip
        sys.exit(not all(agreed))
    if not found:
        note("This desk starts no program, opens nothing, sends no request and moves no machine.")
        return
    for risk, good in zip(found, agreed, strict=True):
        mark = colour("agreed", "green") if good else colour("new   ", "yellow")
        say(f"{mark}  {bold(risk.what)}  {dim(desk.sources.where(risk.where))}")
    if all(agreed):
        note("You have agreed to all of it; `fenko trust --withdraw` takes that back.")
        return
    if not yes and not (sys.stdin.isatty() and click.confirm("Shall this desk do these things?", err=True)):
        note("Nothing is agreed to; the rest of the desk works without it.")
        sys.exit(1)
    _agree(agreement, found)
    note("Agreed. A running desk does them from now on.")


def _agree(agreement: Agreement, found: list[Risk]) -> None:
    try:
        agreement.agree(risk.what for risk in found)
    except OSError as why:
        fail(f"{why.filename or 'the agreement'} cannot be written: {reason(why)}")
