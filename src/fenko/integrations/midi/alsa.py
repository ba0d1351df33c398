"""MIDI ports on the sequencer of the kernel (ALSA)."""

from __future__ import annotations

import contextlib
import os
import threading
import time
from collections.abc import Callable, Sequence
from typing import Any

from fenko.integrations.midi.ports import CLIENT, SEQUENCER, Hear, fits, is_own
from fenko.system.trouble import ignore_errors
from fenko.workers.worker import Away

_MOST_FAILURES = 1000  # in a row, after which nothing will ever come


def _open(name: str) -> Any:
    if not os.path.exists(SEQUENCER):
        raise Away(f"the kernel has no MIDI sequencer here ({SEQUENCER} is not there)")
    try:
        from alsa_midi import SequencerClient

        return SequencerClient(name)
    except Exception as why:  # the library loads, or fails to, at the first use
        raise Away(f"the MIDI sequencer cannot be opened: {why}") from why


def ports(speaking: bool = False) -> list[str]:
    """Every port of another program that takes MIDI, or that says something. Raises Away."""
    client = _open("Fenko ready")
    with contextlib.closing(client):
        found = client.list_ports(input=True) if speaking else client.list_ports(output=True)
        return [_name(port) for port in found if not is_own(port.client_name)]


def _name(port: Any) -> str:
    return f"{port.client_name}:{port.name}"


class AlsaSystem:
    """A client that sends, and one that hears: who comes and goes, and what those say that are listened to."""

    def __init__(self, wake: Callable[[], None], client: str = CLIENT) -> None:
        from alsa_midi import SYSTEM_ANNOUNCE, PortCaps

        self._client = _open(client)
        self._ports: dict[str, tuple[Any, str]] = {}
        self._hears: dict[str, tuple[Any, str, Hear]] = {}
        self.too_long = 0
        self._wake = wake
        self._closed = False
        self._ears = _open(f"{client} ears")
        # Kept, for a port that nobody holds is deleted.
        self._ear = self._ears.create_port("ears", caps=PortCaps.WRITE | PortCaps.SUBS_WRITE | PortCaps.NO_EXPORT)
        self._ear.connect_from(SYSTEM_ANNOUNCE)
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        from alsa_midi import ALSAError, MidiBytesEvent

        failures = 0
        while not self._closed and failures < _MOST_FAILURES:
            try:
                event = self._ears.event_input(prefer_bytes=True)
                failures = 0
            except ALSAError:
                # Too much came at once, and some of it is lost.
                failures += 1
                for _, _, hear in list(self._hears.values()):
                    hear(time.monotonic(), b"")
                self._wake()
                continue
            except Exception:  # it has been closed
                return
            if isinstance(event, MidiBytesEvent):
                for port, _, hear in list(self._hears.values()):
                    if event.dest is not None and event.dest.port_id == port.port_id:
                        hear(time.monotonic(), bytes(event.midi_bytes))
            self._wake()

    def add(self, name: str, to: str) -> None:
        """A port of that name."""
        from alsa_midi import PortCaps, PortType

        caps = PortCaps.READ | PortCaps.SUBS_READ
        kind = PortType.MIDI_GENERIC | PortType.SOFTWARE | PortType.APPLICATION
        self._ports[name] = (self._client.create_port(name, caps=caps, type=kind), to)

    def hear(self, name: str, whom: str, hear: Hear) -> None:
        """A port of that name that listens."""
        from alsa_midi import PortCaps

        port = self._ears.create_port(name, caps=PortCaps.WRITE | PortCaps.SUBS_WRITE)
        self._hears[name] = (port, whom, hear)

    def heard(self, name: str) -> list[str]:
        """Whom a port listens to."""
        from alsa_midi import SubscriptionQueryType

        names = {(port.client_id, port.port_id): _name(port) for port in self._client.list_ports(input=True)}
        speaking = self._ears.list_port_subscribers(self._hears[name][0], SubscriptionQueryType.WRITE)
        addresses = [(one.addr.client_id, one.addr.port_id) for one in speaking]
        return sorted(names[address] for address in addresses if address in names)

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
        for port, whom, _ in self._hears.values():
            for other in self._client.list_ports(input=True):
                if not is_own(other.client_name) and fits(whom, _name(other)):
                    with contextlib.suppress(Exception):  # it is listened to already, or is gone again
                        port.connect_from(other)

    def _others(self) -> list[Any]:
        return [port for port in self._client.list_ports(output=True) if not is_own(port.client_name)]

    def connect(self, name: str, others: Sequence[str]) -> None:
        """Connects a port with others; no matter if it is already, or if they are gone."""
        port = self._ports[name][0]
        for other in self._others():
            if _name(other) in others:
                with contextlib.suppress(Exception):  # it is connected already, or gone
                    port.connect_to(other)

    def close(self) -> None:
        """The ports vanish."""
        self._wake = lambda: None
        self._closed = True
        for client in (self._client, self._ears):
            ignore_errors(client.close)
