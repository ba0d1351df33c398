"""`fenko rehearse`: what a take, played through a desk, would send."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import click
import msgspec

from fenko.cli.shared import desk_option, fail, format_option, open_desk, say
from fenko.core.effects import effect_fields
from fenko.core.rehearsal import rehearse
from fenko.desk.compiled import showing_of
from fenko.devices.take import TakeError, read_take

_WORTH_A_BAR = 2_000_000  # bytes


@click.command()
@click.argument("take", type=click.Path(path_type=Path))
@desk_option
@format_option("table", "jsonl")
def command(take: Path, desk_folder: Path | None, form: str) -> None:
    """Play a take through a desk, in no time and the same each time, and print the timeline.

    TAKE is a file of JSON lines; see docs/takes.md. With --format jsonl there is one line an effect.
    """
    desk = open_desk(desk_folder)
    size = take.stat().st_size if take.is_file() else 0
    with _progress(size * 2, "Rehearsing") as tell:
        try:
            changes = read_take(take, desk.plan.surfaces, tell).changes
        except TakeError as error:
            fail(str(error), 2)
        per_change = size / max(1, len(changes))

        def played(done: int) -> None:
            tell(int(done * per_change))

        if form == "jsonl":
            encoder = msgspec.json.Encoder()
            lines = [
                encoder.encode(effect_fields(effect)).decode()
                for effects in rehearse(desk.plan, changes, None, played, showing_of(desk.plan, desk.links))
                for effect in effects
            ]
        else:
            from fenko.cli.timeline import table_lines

            lines = list(table_lines(desk.plan, changes, played, showing_of(desk.plan, desk.links)))
    if lines:
        say("\n".join(lines))


def _nobody(done: int) -> None:
    """Told how far things are, and shows it to no one."""


@contextmanager
def _progress(length: int, label: str) -> Iterator[Callable[[int], None]]:
    """A bar on stderr, shown on a terminal only and for takes that are worth one."""
    stream = sys.stderr
    if length < _WORTH_A_BAR or not stream.isatty():
        yield _nobody
        return
    with click.progressbar(length=length, label=label, file=stream) as bar:

        def tell(done: int) -> None:
            bar.update(done)

        yield tell
