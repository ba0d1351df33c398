"""Which control and gesture a person names on the command line."""

from __future__ import annotations

from fenko.cli.shared import fail, fail_unknown
from fenko.core.controls import KINDS, MOTION, with_direction
from fenko.core.plan import GESTURES, Surface
from fenko.core.script import cells_of
from fenko.desk.load import Desk

GESTURES_ALL = (*GESTURES, "fast", "move")


def meant(desk: Desk, text: str) -> tuple[list[str], str | None]:
    """The cells, and the gesture if one is named, that a person means."""
    surfaces = desk.plan.surfaces
    surface, _, rest = text.partition(".")
    if surface not in surfaces or not rest:
        if text in surfaces and not any(one.shape(text) for one in surfaces.values()):
            fail(f"`{text}` is a surface; name a control of it, such as {text}.south", 2)
        control = surface.partition("+")[0]
        having = [name for name, one in surfaces.items() if one.shape(control) is not None]
        bound = [name for name in having if _mentioned(desk, f"{name}.{control}")]
        names = [f"{name}.{text}" for name in (bound or having)]
        if len(names) > 1:
            fail(f"`{text}` is on several surfaces; say which: {', '.join(names)}", 2)
        if not names:
            fail_unknown(f"no surface has a control `{text}`", text, _own_names(desk))
        text = names[0]
    found = _cells_and_gesture(text, surfaces)
    if found is None:
        levels = (level for profile in desk.plan.profiles.values() for level in profile.levels)
        known = dict.fromkeys([*_own_names(desk), *(address for level in levels for address in level.controls)])
        name, _, control = text.partition(".")
        if name in surfaces and (meant := with_direction(control, KINDS[surfaces[name].kind])) is not None:
            fail(f"{cells_of(text, surfaces)}; did you mean `{name}.{meant}`?", 2)
        fail_unknown(str(cells_of(text, surfaces)), text, known)
    return found


def _cells_and_gesture(text: str, surfaces: dict[str, Surface]) -> tuple[list[str], str | None] | None:
    """The cells that an address means, all directions where it names none, and the gesture where it ends in one."""
    head, _, last = text.rpartition(".")
    attempts: list[tuple[str, str | None]] = [(text, None)]
    if last in (*GESTURES_ALL, "turn"):
        attempts.append((head, "press" if last == "turn" else last))
    for what, gesture in attempts:
        found = cells_of(what, surfaces)
        if not isinstance(found, str):
            return [found[1]], gesture
        surface, _, control = what.partition(".")
        whole, _, axis = control.partition(".")
        shape = surfaces[surface].shape(whole)
        if shape is not None and axis and axis in shape.axes:
            return [what], gesture
        if shape is MOTION or (shape is not None and shape.cells and not axis):
            axes = (f"{what}.{part}" for part in shape.axes if part) if shape is not MOTION else ()
            return [what, *axes, *(f"{what}.{direction}" for direction in shape.cells)], gesture
    return None


def _own_names(desk: Desk) -> list[str]:
    return [f"{surface.name}.{own}" for surface in desk.plan.surfaces.values() for own in surface.names]


def _mentioned(desk: Desk, address: str) -> bool:
    """Whether any profile binds this control."""
    return any(address in level.controls for profile in desk.plan.profiles.values() for level in profile.levels)
