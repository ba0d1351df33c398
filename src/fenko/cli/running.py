"""The desk that runs, as the commands see it that talk to it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from fenko.cli.shared import fail
from fenko.client import NobodyThere, Refused, RunningDesk


@contextmanager
def running_desk() -> Iterator[RunningDesk]:
    """The desk that runs; ends with what is wrong if there is none, or if it refuses."""
    try:
        with RunningDesk() as desk:
            yield desk
    except (NobodyThere, Refused) as why:
        fail(str(why))
