"""Describing a thing by pressing one control after the other: what was heard, and what it comes to.

A person walks along the rows of the thing. Between two rests everything that comes belongs to one control; what it was
follows from what was pressed, how often and how close together.
"""

from __future__ import annotations

import re

from msgspec import Struct, structs

from fenko.core.changes import Change
from fenko.core.controls import BUTTON, FADER, MOTION, PAD, TOUCH_AREA, names_another, shape_of
from fenko.core.descriptions import (
    BURST,
    DescribedControl,
    Description,
    burst_name,
    burst_of,
    default_form,
    default_size,
)
from fenko.core.words import slug_of

QUIET = 0.25
"""Seconds without a change after which a control at rest has said everything."""

_MEANT = 0.5  # how far an axis has to go to be meant
_PITCH = 19.0  # mm from key to key
_BY_ROWS = ("keypad", "keyboard", "macro-pad", "midi", "board", "other")


class Heard(Struct, frozen=True):
    """What one control sent: the controls that came, in order, or one of them several times."""

    controls: tuple[str, ...]
    times: int = 1

    @property
    def name(self) -> str:
        """The name that the control has by itself."""
        return burst_name(self.controls[-1], self.times)


class _Step(Struct):
    """One step of the walk: a control, an empty place (None), or the end of a row."""

    spot: DescribedControl | None = None
    ends_row: bool = False


