"""OSC at work: messages and bundles over UDP, or TCP with SLIP, and what peers answer."""

from __future__ import annotations

import contextlib
import select
import socket
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import groupby
from pathlib import Path
from typing import Any

from fenko.core.changes import Effect
from fenko.core.phrase import parse_phrase, steps_of
from fenko.core.reader import PhraseError
from fenko.core.steps import Send
from fenko.integrations.osc.spec import heard, place_of
from fenko.workers.worker import Away, Desk, Worker

_WITHIN = 2.0  # seconds in which a peer is reached
_LONGEST = 1 << 16  # bytes of a packet
_MOST = 1e9  # of a number that means anything
_MOST_HEARD = 200  # addresses of which it is told what they are
_END, _ESCAPE, _ESCAPED_END, _ESCAPED_ESCAPE = 0xC0, 0xDB, 0xDC, 0xDD  # RFC 1055


def ready(tables: Mapping[str, Any], folder: Path) -> list[tuple[bool, str, str]]:
    """How things stand: good or not, what is so, what helps."""
    peers = tables.get("osc")
    found = []
    for name, entry in peers.items() if isinstance(peers, dict) else ():
        to = str(entry.get("to", ""))
        try:
            kind, host, port = place_of(to)
            if kind == "tcp":
                socket.create_connection((host, port), timeout=_WITHIN).close()
                found.append((True, f"`{name}` answers at {to}", ""))
            else:
                socket.getaddrinfo(host, port, type=socket.SOCK_DGRAM)
                found.append((True, f"`{name}`: messages go to {to}; whether it hears them, UDP does not tell", ""))
        except (OSError, ValueError) as why:
            reason = str(why) if isinstance(why, ValueError) else (why.strerror or str(why)).lower()
            found.append((False, f"`{name}` at {to}: {reason}", "start it, or mend `to` in the desk"))
    return found


def offers(tables: Mapping[str, Any], folder: Path) -> list[tuple[str, str]]:
    """Phrases for the desk's peers, at the addresses whose ranges or answers it names."""
    peers = tables.get("osc")
    found = []
    for name, entry in peers.items() if isinstance(peers, dict) else ():
        addresses = dict.fromkeys([*(entry.get("range") or {}), *(entry.get("hears") or {})])
        found += [(f"osc {address} follow to {name}", "of the desk") for address in addresses]
    return found


def message(address: str, arguments: Sequence[Any]) -> bytes:
    """A message as it goes over the line (OSC 1.0): int32, float32, text, true, false, nil."""
    from pythonosc.osc_message_builder import OscMessageBuilder

    builder = OscMessageBuilder(address)
    for argument in arguments:
        kind = {bool: None, int: "i", float: "f", str: "s"}.get(type(argument))
        if argument is None:
            builder.add_arg(None, "N")
        elif kind is None:
            builder.add_arg(argument, "T" if argument else "F")
        else:
            builder.add_arg(argument, kind)
    return bytes(builder.build().dgram)


def bundle(parts: Sequence[bytes]) -> bytes:
    """Messages that belong together, to be done at once."""
    whole = b"#bundle\0" + (1).to_bytes(8, "big")
    return whole + b"".join(len(part).to_bytes(4, "big") + part for part in parts)


def slip(packet: bytes) -> bytes:
    """A packet between two END bytes."""
    escaped = packet.replace(bytes([_ESCAPE]), bytes([_ESCAPE, _ESCAPED_ESCAPE]))
    escaped = escaped.replace(bytes([_END]), bytes([_ESCAPE, _ESCAPED_END]))
    return bytes([_END]) + escaped + bytes([_END])


class Unslip:
    """Packets out of what comes in pieces."""

    def __init__(self) -> None:
        self._data = bytearray()

    def of(self, data: bytes) -> Iterator[bytes]:
        """Every packet that is whole with this; what gets too long is thrown away."""
        self._data += data
        while (at := self._data.find(_END)) >= 0:
            packet = bytes(self._data[:at])
            del self._data[: at + 1]
            if packet:
                packet = packet.replace(bytes([_ESCAPE, _ESCAPED_END]), bytes([_END]))
                yield packet.replace(bytes([_ESCAPE, _ESCAPED_ESCAPE]), bytes([_ESCAPE]))
        if len(self._data) > _LONGEST:
            self._data.clear()


