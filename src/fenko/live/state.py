"""How a running desk stands: its values, and where every control is that has been touched."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from fenko.core.controls import THRESHOLDS
from fenko.core.engine import Engine


def state_of(engine: Engine, raw: Callable[[str], str]) -> dict[str, Any]:
    """The state as plain data: values by name, and controls by address. `raw` tells what a device itself says."""
    values = {}
    for (out, name), number in engine.values.items():
        if out == "value":
            known = engine.plan.values[out, name]
            values[name] = {"value": number, "unit": known.unit, "range": [known.least, known.most]}
    controls: dict[str, dict[str, Any]] = {}
    for address, at in engine.positions.items():
        surface, _, rest = address.partition(".")
        by = engine.plan.surfaces[surface].conditioning_of(rest.partition(".")[0])
        controls[address] = {"at": round(at, 4), "shows": round(by.shown_at(at), 3)}
    for address in engine.down:
        if address.rpartition(".")[2] not in THRESHOLDS:
            controls[address] = {"pressed": True}
    for address, one in controls.items():
        if said := raw(address):
            one["raw"] = said
    return {"profile": engine.profile.name, "layers": list(engine.layers), "values": values, "controls": controls}
