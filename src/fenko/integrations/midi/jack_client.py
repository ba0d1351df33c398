"""MIDI ports on JACK. What is sent goes out with the server's next period, in order."""

from __future__ import annotations

import contextlib
import threading
import time
from collections import deque
from collections.abc import Callable, Sequence
from typing import Any

from fenko.integrations.midi.ports import CLIENT, Hear, fits, is_own
from fenko.integrations.midi.spec import BEND, CONTROLLER, NOTE_OFF, NOTE_ON, SUSTAIN
from fenko.system.trouble import ignore_errors
from fenko.workers.worker import Away

_DRAINS = 1.2  # seconds in which the server takes what waits, at the end
OLD = 1.0
"""Seconds after which a message that the server has not taken is left out, unless it ends something."""
_AGAIN = (0.0, 0.25, 1.0)
"""Seconds after the server has reported that a program was too late, at which what has just ended is ended again: messages to such
a program are lost. It is reported once, however long the program stays late."""


def _open(name: str) -> Any:
    try:
        import jack
    except (ImportError, OSError) as why:
        raise Away(f"JACK is not on this machine: {why}") from why
    # Its library writes to the terminal, whoever looks there.
    jack.set_error_function(lambda text: None)
    jack.set_info_function(lambda text: None)
    try:
        return jack.Client(name, no_start_server=True)
    except jack.JackError as why:
        raise Away("no JACK server runs") from why


def ports(speaking: bool = False) -> list[str]:
    """Every port of another program that takes MIDI, or that says something. Raises Away."""
    client = _open("Fenko-ready")
    with contextlib.closing(client):
        found = client.get_ports(is_midi=True, is_input=not speaking, is_output=speaking)
        return [port.name for port in found if not is_own(port.name.partition(":")[0])]


