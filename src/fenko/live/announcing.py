"""Lent surfaces on the local network (mDNS, RFC 6762 and 6763), where a person wants them to be found: told of, and looked for. Only
that they are there is told, and by which broker; what hands do is not."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterator
from typing import Any

from msgspec import Struct

SERVICE = "_fenko-lend._tcp.local."
LOOKS_FOR = 3.0
"""Seconds in which whoever is there answers."""
_LONGEST = 200
MISSING = "finding surfaces on the network needs zeroconf: `pip install fenko[network]`"


class NoNetwork(Exception):
    """It cannot be told or looked for on the network: why."""


class Announced(Struct, frozen=True):
    """A surface that somebody lends: what it is called, its topic and kind, and the broker's address."""

    title: str
    topic: str
    kind: str
    broker: str


@contextlib.contextmanager
def announced(surfaces: list[Announced]) -> Iterator[None]:
    """Tells the network of these meanwhile. Raises NoNetwork."""
    zeroconf, made = _opened()
    try:
        for one in surfaces:
            said = {"topic": one.topic, "kind": one.kind, "broker": one.broker, "title": one.title}
            name = one.topic.replace("/", " ").replace(".", " ")[:50]
            # The broker is what counts, and may be elsewhere, so no address of this computer is told.
            service = zeroconf.ServiceInfo(
                SERVICE, f"{name}.{SERVICE}", port=9, properties=said, parsed_addresses=["127.0.0.1"]
            )
            try:
                made.register_service(service, allow_name_change=True)
            except OSError as why:
                raise NoNetwork(f"the network takes no announcements: {(why.strerror or str(why)).lower()}") from None
        yield
    finally:
        made.close()


def looked_for(seconds: float = LOOKS_FOR) -> list[Announced]:
    """What others tell of. Raises NoNetwork."""
    zeroconf, made = _opened()
    found: dict[tuple[str, str], Announced] = {}

    class Listener(zeroconf.ServiceListener):  # type: ignore[name-defined,misc]
        def add_service(self, zc: Any, kind: str, name: str) -> None:
            info = zc.get_service_info(kind, name, timeout=1000)
            one = _read(info.properties) if info is not None else None
            if one is not None:
                found[one.broker, one.topic] = one

        def update_service(self, zc: Any, kind: str, name: str) -> None:
            self.add_service(zc, kind, name)

        def remove_service(self, zc: Any, kind: str, name: str) -> None:
            """Whoever goes meanwhile was there."""

    try:
        zeroconf.ServiceBrowser(made, SERVICE, Listener())
        time.sleep(seconds)
    finally:
        made.close()
    return [found[key] for key in sorted(found)]


def _opened() -> tuple[Any, Any]:
    try:
        import zeroconf
    except ImportError:
        raise NoNetwork(MISSING) from None
    try:
        return zeroconf, zeroconf.Zeroconf(ip_version=zeroconf.IPVersion.V4Only)
    except OSError as why:
        raise NoNetwork(f"the network cannot be asked: {(why.strerror or str(why)).lower()}") from None


def _read(properties: dict[bytes, bytes | None]) -> Announced | None:
    """What somebody tells; None where that is no surface. Anybody may say anything."""
    said: dict[str, str] = {}
    for key in ("title", "topic", "kind", "broker"):
        value = properties.get(key.encode())
        text = (value or b"").decode("utf-8", "replace")[:_LONGEST]
        said[key] = "".join(one for one in text if one.isprintable())
    if not said["topic"] or not said["broker"].startswith(("mqtt://", "mqtts://")):
        return None
    return Announced(said["title"] or said["topic"], said["topic"], said["kind"], said["broker"])
