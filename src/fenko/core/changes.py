"""What goes into the engine and what comes out: plain tuples, and the one table that names their parts.

A change is ``(t, address, value)``: seconds, which input, its new value. Inputs of surfaces are addressed as
``surface.control`` (axes with their suffix); the four addresses below stand for everything else that happens.

An effect is ``(t, out, act, *values)``; `EFFECTS` names the values of each act.
"""

from __future__ import annotations

from typing import Any, TypeAlias

Change: TypeAlias = tuple[float, str, Any]
Effect: TypeAlias = tuple[Any, ...]

FOCUS = "focus"  # value: Focus
KEYBOARD = "keyboard"  # value: tuple of modifiers held on the ordinary keyboard
UNPLUG = "unplug"  # value: surface
PLUG = "plug"  # value: surface

EFFECTS: dict[tuple[str, str], tuple[str, ...]] = {
    ("keys", "down"): ("key",),
    ("keys", "up"): ("key",),
    ("keys", "type"): ("text",),
    ("pointer", "down"): ("button",),
    ("pointer", "up"): ("button",),
    ("pointer", "move"): ("dx", "dy"),  # pixels, y grows downwards
    ("pointer", "scroll"): ("dx", "dy"),  # lines, to the right and downwards
    ("fenko", "profile"): ("name", "by"),  # by: focus or hand
    ("fenko", "layer"): ("name", "on"),
    ("fenko", "state"): ("control", "state"),  # of a binding that does several things in turn
    ("fenko", "pause"): ("on",),
}


def effect_fields(effect: Effect) -> dict[str, Any]:
    """The effect as a timeline writes it: t, out, act and its values by name."""
    t, out, act, *values = effect
    return {"t": round(t, 6), "out": out, "act": act} | dict(zip(EFFECTS[out, act], values, strict=True))