class Peer:
    """One program that messages go to. A thread hears what it answers: `answered` is called with each packet."""

    def __init__(
        self, name: str, entry: Mapping[str, Any], answered: Callable[[bytes], None], wake: Callable[[], None]
    ) -> None:
        self.name = name
        try:
            self._kind, self._host, self._port = place_of(str(entry.get("to", "")))
        except ValueError as why:
            raise Away(str(why)) from None
        listen = entry.get("listen")
        self._listen = listen if isinstance(listen, int) else 0
        self._hears = bool(entry.get("hears"))
        self._answered = answered
        self._wake = wake
        self._line: socket.socket | None = None
        self._ears: list[socket.socket] = []
        self.gone = False
        self.refused = False
        """Whether nobody took a message."""

    def open(self) -> None:
        """Reaches it. Raises Away."""
        try:
            if self._kind == "tcp":
                self._line = socket.create_connection((self._host, self._port), timeout=_WITHIN)
                self._line.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            else:
                kind, proto, address = self._resolved()
                self._line = socket.socket(kind, socket.SOCK_DGRAM, proto)
                self._line.connect(address)
            self._ears = [self._line]
            if self._listen:
                ear = socket.socket(self._line.family, socket.SOCK_DGRAM)
                ear.bind(("127.0.0.1" if self._line.family == socket.AF_INET else "::1", self._listen))
                self._ears.append(ear)
        except OSError as why:
            self.close()
            raise Away(f"`{self.name}` cannot be reached: {(why.strerror or str(why)).lower()}") from None
        if self._hears or self._kind == "tcp":
            threading.Thread(target=self._hear, args=(list(self._ears),), daemon=True).start()

    def _resolved(self) -> tuple[int, int, Any]:
        family, _, proto, _, address = socket.getaddrinfo(self._host, self._port, type=socket.SOCK_DGRAM)[0]
        return family, proto, address

    def send(self, packet: bytes) -> None:
        """Sends a packet. Raises Away."""
        assert self._line is not None
        try:
            if self._kind == "tcp":
                self._line.sendall(slip(packet))
            else:
                self._line.send(packet)
        except ConnectionRefusedError:
            # That is about the message before; this one may be taken.
            self.refused = True
            with contextlib.suppress(OSError):
                self._line.send(packet)
        except OSError as why:
            raise Away(f"`{self.name}` is gone: {(why.strerror or str(why)).lower()}") from None

    def _hear(self, ears: list[socket.socket]) -> None:
        frames = Unslip()
        while True:
            try:
                readable, _, _ = select.select(ears, [], [])
            except (OSError, ValueError):
                return  # closed
            for ear in readable:
                try:
                    data = ear.recv(_LONGEST)
                except ConnectionRefusedError:
                    self.refused = True
                    self._wake()
                    continue
                except OSError:
                    data = b""
                if self._kind != "tcp":
                    if data:
                        self._answered(data)
                    continue
                if not data:
                    self.gone = True
                    self._wake()
                    return
                for packet in frames.of(data):
                    self._answered(packet)

    def close(self) -> None:
        """Lets go of it."""
        ears, self._ears, self._line = self._ears, [], None
        for ear in ears:
            with contextlib.suppress(OSError):
                ear.shutdown(socket.SHUT_RDWR)
            ear.close()


class OscWorker(Worker):
    """One peer of a desk."""

    def __init__(self, tables: Mapping[str, Any], folder: Path, desk: Desk) -> None:
        super().__init__(tables, folder, desk)
        ((self._name, self._entry),) = tables["osc"].items()
        self.eager = bool(self._entry.get("hears") or self._entry.get("first"))
        self._peer: Peer | None = None
        self._hears: dict[str, tuple[str, str]] = {}
        self._heard: set[str] = set()

    def open(self) -> None:
        """Reaches it, and says what is said first."""
        try:
            self._hears = heard(self.tables, self._name)
        except ValueError as why:
            self.desk.note(f"OSC: [osc.{self._name}] hears: {why}")
        peer = Peer(self._name, self._entry, self._answered, self.wake)
        peer.open()
        self._peer = peer
        for packet in self._first():
            peer.send(packet)

    def _first(self) -> Iterator[bytes]:
        """What is said to it when it is there."""
        for text in self._entry.get("first", ()):
            try:
                for step in steps_of(parse_phrase(text)):
                    if isinstance(step, Send) and step.out == "osc":
                        _, address, arguments = step.values
                        assert isinstance(address, str)
                        assert isinstance(arguments, list)
                        yield message(address, arguments)
            except PhraseError as why:
                self.desk.note(f"OSC: [osc.{self._name}] first: {why}")

    def send(self, effects: Sequence[Effect]) -> None:
        """Sends messages; those of one moment as a bundle."""
        assert self._peer is not None
        for _, some in groupby(effects, key=lambda effect: effect[0]):
            parts = [message(effect[4], effect[5]) for effect in some]
            self._peer.send(parts[0] if len(parts) == 1 else bundle(parts))

    def watch(self) -> float | None:
        """A peer that has hung up is gone; one that does not listen may do so any time."""
        if self._peer is not None and self._peer.refused:
            self._peer.refused = False
            self.desk.note(f"OSC: nobody listens for `{self._name}` at {self._entry.get('to')}")
        if self._peer is not None and self._peer.gone:
            raise Away(f"`{self._name}` has hung up")
        return None

    # --- Answers, in the threads of the peers ---

    def _answered(self, packet: bytes) -> None:
        from pythonosc.osc_packet import OscPacket, ParseError

        try:
            found = [one.message for one in OscPacket(packet).messages]
        except (ParseError, ValueError, IndexError, RecursionError):
            return  # no OSC
        for one in found:
            numbers = [value for value in one.params if isinstance(value, bool | int | float)]
            number = float(numbers[-1]) if numbers else float("nan")
            if not abs(number) < _MOST:
                continue
            if one.address in self._heard or len(self._heard) < _MOST_HEARD:
                self._heard.add(one.address)
                self.desk.fact(f"{self._name} {one.address}", {"value": number})
            target = self._hears.get(one.address)
            if target is not None:
                self.desk.heard(*target, number)

    def close(self) -> None:
        """Lets go of it."""
        if self._peer is not None:
            self._peer.close()
            self._peer = None
