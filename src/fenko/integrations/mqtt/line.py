"""A connection to a broker: with TLS where its address says so, in a thread of its own."""

from __future__ import annotations

import contextlib
import socket
import ssl
import threading
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from fenko.system.secrets import NoSecret, secret_of
from fenko.system.trouble import ignore_errors
from fenko.workers.worker import Away

WITHIN = 4.0
"""Seconds in which a broker is reached."""
PORTS = {"mqtt": 1883, "mqtts": 8883}
_ALIVE = 30  # seconds after which a silent line is looked after
LARGEST = 1 << 16
"""Bytes of a message; a larger one is left out."""
Hear = Callable[[str, bytes], None]
"""Told of a message, by another thread: its topic, and what it says."""


class MqttLine:
    """A connection. Raises Away while it is made, and when it is gone; `name` is what messages call it. `will`, a topic and what is
    published there, is what the broker does when it is lost."""

    def __init__(
        self,
        name: str,
        entry: Mapping[str, Any],
        folder: Path,
        wake: Callable[[], None],
        will: tuple[str, bytes, bool] | None = None,
        hear: Hear | None = None,
    ) -> None:
        from paho.mqtt.client import Client
        from paho.mqtt.enums import CallbackAPIVersion

        self._name = name
        self._answered = threading.Event()
        self._refused = ""
        self._wake = wake
        self._hear = hear
        self._topics: Sequence[str] = ()
        self.gone = False
        where = urlsplit(str(entry.get("url", "")))
        if where.scheme not in PORTS or not where.hostname:
            raise Away(f"`{name}`: {entry.get('url')} is no address of a broker")
        self._client = client = Client(CallbackAPIVersion.VERSION2, client_id="")
        client.on_connect = self._connected
        client.on_disconnect = self._disconnected
        client.on_socket_open = _at_once
        client.on_message = self._heard
        client.on_subscribe = self._subscribed
        try:
            if "user" in entry:
                client.username_pw_set(
                    str(entry["user"]), secret_of(entry["password"]) if "password" in entry else None
                )
            if where.scheme == "mqtts":
                client.tls_set_context(_tls(entry, folder))
            if will is not None:
                client.will_set(will[0], will[1], qos=1, retain=will[2])
            client.connect_timeout = WITHIN
            client.connect(where.hostname, where.port or PORTS[where.scheme], keepalive=_ALIVE)
        except NoSecret as why:
            raise Away(f"`{name}`: {why}") from None
        except ssl.SSLError as why:
            reason = (why.reason or str(why)).replace("_", " ").lower()
            raise Away(f"`{name}` is not who it should be: {reason}") from None
        except (OSError, ValueError) as why:
            reason = (getattr(why, "strerror", None) or str(why)).lower()
            raise Away(f"`{name}` cannot be reached: {reason}") from None
        client.loop_start()
        self._wait("does not answer")

    def _wait(self, otherwise: str) -> None:
        answered = self._answered.wait(WITHIN)
        if not answered or self._refused:
            refused = self._refused
            self.close()
            raise Away(
                f"`{self._name}` {otherwise}" if not refused else f"`{self._name}` does not let Fenko in: {refused}"
            )

    def _connected(self, client: Any, data: Any, flags: Any, reason: Any, properties: Any) -> None:
        if reason.is_failure:
            self._refused = str(reason).lower()
        self._answered.set()

    def _disconnected(self, client: Any, data: Any, flags: Any, reason: Any, properties: Any) -> None:
        self.gone = True
        self._answered.set()
        self._wake()

    def _subscribed(self, client: Any, data: Any, mid: Any, reasons: Any, properties: Any) -> None:
        refused = [topic for topic, reason in zip(self._topics, reasons, strict=False) if reason.is_failure]
        if refused:
            self._refused = f"nobody may hear {', '.join(refused)} here"
        self._answered.set()

    def _heard(self, client: Any, data: Any, message: Any) -> None:
        if self._hear is not None and len(message.payload) <= LARGEST:
            self._hear(message.topic, bytes(message.payload))
            self._wake()

    def subscribe(self, *topics: str) -> None:
        """What is published there is heard from now on. Raises Away where that is not allowed."""
        self._answered.clear()
        self._topics = topics
        self._client.subscribe([(topic, 1) for topic in topics])
        self._wait("does not answer")
        self._there()

    def _there(self) -> None:
        if self.gone:
            raise Away(f"`{self._name}` is gone")

    def publish(self, topic: str, payload: bytes, sure: bool = False, keep: bool = False) -> None:
        """Publishes; with `sure` it arrives if the line holds, with `keep` the broker keeps it for who comes later."""
        self._there()
        self._client.publish(topic, payload, qos=int(sure), retain=keep)

    def close(self) -> None:
        """Says goodbye; what was published is out by then."""
        ignore_errors(self._client.disconnect)
        ignore_errors(self._client.loop_stop)


def _tls(entry: Mapping[str, Any], folder: Path) -> ssl.SSLContext:
    ca = entry.get("ca")
    context = ssl.create_default_context(cafile=str(folder / str(ca)) if ca else None)
    if "certificate" in entry:
        key = entry.get("key")
        context.load_cert_chain(str(folder / str(entry["certificate"])), str(folder / str(key)) if key else None)
    return context


def _at_once(client: Any, data: Any, line: Any) -> None:
    """Small packets do not wait for others."""
    with contextlib.suppress(OSError, AttributeError):
        line.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
