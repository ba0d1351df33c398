"""Trying settings in the desk that runs: they hold until a person keeps them, or for a while."""

from __future__ import annotations

import select
import sys
import time

from fenko.cli.shared import note
from fenko.core.words import format_time
from fenko.system.talking import Talk


def tried(talk: Talk, settings: dict[str, str], seconds: float) -> None:
    """Puts settings (TOML values) in force in the desk that runs. Raises Refused, NobodyThere."""
    next(talk.ask("set", settings=settings, **{"for": seconds}))


def kept(talk: Talk, what: str, seconds: float) -> bool:
    """Waits until a person says that they want it, or its time is over; whether they do."""
    note(f"{what} for {format_time(seconds)}; Enter keeps it, Ctrl-C takes it back")
    end = time.monotonic() + seconds + 1
    listening = [talk.fileno(), sys.stdin] if sys.stdin.isatty() else [talk.fileno()]
    try:
        while (left := end - time.monotonic()) > 0:
            ready, _, _ = select.select(listening, [], [], left)
            if sys.stdin in ready:
                return sys.stdin.readline() != ""
            if ready:
                return False
    except KeyboardInterrupt:
        note("")
    return False