class JackSystem:
    """A client with a port for each of the desk's."""

    def __init__(self, wake: Callable[[], None], client: str = CLIENT) -> None:
        self._client = _open(client)
        self._ports: dict[str, tuple[Any, str]] = {}
        self._hears: dict[str, tuple[Any, str, Hear]] = {}
        self._waiting: dict[str, deque[tuple[float, bytes]]] = {}
        self._ended: dict[tuple[str, int, int], tuple[float, bytes]] = {}
        self._again: list[float] = []
        self._gone = False
        self.too_long = 0
        """Messages that are longer than what the server takes in a period, and were left out."""
        self._wake = wake
        self._empty = threading.Event()
        self._client.set_process_callback(self._process)
        self._client.set_shutdown_callback(self._shut_down)
        self._client.set_xrun_callback(self._some_program_was_late)
        self._client.set_port_registration_callback(lambda port, there: self._wake())
        # Told once a connection is seen by who asks; that of a connection being made comes up to a period before.
        self._client.set_graph_order_callback(lambda: self._wake())
        self._client.activate()

    def _some_program_was_late(self, microseconds: float) -> None:
        now = time.monotonic()
        self._again = [now + seconds for seconds in _AGAIN]

    def _process(self, frames: int) -> None:
        again = bool(self._again) and time.monotonic() >= self._again[0]
        if again:
            del self._again[0]
        for name, (port, _) in list(self._ports.items()):
            port.clear_buffer()
            if again:
                self._end_again(name, port)
            waiting, written = self._waiting[name], 0
            while waiting:
                since, message = waiting[0]
                if not _ends(message) and time.monotonic() - since > OLD:
                    waiting.popleft()
                    continue
                try:
                    port.write_midi_event(0, message)
                    written += 1
                    if len(message) == 3:
                        self._note_end(name, message)
                except Exception:  # the library tells no reason, and in this thread it would end the process
                    if written:
                        break  # the period is full; the next one takes it
                    self.too_long += 1  # no period takes it
                waiting.popleft()
        if not any(self._waiting.values()):
            self._empty.set()
        now = 0.0
        for port, _, hear in list(self._hears.values()):
            for _, data in port.incoming_midi_events():
                now = now or time.monotonic()
                hear(now, bytes(data))

    def _note_end(self, name: str, message: bytes) -> None:
        kind, about = message[0] & 0xF0, (name, *_target(message))
        if _ends(message) and (kind != CONTROLLER or message[1] == SUSTAIN):
            self._ended[about] = time.monotonic(), message
        else:
            self._ended.pop(about, None)

    def _end_again(self, name: str, port: Any) -> None:
        now = time.monotonic()
        self._ended = {about: one for about, one in self._ended.items() if now - one[0] < 2 * _AGAIN[-1]}
        with contextlib.suppress(Exception):  # the period is full
            for about, (_, message) in self._ended.items():
                if about[0] == name:
                    port.write_midi_event(0, message)

    def _shut_down(self, status: Any, reason: str) -> None:
        self._gone = True
        self._wake()

    def _there(self) -> None:
        if self._gone:
            raise Away("the JACK server is gone")

    def add(self, name: str, to: str) -> None:
        """A port of that name."""
        self._there()
        self._waiting[name] = deque()
        self._ports[name] = (self._client.midi_outports.register(name), to)

    def hear(self, name: str, whom: str, hear: Hear) -> None:
        """A port of that name that listens."""
        self._there()
        self._hears[name] = (self._client.midi_inports.register(name), whom, hear)

    def heard(self, name: str) -> list[str]:
        """Whom a port listens to."""
        self._there()
        return sorted(other.name for other in self._hears[name][0].connections)

    def send(self, name: str, message: bytes) -> None:
        """Sends one message with the next period."""
        self._there()
        self._empty.clear()
        self._waiting[name].append((time.monotonic(), message))

    def connected(self) -> dict[str, list[str]]:
        """With whom each port is connected."""
        self._there()
        return {name: sorted(other.name for other in port.connections) for name, (port, _) in self._ports.items()}

    def look(self) -> None:
        """Connects with who is wanted and has come."""
        self._there()
        for name, (_, to) in self._ports.items():
            if to:
                self.connect(name, [other for other in self._others() if fits(to, other)])
        for port, whom, _ in self._hears.values():
            for other in self._client.get_ports(is_midi=True, is_output=True):
                if (
                    not is_own(other.name.partition(":")[0])
                    and fits(whom, other.name)
                    and other not in port.connections
                ):
                    with contextlib.suppress(Exception):  # it is gone again
                        self._client.connect(other, port)

    def _others(self) -> list[str]:
        found = self._client.get_ports(is_midi=True, is_input=True)
        return [port.name for port in found if not is_own(port.name.partition(":")[0])]

    def connect(self, name: str, others: Sequence[str]) -> None:
        """Connects a port with others; no matter if it is already, or if they are gone."""
        port = self._ports[name][0]
        connected = {other.name for other in port.connections}
        for other in others:
            # Asked for once more, the server would tell everybody of a new graph, us too: again and again.
            if other not in connected:
                with contextlib.suppress(Exception):  # the other port is gone again
                    self._client.connect(port, other)

    def close(self) -> None:
        """What waits goes out, and the ports vanish."""
        self._wake = lambda: None
        if not self._gone and any(self._waiting.values()):
            self._empty.wait(_DRAINS)
            # One more period, so that whoever listens has it before the port is gone.
            self._empty.clear()
            self._empty.wait(_DRAINS)
        ignore_errors(self._client.deactivate)
        ignore_errors(self._client.close)


def _ends(message: bytes) -> bool:
    """Whether a message ends a note, lets a pedal go, or has the bend in its middle."""
    kind = message[0] & 0xF0
    return (
        kind == NOTE_OFF
        or (kind in (NOTE_ON, CONTROLLER) and len(message) == 3 and message[2] == 0)
        or (kind == BEND and message[1:] == b"\0\x40")
    )


def _target(message: bytes) -> tuple[int, int]:
    """What a message of three bytes is about: its kind and channel, and the note or the controller."""
    kind = message[0] & 0xF0
    return (NOTE_ON if kind == NOTE_OFF else kind) | message[0] & 0x0F, 0 if kind == BEND else message[1]
