"""The steps that the engine knows. Every verb of the phrase language comes down to some of these, so there can be any
number of verbs and the engine knows none of them."""

from __future__ import annotations

from typing import TypeAlias

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


Step: TypeAlias = Hold | Strike | Repeat | Begin | End | Toggle | Wait | Send | UseLayer | UseProfile | SwitchPause
