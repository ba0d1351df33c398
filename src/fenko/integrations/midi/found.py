"""Which MIDI ports are connected here: on ALSA's sequencer, and on JACK."""

from __future__ import annotations

import os
from collections.abc import Mapping
from functools import partial
from typing import Any

from fenko.core.lazy import load_named
from fenko.core.links import LinkedDevice
from fenko.core.remedies import Remedy, midi_denied, midi_missing
from fenko.integrations.midi.ports import SEQUENCER, fits
from fenko.system.apart import Crashed, apart
from fenko.system.person import group_member
from fenko.workers.worker import Away

SYSTEMS = {"ALSA": "fenko.integrations.midi.alsa:ports", "JACK": "fenko.integrations.midi.jack_client:ports"}
"""The systems of MIDI ports, each with what lists its ports; surfaces use the first that there is."""
_OF_THE_SYSTEM = ("Midi Through", "System", "PipeWire-System", "PipeWire-RT-Event")
"""Clients that pass on what others send."""


def ports_of(system: str, speaking: bool = False) -> list[str]:
    """Return every port of another program that takes MIDI, or, with `speaking`, that sends it. Raises Away."""
    found: list[str] = load_named(SYSTEMS[system])(speaking)
    return found


def remedy() -> Remedy:
    """Return what makes the kernel's sequencer usable."""
    return midi_missing() if not os.path.exists(SEQUENCER) else midi_denied(group_member())


def controllers() -> list[LinkedDevice]:
    """Every program or device that sends something."""
    for system in SYSTEMS:
        try:
            clients = dict.fromkeys(port.partition(":")[0] for port in apart(partial(ports_of, system, True)))
        except (Away, Crashed, OSError):
            continue
        return [LinkedDevice(client, f"midi {client}", "midi") for client in clients if client not in _OF_THE_SYSTEM]
    return []


def ready(surface: str, pattern: str, tables: Mapping[str, Any]) -> tuple[bool, str, str | Remedy]:
    """Good or not, what is so, what helps, of a link."""
    reasons = []
    for system in SYSTEMS:
        try:
            speaking = ports_of(system, speaking=True)
        except Away as why:
            reasons.append(str(why))
            continue
        fitting = [port for port in speaking if fits(pattern, port)]
        if fitting:
            return (True, f"{surface}: {', '.join(fitting)} ({system})", "")
        there = ", ".join(speaking) or "none"
        return (
            False,
            f"{surface}: no MIDI port fits `{pattern}`; there are: {there} ({system})",
            "plug it in, or mend the pattern",
        )
    return (False, f"{surface}: {'; '.join(reasons)}", remedy())
