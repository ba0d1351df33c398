"""What sends MIDI here: on ALSA's sequencer, or on JACK where there is none."""

from __future__ import annotations

import os
from collections.abc import Mapping
from typing import Any

from fenko.core.links import LinkedDevice
from fenko.core.remedies import Remedy, midi_denied, midi_missing
from fenko.integrations.midi.ports import SEQUENCER, fits
from fenko.system.apart import Crashed, apart
from fenko.system.person import group_member
from fenko.workers.worker import Away

_OF_THE_SYSTEM = ("Midi Through", "System", "PipeWire-System", "PipeWire-RT-Event")
"""Clients that pass on what others send."""


def controllers() -> list[LinkedDevice]:
    """Every program or device that sends something."""
    for ports in (_alsa, _jack):
        try:
            clients = dict.fromkeys(port.partition(":")[0] for port in apart(ports))
        except (Away, Crashed, OSError):
            continue
        return [LinkedDevice(client, f"midi {client}", "midi") for client in clients if client not in _OF_THE_SYSTEM]
    return []


def _alsa() -> list[str]:
    from fenko.integrations.midi.alsa import ports

    return ports(speaking=True)


def _jack() -> list[str]:
    from fenko.integrations.midi.jack_client import ports

    return ports(speaking=True)


def ready(surface: str, pattern: str, tables: Mapping[str, Any]) -> tuple[bool, str, str | Remedy]:
    """Good or not, what is so, what helps, of a link."""
    reasons = []
    for system, ports in (("ALSA", _alsa), ("JACK", _jack)):
        try:
            speaking = ports()
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
    remedy = midi_missing() if not os.path.exists(SEQUENCER) else midi_denied(group_member())
    return (False, f"{surface}: {'; '.join(reasons)}", remedy)
