"""Every port, by name: where it is, what it takes, and how what it began ends if this process is killed."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from fenko.core.lazy import load_named
from fenko.outputs.port import Memory, Port, Settings


class Row(NamedTuple):
    """A port: the function that opens it (`module:function`, of Settings), the outs that it takes, how many bytes of the
    guard's page it needs, and the function (of these bytes) that ends what they tell of."""

    opens: str
    outs: tuple[str, ...]
    memory: int = 0
    ends: str = ""


PORTS: dict[str, Row] = {
    "x11": Row("fenko.outputs.x11:open_port", ("keys", "pointer"), 545, "fenko.outputs.x11:end"),
    "wayland": Row("fenko.outputs.wayland:open_port", ("keys", "pointer"), 265, "fenko.outputs.kwin:end"),
    "kernel": Row("fenko.outputs.kernel:open_port", ("keys", "pointer")),
}


def open_port(name: str, settings: Settings) -> Port:
    """Opens a port; only now its module is loaded. Raises PortError."""
    port: Port = load_named(PORTS[name].opens)(settings)
    return port


def ports_for(outs: Iterable[str]) -> dict[str, list[str]]:
    """The names of the ports that take each of these outs; none for what stays within Fenko."""
    return {out: [name for name, row in PORTS.items() if out in row.outs] for out in outs}


def parts_of(page: Memory) -> dict[str, Memory]:
    """The part of the guard's page that each port has."""
    parts: dict[str, Memory] = {}
    at = 0
    for name, row in PORTS.items():
        if row.memory:
            parts[name] = memoryview(page)[at : at + row.memory]
            at += row.memory
    return parts


PAGE_SIZE = sum(row.memory for row in PORTS.values())
"""Bytes."""


def end_all(page: Memory) -> None:
    """Ends whatever the page tells of. One port that fails does not keep the others from it."""
    failures: list[Exception] = []
    for name, part in parts_of(page).items():
        if any(part):
            try:
                load_named(PORTS[name].ends)(part)
            except Exception as why:  # the other ports have to be ended too
                failures.append(why)
    if failures:
        raise failures[0]
