"""MQTT at work: one connection to each broker, with TLS where its address says so."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from fenko.core.changes import Effect
from fenko.integrations.mqtt.line import MqttLine
from fenko.workers.worker import Away, Desk, Worker


def ready(tables: Mapping[str, Any], folder: Path) -> list[tuple[bool, str, str]]:
    """How things stand: good or not, what is so, what helps."""
    brokers = tables.get("mqtt")
    found = []
    for name, entry in brokers.items() if isinstance(brokers, dict) else ():
        try:
            MqttLine(name, entry, folder, lambda: None).close()
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


class MqttWorker(Worker):
    """One broker of a desk."""

    eager = True

    def __init__(self, tables: Mapping[str, Any], folder: Path, desk: Desk) -> None:
        super().__init__(tables, folder, desk)
        ((self._name, self._entry),) = tables["mqtt"].items()
        self._broker: MqttLine | None = None
        self._keep = self._entry.get("keep") is True

    def open(self) -> None:
        """Reaches it."""
        self._broker = MqttLine(self._name, self._entry, self.folder, self.wake)

    def send(self, effects: Sequence[Effect]) -> None:
        """Publishes."""
        assert self._broker is not None
        for _, _, _, topic, payload, _ in effects:
            self._broker.publish(topic, payload.encode(), keep=self._keep)

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
