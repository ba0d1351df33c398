"""How a running desk stands: its values, and where every control is that has been touched."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from fenko.core.controls import BUTTON, THRESHOLDS
from fenko.core.engine import Engine
from fenko.core.plan import Plan
from fenko.core.verbs import spelled
from fenko.desk.compiled import Compiled


def position_of(plan: Plan, address: str, at: float) -> dict[str, Any]:
    """How an axis stands: as it counts, in percent, in the desk's own range, and which way."""
    name, _, rest = address.partition(".")
    control, _, axis = rest.partition(".")
    surface = plan.surfaces[name]
    return {
        "at": round(at, 4), "percent": round(at * 100, 2), "shows": round(surface.conditioning_of(control).shown_at(at), 3),
        "direction": (surface.shape(control) or BUTTON).direction(axis, at),
    }  # fmt: skip


def state_of(engine: Engine, raw: Callable[[str], str], facts: dict[str, dict[str, Any]]) -> dict[str, Any]:
    """The state as plain data: values by name, and controls by address. `raw` tells what a device itself says, `facts` how
    things stand at other ends."""
    values = {}
    for (out, name), number in engine.values.items():
        if out == "value":
            known = engine.plan.values[out, name]
            values[name] = {"value": number, "unit": known.unit, "range": [known.least, known.most]}
    controls: dict[str, dict[str, Any]] = {}
    for address, at in engine.positions.items():
        controls[address] = position_of(engine.plan, address, at)
    for address in engine.down:
        if address.rpartition(".")[2] not in THRESHOLDS:
            controls.setdefault(address, {})["pressed"] = True
    for address, one in controls.items():
        if said := raw(address):
            one["raw"] = said
    return {
        "profile": engine.profile.name, "layers": list(engine.layers), "values": values, "controls": controls, "outputs": facts,
    }  # fmt: skip


def status_of(engine: Engine, desk: Compiled) -> dict[str, Any]:
    """What a running desk does now, and why, as plain data."""
    now = engine.circumstances
    return {
        "profile": engine.profile.name,
        "by": "hand" if engine.by_hand else "itself",
        "by hand until": ("another program is in front" if desk.plan.hand_until_focus else "auto")
        if engine.by_hand
        else None,
        "layers": list(engine.layers),
        "paused": engine.paused,
        "left": sorted(engine.profile.leaves),
        "pressed": list(engine.down),
        "states": engine.states,
        "held": list(map(spelled, engine.held)),
        "in front": now.focus.as_data(),
        "running": sorted(now.running),
        "surfaces": {
            name: {"kind": surface.kind, "there": name in now.surfaces} for name, surface in desk.plan.surfaces.items()
        },
    }