class Describer:
    """Collects the controls of one thing. `usual` is what its kind looks like."""

    def __init__(self, usual: Description) -> None:
        self._usual = usual
        self._steps: list[_Step] = []
        self._go: list[tuple[float, str, float]] = []
        self._away: set[str] = set()
        self.pending: Heard | None = None

    # --- Listening ---

    def feed(self, change: Change) -> None:
        """A change of the thing has come."""
        t, address, value = change
        part = address.partition(".")[2]
        control = part.partition(".")[0]
        shape = shape_of(control)
        if not part or shape is MOTION or (shape is TOUCH_AREA and "." in part):
            return
        if not shape.turns and shape is not FADER:  # which rests where it is left
            (self._away.add if abs(value) >= _MEANT / 2 else self._away.discard)(part)
        self._go.append((t, control, value))

    def settle(self) -> bool:
        """Nothing has come for a while: notes what was heard. True if that is something new."""
        if self._away:
            return False
        go, self._go = self._go, []
        heard = _understand(go)
        if heard is None:
            return False
        if self.pending is not None:
            self.take("")
        self.pending = heard
        return True

    # --- What the person says ---

    def same_as(self) -> DescribedControl | None:
        """The control that has been described already and sends just what was heard now."""
        if self.pending is None:
            return None
        return next((spot for spot in self.spots if _sent(spot) == (self.pending.controls, self.pending.times)), None)

    def take(self, text: str) -> DescribedControl:
        """Keeps what was heard, under the name or the print that the person gives; an empty text keeps the usual name.

        Raises ValueError if another control has that name."""
        heard = self.pending
        assert heard is not None
        name, printed = self._name(text)
        taken = self._taken()
        if name in taken:
            raise ValueError(f"`{name}` is already a name here")
        same = self.same_as()
        control, sends = heard.name, None
        if same is not None or len(heard.controls) > 1:
            control = next(
                one for one in (name, *(f"{heard.name}-{tail}" for tail in range(2, 99))) if one and one not in taken
            )
            sends, name = heard.controls, None
        spot = DescribedControl(
            control,
            None,
            default_size(heard.controls[-1]),
            default_form(heard.controls[-1]),
            None,
            name,
            printed,
            sends,
        )
        self._steps.append(_Step(spot))
        self.pending = None
        return spot

    def nothing(self, text: str) -> DescribedControl:
        """The person pressed a control and nothing came. Raises ValueError if another has that name."""
        name, printed = self._name(text)
        wanted = name or "silent"
        if name in self._taken():
            raise ValueError(f"`{name}` is already a name here")
        control = next(one for one in (wanted, *(f"{wanted}-{n}" for n in range(2, 99))) if one not in self._taken())
        spot = DescribedControl(control, printed=printed, sends=())
        self._steps.append(_Step(spot))
        return spot

    def skip(self) -> None:
        """Leaves a place empty."""
        self.pending = None
        self._steps.append(_Step())

    def row(self) -> None:
        """The next control begins a new row."""
        self._steps.append(_Step(ends_row=True))

    def again(self) -> None:
        """Forgets what was heard last and has no name yet."""
        self.pending = None

    def back(self) -> bool:
        """Takes back the last step, or what was heard last; False if there is none."""
        if self.pending is not None:
            self.pending = None
            return True
        if not self._steps:
            return False
        self._steps.pop()
        return True

    # --- What it comes to ---

    @property
    def spots(self) -> list[DescribedControl]:
        """The controls so far, without places."""
        return [step.spot for step in self._steps if step.spot is not None]

    def description(self, name: str, links: tuple[str, ...]) -> Description:
        """The whole thing, each control in its place."""
        if self.pending is not None:
            self.take("")
        kind = self._usual.kind
        usual = {} if kind in _BY_ROWS else {spot.control: spot for spot in self._usual.spots}
        known = [spot for spot in self.spots if spot.control in usual]
        left, top = _PITCH / 2 + 1.5, _PITCH / 2 + 1.5
        if known:
            top += self._usual.body[1]
        x, y, placed, in_row = left, top, [], False
        for step in self._steps:
            spot = step.spot
            if step.ends_row:
                x, y, in_row = left, y + (_PITCH if in_row else 0), False
            elif spot is not None and spot.control in usual:
                one = usual[spot.control]
                on = one.on if one.on in {other.control for other in known} else None
                placed.append(structs.replace(spot, at=one.at, size=one.size, form=one.form, on=on))
            else:
                if spot is not None:
                    wide = max(_PITCH, spot.size[0] + 2)
                    placed.append(structs.replace(spot, at=(x + (wide - _PITCH) / 2, y), on=None))
                    x += wide - _PITCH
                x, in_row = x + _PITCH, True
        body = self._usual.body if known else (0.0, 0.0)
        return Description(name, kind, links, tuple(placed), body).laid_out()

    def _taken(self) -> set[str]:
        return {name for spot in self.spots for name in (spot.name, spot.control) if name}

    def _name(self, text: str) -> tuple[str | None, str]:
        """The name and the print in what a person typed: a text that can be a name is one."""
        text = text.strip()[:20]
        if not re.search(r"[A-Za-z0-9]", text):
            return None, text
        name = slug_of(text)
        if self.pending is not None and name == self.pending.name:
            return None, text if text != name else ""
        # A single character or a number is what stands on a key, not what one would call it.
        if len(name) == 1 or name.replace("-", "").isdigit() or names_another(self._usual.kind, name):
            return None, text
        return name, text if text != name else ""


def _sent(spot: DescribedControl) -> tuple[tuple[str, ...], int]:
    """What a described control sends, as `Heard` has it."""
    if spot.sends is not None:
        return spot.sends, 1
    burst = burst_of(spot.control)
    return ((burst[0],), burst[1]) if burst else ((spot.control,), 1)


def _understand(go: list[tuple[float, str, float]]) -> Heard | None:
    """Which control a person used, by all that came from one rest to the next."""
    presses: dict[str, list[float]] = {}
    far: dict[str, float] = {}
    for t, control, value in go:
        if shape_of(control) not in (BUTTON, PAD):
            far[control] = max(far.get(control, 0.0), abs(value))
        elif value:
            presses.setdefault(control, []).append(t)
    if len(presses) == 1:
        [(control, times)] = presses.items()
        close = 1
        while close < len(times) and times[close] - times[close - 1] < BURST:
            close += 1
        return Heard((control,), min(close, 9))
    if presses:
        return Heard(tuple(presses))
    meant = max(far, key=lambda control: far[control], default=None)
    return Heard((meant,)) if meant is not None and far[meant] >= _MEANT else None
