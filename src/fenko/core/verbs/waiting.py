"""Waiting between two steps."""

from __future__ import annotations

from fenko.core import steps
from fenko.core.registration import Argument, Said, Verb
from fenko.core.verbs.keys import read_time
from fenko.core.words import format_time


class Wait(Said, frozen=True):
    """A pause of `seconds` before the next step."""

    seconds: float


TIME = Argument("TIME", read_time, format_time, (0.001, 0.02, 0.05, 0.4))

VERBS = (
    Verb(
        "wait",
        Wait,
        (TIME,),
        lambda said: (steps.Wait(said.seconds),),
        "wait 200ms",
        "waits before the next step; times are `200ms` or `1.5s`",
    ),
)
ACTS = ()
HELD = ()
