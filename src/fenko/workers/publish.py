"""MQTT at work: one connection to each broker, with TLS where its address says so."""

from __future__ import annotations

import contextlib
import ssl
import threading
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from fenko.core.changes import Effect
from fenko.system.secrets import NoSecret, secret_of
from fenko.workers.worker import Away, Desk, Worker

_WITHIN = 4.0  # seconds in which a broker is reached
_PORTS = {"mqtt": 1883, "mqtts": 8883}
_ALIVE = 30  # seconds after which a silent line is looked after


def ready(tables: Mapping[str, Any], folder: Path) -> list[tuple[bool, str, str]]:
    """How things stand: good or not, what is so, what helps."""
    brokers = tables.get("mqtt")
    found = []
    for name, entry in brokers.items() if isinstance(brokers, dict) else ():
        try:
            Broker(name, entry, folder, lambda: None).close()
            found.append((True, f"`{name}` answers at {entry.get('url')}", ""))
        except Away as why:
            found.append((False, str(why), "start it, or mend its `url`, `user` and `password` in the desk"))
    return found


def offers(tables: Mapping[str, Any], folder: Path) -> list[tuple[str, str]]:
    """Phrases for the desk's brokers."""
    brokers = tables.get("mqtt")
    return (
        [(f'publish "topic" "text" to {name}', "of the desk") for name in brokers] if isinstance(brokers, dict) else []
    )


class Broker:
    """A connection. Raises Away while it is made, and when it is gone."""

    def __init__(self, name: str, entry: Mapping[str, Any], folder: Path, wake: Callable[[], None]) -> None:
        from paho.mqtt.client import Client
        from paho.mqtt.enums import CallbackAPIVersion

        self._name = name
        self._keep = entry.get("keep") is True
        self._answered = threading.Event()
        self._refused = ""
        self._wake = wake
        self.gone = False
        where = urlsplit(str(entry.get("url", "")))
        if where.scheme not in _PORTS or not where.hostname:
            raise Away(f"`{name}`: {entry.get('url')} is no address of a broker")
        self._client = client = Client(CallbackAPIVersion.VERSION2, client_id="")
        client.on_connect = self._connected
        client.on_disconnect = self._disconnected
        try:
            if "user" in entry:
                client.username_pw_set(
                    str(entry["user"]), secret_of(entry["password"]) if "password" in entry else None
                )
            if where.scheme == "mqtts":
                ca = entry.get("ca")
                context = ssl.create_default_context(cafile=str(folder / str(ca)) if ca else None)
                if "certificate" in entry:
                    key = entry.get("key")
                    context.load_cert_chain(
                        str(folder / str(entry["certificate"])), str(folder / str(key)) if key else None
                    )
                client.tls_set_context(context)
            client.connect_timeout = _WITHIN
            client.connect(where.hostname, where.port or _PORTS[where.scheme], keepalive=_ALIVE)
        except NoSecret as why:
            raise Away(f"`{name}`: {why}") from None
        except ssl.SSLError as why:
            reason = (why.reason or str(why)).replace("_", " ").lower()
            raise Away(f"`{name}` is not who it should be: {reason}") from None
        except (OSError, ValueError) as why:
            reason = (getattr(why, "strerror", None) or str(why)).lower()
            raise Away(f"`{name}` cannot be reached: {reason}") from None
        client.loop_start()
        if not self._answered.wait(_WITHIN):
            self.close()
            raise Away(f"`{name}` does not answer")
        if self._refused:
            self.close()
            raise Away(f"`{name}` does not let Fenko in: {self._refused}")

    def _connected(self, client: Any, data: Any, flags: Any, reason: Any, properties: Any) -> None:
        if reason.is_failure:
            self._refused = str(reason).lower()
        self._answered.set()

    def _disconnected(self, client: Any, data: Any, flags: Any, reason: Any, properties: Any) -> None:
        self.gone = True
        self._wake()

    def publish(self, topic: str, payload: str) -> None:
        """Publishes a text."""
        if self.gone:
            raise Away(f"`{self._name}` is gone")
        self._client.publish(topic, payload.encode(), qos=0, retain=self._keep)

    def close(self) -> None:
        """Says goodbye."""
        with contextlib.suppress(Exception):
            self._client.disconnect()
        with contextlib.suppress(Exception):
            self._client.loop_stop()


class MqttWorker(Worker):
    """One broker of a desk."""

    eager = True

    def __init__(self, tables: Mapping[str, Any], folder: Path, desk: Desk) -> None:
        super().__init__(tables, folder, desk)
        ((self._name, self._entry),) = tables["mqtt"].items()
        self._broker: Broker | None = None

    def open(self) -> None:
        """Reaches it."""
        self._broker = Broker(self._name, self._entry, self.folder, self.wake)

    def send(self, effects: Sequence[Effect]) -> None:
        """Publishes."""
        assert self._broker is not None
        for _, _, _, topic, payload, _ in effects:
            self._broker.publish(topic, payload)

    def watch(self) -> float | None:
        """A broker that is gone is reached again."""
        if self._broker is not None and self._broker.gone:
            raise Away(f"`{self._name}` is gone")
        return None

    def close(self) -> None:
        """Says goodbye; what was published is out by then."""
        if self._broker is not None:
            self._broker.close()
            self._broker = None
