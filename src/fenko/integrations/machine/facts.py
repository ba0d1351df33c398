"""How a machine stands, in words."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any


def readout(fact: Mapping[str, Any]) -> str:
    """Where a machine is, of its work, in a line."""
    return "  ".join(f"{axis} {place:g}" for axis, place in fact["work"].items())


def standing(fact: Mapping[str, Any]) -> str:
    """A machine in a line."""
    size = f"axis {fact['axis']}, step {fact['step-size']:g}"
    where = readout(fact) if fact["machine"] else "nobody knows where"
    said = f"  ({fact['said']})" if fact["said"] else ""
    return f"{fact['state']}  {where}  {size}  {fact['speed']:g} a minute{said}"
