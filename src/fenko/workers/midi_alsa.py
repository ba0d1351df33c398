"""MIDI ports on the sequencer of the kernel (ALSA)."""

from __future__ import annotations

import contextlib
import os
import threading
from collections.abc import Callable, Sequence
from typing import Any

from fenko.workers.midi_ports import CLIENT, SEQUENCER, fits
from fenko.workers.worker import Away


def _open(name: str) -> Any:
    if not os.path.exists(SEQUENCER):
        raise Away(f"the kernel has no MIDI sequencer here ({SEQUENCER} is not there)")
    try:
        from alsa_midi import SequencerClient

        return SequencerClient(name)
    except Exception as why:  # the library loads, or fails to, at the first use
        raise Away(f"the MIDI sequencer cannot be opened: {why}") from why


def ports() -> list[str]:
    """Every port of another program that takes MIDI. Raises Away."""
    client = _open("Fenko ready")
    with contextlib.closing(client):
        return [_name(port) for port in client.list_ports(output=True) if port.client_name != CLIENT]


def _name(port: Any) -> str:
    return f"{port.client_name}:{port.name}"


class AlsaSystem:
    """A client that sends, and one that hears who comes and goes."""

    def __init__(self, wake: Callable[[], None]) -> None:
        from alsa_midi import SYSTEM_ANNOUNCE, PortCaps

        self._client = _open(CLIENT)
        self._ports: dict[str, tuple[Any, str]] = {}
        self._wake = wake
        self._ears = _open("Fenko ears")
        # Kept, for a port that nobody holds is deleted.
        self._ear = self._ears.create_port("ears", caps=PortCaps.WRITE | PortCaps.SUBS_WRITE | PortCaps.NO_EXPORT)
        self._ear.connect_from(SYSTEM_ANNOUNCE)
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        with contextlib.suppress(Exception):
            while True:
                self._ears.event_input()
                self._wake()

    def add(self, name: str, to: str) -> None:
        """A port of that name."""
        from alsa_midi import PortCaps, PortType

        caps = PortCaps.READ | PortCaps.SUBS_READ
        kind = PortType.MIDI_GENERIC | PortType.SOFTWARE | PortType.APPLICATION
        self._ports[name] = (self._client.create_port(name, caps=caps, type=kind), to)

    def send(self, name: str, message: bytes) -> None:
        """Sends one message to whoever listens."""
        from alsa_midi import ALSAError, MidiBytesEvent

        try:
            # Its way without a buffer has one, and keeps what is in there; so the buffer is emptied.
            self._client.event_output(MidiBytesEvent(message), port=self._ports[name][0])
            self._client.drain_output()
        except ALSAError as why:
            raise Away(f"the MIDI sequencer does not take anything: {why}") from why

    def connected(self) -> dict[str, list[str]]:
        """With whom each port is connected."""
        from alsa_midi import SubscriptionQueryType

        found: dict[str, list[str]] = {}
        names = {(port.client_id, port.port_id): _name(port) for port in self._client.list_ports(output=True)}
        for name, (port, _) in self._ports.items():
            listening = self._client.list_port_subscribers(port, SubscriptionQueryType.READ)
            addresses = [(one.addr.client_id, one.addr.port_id) for one in listening]
            found[name] = sorted(names[address] for address in addresses if address in names)
        return found

    def look(self) -> None:
        """Connects with who is wanted and has come."""
        for name, (_, to) in self._ports.items():
            if to:
                self.connect(name, [_name(port) for port in self._others() if fits(to, _name(port))])

    def _others(self) -> list[Any]:
        return [port for port in self._client.list_ports(output=True) if port.client_name not in (CLIENT, "Fenko ears")]

    def connect(self, name: str, others: Sequence[str]) -> None:
        """Connects a port with others; no matter if it is already, or if they are gone."""
        port = self._ports[name][0]
        for other in self._others():
            if _name(other) in others:
                with contextlib.suppress(Exception):
                    port.connect_to(other)

    def close(self) -> None:
        """The ports vanish."""
        self._wake = lambda: None
        for client in (self._client, self._ears):
            with contextlib.suppress(Exception):
                client.close()
