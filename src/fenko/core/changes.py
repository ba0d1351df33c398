"""What goes into the engine and what comes out: plain tuples.

A change is ``(t, address, value)``: seconds, which input, its new value. Inputs of surfaces are addressed as
``surface.control`` (axes with their suffix); the addresses below stand for everything else that happens.

An effect is ``(t, out, act, *values)``; `fenko.core.verbs.ACTS` names the values of each act.
"""

from __future__ import annotations

from typing import Any, TypeAlias

Change: TypeAlias = tuple[float, str, Any]
Effect: TypeAlias = tuple[Any, ...]


class Moving(tuple[Any, ...]):
    """An effect of what moves: of a number that follows a control, goes at a rate, or is turned by a dial. Where its target is
    slower than the hand, later ones may take its place."""

    __slots__ = ()


FOCUS = "focus"  # value: Focus
KEYBOARD = "keyboard"  # value: tuple of modifiers held on the ordinary keyboard
UNPLUG = "unplug"  # value: surface
PLUG = "plug"  # value: surface
RUNNING = "running"  # value: tuple of the names of programs that run, of those that the desk asks for
MACHINES = "machine"  # value: tuple of the machines with their states, such as "rail alarm"
OUTSIDE = frozenset((FOCUS, KEYBOARD, UNPLUG, PLUG, RUNNING, MACHINES))
"""Addresses that are no input of a surface."""
