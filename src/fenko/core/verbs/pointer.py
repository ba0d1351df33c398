"""The pointer: moves and scrolling that a mouse of the desk hands on."""

from __future__ import annotations

from fenko.core.registration import Act

VERBS = ()
ACTS = (
    # Pixels; y grows downwards.
    Act(
        "pointer",
        "move",
        ("dx", "dy"),
        lambda dx, dy: f"move {dx:g} {dy:g}",
        "pixels, downwards positive",
        queues="summed",
    ),
    # Lines, to the right and downwards.
    Act(
        "pointer",
        "scroll",
        ("dx", "dy"),
        lambda dx, dy: f"scroll {dx:g} {dy:g}",
        "lines, to the right and downwards positive",
        queues="summed",
    ),
)
HELD = ()
