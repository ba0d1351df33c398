"""What is known of one particular thing: its controls, where each sits, what is printed on it, what it really sends.

Places are in millimetres from the left upper corner of the thing's body, x to the right, y downwards. They need not be
exact: they say what is beside what.
"""

from __future__ import annotations

import re
from collections.abc import Iterable

from msgspec import Struct, structs

from fenko.core.controls import BUTTON, DIAL, FADER, HAT, PAD, RING, SORTS, STICK, TILT, TRIGGER, WHEEL, Shape, shape_of

BURST = 0.06
"""Seconds from press to press that no finger manages: presses closer than this come from one key."""

_BURST_NAME = re.compile(r"(.+)-x([2-9])")
_SIZES: dict[str, tuple[float, float]] = {
    BUTTON.name: (17, 17), TRIGGER.name: (34, 12), STICK.name: (38, 38), HAT.name: (34, 34), RING.name: (76, 76),
    DIAL.name: (38, 38), FADER.name: (12, 60), WHEEL.name: (17, 24), TILT.name: (17, 12),
    PAD.name: (28, 28),
}  # fmt: skip
_ROUND = (STICK, HAT, RING, DIAL)
_GAP = 2.0  # mm between controls that nobody gave a place
_ROW = 120.0  # mm, how wide their rows may be at least


def burst_of(name: str) -> tuple[str, int] | None:
    """The control that sends its code several times, and how many: ``kp0-x2`` is ("kp0", 2); None for other names."""
    found = _BURST_NAME.fullmatch(name)
    return (found[1], int(found[2])) if found else None


def burst_name(control: str, times: int) -> str:
    """What the key is called that sends the code of `control` so many times; itself for one time."""
    return control if times == 1 else f"{control}-x{times}"


class DescribedControl(Struct, frozen=True):
    """One control of a thing.

    `at` is its centre and `size` its extent in mm; a control that lies `on` another one has no place of its own.
    `sends` are the controls that Fenko hears when it is used: None where that is just this one, empty where nothing
    comes. `name` is a name of its own, `printed` what stands on it, `sort` how it acts where its name does not say so."""

    control: str
    at: tuple[float, float] | None = None
    size: tuple[float, float] = (17, 17)
    form: str = "square"
    on: str | None = None
    name: str | None = None
    printed: str = ""
    sends: tuple[str, ...] | None = None
    note: str = ""
    sort: str | None = None
    coding: str | None = None
    """Of an endless MIDI control: how it writes its steps."""
    bits: int | None = None
    """Of a MIDI controller: how fine its numbers are, where they are finer than usual."""
    shows_value: bool = False
    """Whether it can show the value that it drives."""

    @property
    def shape(self) -> Shape:
        """How it acts."""
        return SORTS[self.sort] if self.sort else shape_of(self.control)

    @property
    def trouble(self) -> str | None:
        """What is odd about the key, and what that means for binding it; None for most."""
        burst = burst_of(self.control)
        if self.sends == ():
            return "sends nothing: the thing deals with it inside, so it cannot be bound"
        if burst is not None:
            return (
                f"sends `{burst[0]}` {burst[1]} times at once: bind it as `{self.control}`; where that is not bound, "
                f"it is {burst[1]} presses of `{burst[0]}`"
            )
        if self.sends is not None and len(self.sends) == 1:
            return f"sends the same as `{self.sends[0]}`: the two cannot be told apart, and do the same"
        if self.sends:
            return f"sends {' and '.join(f'`{one}`' for one in self.sends)} at once; bind the last of them"
        return None


class Description(Struct, frozen=True):
    """A thing, or a kind of thing. `body` is its width and height in mm."""

    name: str
    kind: str
    links: tuple[str, ...] = ()
    spots: tuple[DescribedControl, ...] = ()
    body: tuple[float, float] = (0, 0)
    note: str = ""

    @property
    def names(self) -> dict[str, str]:
        """Its own names of controls, to the kernel's; only of those that arrive as themselves."""
        return {spot.name: spot.control for spot in self.spots if spot.name and spot.sends is None}

    @property
    def shapes(self) -> dict[str, Shape]:
        """How its controls act of which it says so."""
        return {spot.control: spot.shape for spot in self.spots if spot.sort}

    @property
    def silent(self) -> dict[str, str]:
        """What is odd about the controls that send nothing as themselves, by all their names."""
        return {
            name: spot.trouble
            for spot in self.spots
            if spot.sends is not None and spot.sends != (spot.control,) and spot.trouble
            for name in (spot.control, spot.name)
            if name
        }

    def laid_out(self, others: Iterable[str] = ()) -> Description:
        """The same with a place for every control, also for `others` that it does not mention: those without a place
        come in rows beneath, and the body is as large as it has to be."""
        known = {spot.control for spot in self.spots}
        spots = (*self.spots, *(new_spot(control) for control in others if control not in known))
        placed = tuple(spot for spot in spots if spot.at is not None or spot.on is not None)
        loose = [spot for spot in spots if spot.at is None and spot.on is None]
        width = max(self.body[0], _ROW if loose else 0.0, *(_edge(spot, 0) for spot in placed), 0.0)
        bottom = max(self.body[1], *(_edge(spot, 1) for spot in placed), 0.0)
        placed += tuple(_in_rows(loose, width, bottom))
        body = (width, max(bottom, *(_edge(spot, 1) for spot in placed), 0.0))
        return structs.replace(self, spots=placed, body=body)


def new_spot(control: str) -> DescribedControl:
    """A spot for a control of which only the name is known."""
    return DescribedControl(control, size=default_size(control), form=default_form(control))


def default_size(control: str, sort: str | None = None) -> tuple[float, float]:
    """How large a control of that sort usually is, in mm."""
    return _SIZES.get(sort or shape_of(control).name, (17, 17))


def default_form(control: str, sort: str | None = None) -> str:
    """Whether a control of that sort usually is `round` or `square`."""
    return "round" if (SORTS[sort] if sort else shape_of(control)) in _ROUND else "square"


def _edge(spot: DescribedControl, axis: int) -> float:
    """How far a spot reaches, with the rim that a body needs."""
    return 0.0 if spot.at is None else spot.at[axis] + spot.size[axis] / 2 + _GAP


def _in_rows(spots: list[DescribedControl], width: float, top: float) -> list[DescribedControl]:
    placed: list[DescribedControl] = []
    x, y, high = _GAP, top + _GAP, 0.0
    for spot in spots:
        across, down = spot.size
        if x > _GAP and x + across + _GAP > width:
            x, y, high = _GAP, y + high + _GAP, 0.0
        placed.append(structs.replace(spot, at=(x + across / 2, y + down / 2)))
        x, high = x + across + _GAP, max(high, down)
    return placed
