"""Whether the links of surfaces that are no kernel devices can be used here, for `fenko ready`."""

from __future__ import annotations

import os
from collections.abc import Mapping
from typing import Any

from fenko.core.remedies import Remedy, midi_denied, midi_missing
from fenko.integrations.lending.protocol import lent_at
from fenko.integrations.midi.ports import SEQUENCER, fits
from fenko.system.person import group_member
from fenko.workers import serial_ready
from fenko.workers.worker import Away

Fact = tuple[bool, str, str | Remedy]
_LISTING = "`fenko devices` lists the serial lines that are there"


def facts(tables: Mapping[str, Any]) -> list[Fact]:
    """Good or not, what is so, what helps: one for each such link."""
    surfaces = tables.get("surface") or {}
    found: list[Fact] = []
    for name, entry in surfaces.items():
        for link in entry.get("links") or ():
            kind, _, rest = link.partition(" ")
            if kind == "midi":
                found.append(_midi(name, rest))
            elif kind == "serial":
                found.append(serial_ready.fact(name, rest.partition(" ")[0], _LISTING))
            elif kind == "tcp":
                found.append((True, f"{name}: {rest}, which the running desk opens", ""))
            elif kind == "mqtt":
                found.append(_mqtt(name, link, tables.get("mqtt") or {}))
    return found


def _midi(surface: str, pattern: str) -> Fact:
    from fenko.integrations.midi.alsa import ports as alsa
    from fenko.integrations.midi.jack_client import ports as jack

    reasons = []
    for system, ports in (("ALSA", alsa), ("JACK", jack)):
        try:
            speaking = ports(speaking=True)
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


def _mqtt(surface: str, link: str, brokers: Mapping[str, Any]) -> Fact:
    topic, name = lent_at(link, brokers)
    if name not in brokers:
        return (False, f"{surface}: the desk has no broker", 'an [mqtt.NAME] with `url = "mqtts://…"`')
    return (True, f"{surface}: {topic} at {brokers[name].get('url')}, which the running desk asks", "")
