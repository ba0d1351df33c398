"""Trying settings in the desk that runs: they hold until a person keeps them, or for a while."""

from __future__ import annotations

import select
import sys
import time
from typing import Any

from fenko.cli.shared import note
from fenko.core.words import format_time
from fenko.system.talking import Talk


def tried(talk: Talk, settings: dict[str, str], seconds: float) -> None:
    """Puts settings (TOML values) in force in the desk that runs. Raises Refused, NobodyThere."""
    next(talk.ask("set", settings=settings, **{"for": seconds}))


def kept(talk: Talk, what: str, seconds: float, control: str = "") -> bool:
    """Waits until a person says that they want it, with Enter or by pressing a control, or its time is over; whether they
    do. Raises NobodyThere."""
    watching = Talk() if control else None
    if watching is not None:
        watching.send("values", follow=True)
    try:
        return _kept(talk, what, seconds, control, watching)
    finally:
        if watching is not None:
            watching.close()


def _kept(talk: Talk, what: str, seconds: float, control: str, watching: Talk | None) -> bool:
    ways = "Enter" + (f" or {control}" if control else "")
    end = time.monotonic() + seconds + 1
    listening: list[Any] = [talk, *([sys.stdin] if sys.stdin.isatty() else []), *([watching] if watching else [])]
    up = False  # a control that is down already has to come up first
    try:
        note(f"{what} for {format_time(seconds)}; {ways} keeps it, Ctrl-C takes it back")
        while (left := end - time.monotonic()) > 0:
            ready, _, _ = select.select(listening, [], [], left)
            if sys.stdin in ready:
                return sys.stdin.readline() != ""
            if talk in ready:
                return False
            for told in watching.arrived() if watching is not None and watching in ready else ():
                down = control in told.get("controls", {})
                if down and up:
                    return True
                up = up or not down
    except KeyboardInterrupt:
        note("")
    return False
