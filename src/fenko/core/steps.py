"""The steps that the engine knows. Every verb of the phrase language comes down to some of these, so there can be any
number of verbs and the engine knows none of them."""

from __future__ import annotations

from typing import NamedTuple, TypeAlias

from msgspec import Struct

Item: TypeAlias = tuple[str, str]
"""Something that begins, lasts and ends: the out that it belongs to, and its name there. ``("keys", "ctrl")`` is a key,
``("pointer", "left")`` a mouse button."""


class Hold(Struct, frozen=True):
    """Items last as long as the control is held, where the action is nothing but this; otherwise a stroke."""

    items: tuple[Item, ...]


class Strike(Struct, frozen=True):
    """Items begin in order, and end in reverse after `timing.stroke`. The next step comes no sooner than `apart` seconds
    after they began."""

    items: tuple[Item, ...]
    apart: float = 0.0


class Repeat(Struct, frozen=True):
    """Strokes, `apart` seconds from one to the next, as long as the control is held."""

    items: tuple[Item, ...]
    apart: float


class Begin(Struct, frozen=True):
    """Items begin, and last until the same action ends them or is through."""

    items: tuple[Item, ...]


class End(Struct, frozen=True):
    """Items that the same action began end."""

    items: tuple[Item, ...]


class Toggle(Struct, frozen=True):
    """Items begin and last, and end with the next time."""

    items: tuple[Item, ...]


class Wait(Struct, frozen=True):
    """Nothing happens for `seconds`; never cut short."""

    seconds: float


class Send(Struct, frozen=True):
    """One effect that is over at once: its out, its act and the act's values."""

    out: str
    act: str
    values: tuple[object, ...]


class UseLayer(Struct, frozen=True):
    """A layer comes on top: while the control is held (mode empty), until the same again (`locked`), or for the next
    action (`once`)."""

    name: str
    mode: str = ""


class UseProfile(Struct, frozen=True):
    """A profile comes in force by name, or the `next` or `previous` one; with `auto` the focus decides again."""

    name: str


class SwitchPause(Struct, frozen=True):
    """Fenko stops, or starts again."""


class Move(Struct, frozen=True):
    """The pointer moves (`act` move, pixels a second), or what is under it scrolls (scroll, lines), at `speed` where the
    control is all the way, and less where it is less."""

    act: str
    speed: float


class Pass(Struct, frozen=True):
    """A mouse's moves go on, `factor` times as far, as moves or as scrolling."""

    act: str
    factor: float


class Amount(NamedTuple):
    """A number as it is written, with its unit: `%`, `dB`, or none."""

    number: float
    unit: str = ""


class Set(Struct, frozen=True):
    """A value becomes `amount`, or, where it is a `step`, that much more or less."""

    target: Item
    amount: Amount
    step: bool = False


class Follow(Struct, frozen=True):
    """A value is where the control is: `low` where it is not deflected, `high` where it is all the way (the value's own
    range where these are None). With `pick_up` nothing happens until the control has met the value."""

    target: Item
    low: Amount | None = None
    high: Amount | None = None
    pick_up: bool = False


class Rate(Struct, frozen=True):
    """A value moves by `speed` a second where the control is all the way, and less where it is less."""

    target: Item
    speed: Amount


class Steer(Struct, frozen=True):
    """Another end is told how fast something goes, at once whenever that changes: `speed` where the control is all the way, and
    less where it is less; with `two`, of a control with two axes, across and up. The effect has these `values`, and then a list
    of speeds. A control that is off its rest when this comes in force has to come to rest first."""

    out: str
    act: str
    values: tuple[object, ...]
    speed: float
    two: bool = False


class TakeAsNeutral(Struct, frozen=True):
    """However things with a sensor are held now, they are not tilted."""


Steady: TypeAlias = Move | Pass | Follow | Rate | Steer
"""What goes on as long as a control is off its rest, and is an action of its own."""
Step: TypeAlias = (
    Hold
    | Strike
    | Repeat
    | Begin
    | End
    | Toggle
    | Wait
    | Send
    | UseLayer
    | UseProfile
    | SwitchPause
    | Set
    | TakeAsNeutral
    | Steady
)
