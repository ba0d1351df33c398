"""What is here besides kernel devices and could be a surface: MIDI ports that say something, and serial lines. Nothing is opened."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from msgspec import Struct

from fenko.core.words import slug_of
from fenko.system.apart import Crashed, apart
from fenko.workers.worker import Away

SERIAL = Path("/dev/serial/by-id")
_TTYS = Path("/sys/class/tty")


class FarThing(Struct, frozen=True):
    """One thing: what it is called, the link by which a desk has it, and why it cannot be used, if it cannot."""

    name: str
    link: str
    kind: str
    problem: str | None = None

    @property
    def slug(self) -> str:
        """A name for the surface."""
        return slug_of(self.name)


def far_things() -> list[FarThing]:
    """All of them; MIDI first."""
    return [*midi_things(), *serial_things()]


def midi_things() -> list[FarThing]:
    """Every program or device that says something on ALSA's sequencer, or on JACK where there is none."""
    for ports in (_alsa, _jack):
        try:
            clients = dict.fromkeys(port.partition(":")[0] for port in apart(ports))
        except (Away, Crashed, OSError):
            continue
        return [FarThing(client, f"midi {client}", "midi") for client in clients if client not in _OF_THE_SYSTEM]
    return []


_OF_THE_SYSTEM = ("Midi Through", "System", "PipeWire-System", "PipeWire-RT-Event")
"""Ports that pass on what others say."""


def _alsa() -> list[str]:
    from fenko.integrations.midi.alsa import ports

    return ports(speaking=True)


def _jack() -> list[str]:
    from fenko.integrations.midi.jack_client import ports

    return ports(speaking=True)


def serial_things() -> list[FarThing]:
    """Every serial line that a board may be at, by the name that stays the same."""
    found: dict[str, str] = {}
    for device in sorted(_TTYS.glob("tty[AU][CS][MB]*")):
        found[os.path.realpath(f"/dev/{device.name}")] = f"/dev/{device.name}"
    if SERIAL.is_dir():
        for link in sorted(SERIAL.iterdir()):
            found[os.path.realpath(link)] = str(link)
    return [_serial(path, real) for real, path in found.items()]


def _serial(path: str, real: str) -> FarThing:
    name = Path(path).name
    problem = None if os.access(real, os.R_OK | os.W_OK) else f"{real} may not be used by this user"
    return FarThing(name, f"serial {path}", "board", problem)


def named(link: str) -> FarThing:
    """The thing that a link means which a person wrote. Raises ValueError where it is none of these."""
    kind, _, rest = link.partition(" ")
    kinds: dict[str, Callable[[], FarThing]] = {
        "midi": lambda: FarThing(rest.strip("*"), link, "midi"),
        "serial": lambda: FarThing(Path(rest.partition(" ")[0]).name, link, "board"),
        "tcp": lambda: FarThing(rest, link, "board"),
    }
    if kind not in kinds or not rest:
        raise ValueError(f"`{link}` is no link of that sort: `midi PORT`, `serial DEVICE` or `tcp HOST:PORT`")
    return kinds[kind]()
