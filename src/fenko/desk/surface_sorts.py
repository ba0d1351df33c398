"""Of which sort a control can be, where its name leaves that open."""

from __future__ import annotations

import re

from fenko.core.controls import BEND, BUTTON, DIAL, FADER, PLAIN_SORTS, RING, SORTS, TRIGGER

_AMOUNT = re.compile(r"(ch\d+-)?(cc|nrpn)-.*")
_AXIS = re.compile(r"axis-\d+")


def can_be(kind: str, control: str) -> list[str]:
    """The sorts that such a control can be of besides the one that its name says: what a kernel axis without a name is, what
    stands behind a MIDI controller, anything on a board."""
    if kind == "board":
        return [*PLAIN_SORTS]
    if kind == "midi":
        amounts = (DIAL, FADER, TRIGGER, BUTTON, RING, BEND)
        return [shape.name for shape in amounts] if _AMOUNT.fullmatch(control) else []
    return [name for name, shape in SORTS.items() if shape.axes.keys() == {""}] if _AXIS.fullmatch(control) else []
