"""Gives effects to the ports that take them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from itertools import groupby
from math import inf
from operator import itemgetter

from fenko.core.changes import Effect
from fenko.live.loop import Loop, Timer
from fenko.outputs.port import Port, PortLost


class Router:
    """The ports of a running desk. `lost` is told of one whose other end is gone, between two events: by then nothing is
    sent there any more."""

    def __init__(self, loop: Loop, lost: Callable[[Port, str], None]) -> None:
        self._loop = loop
        self._lost = lost
        self._ports: dict[Port, Timer] = {}
        self._by_out: dict[str, Port] = {}
        # On the way of every event: most desks have one port.
        self._only: Port | None = None

    def use(self, port: Port) -> None:
        """Opens the way to a port."""
        timer = self._loop.timer(partial(self._go_on, port))
        self._ports[port] = timer
        self._by_out.update(dict.fromkeys(port.outs, port))
        self._only = port if len(self._ports) == 1 else None
        port.wake = timer.set
        for fd, readable, writable in port.descriptors():
            self._loop.add(fd, partial(self._call, port, readable), writable)

    def renew(self, port: Port) -> None:
        """A port takes other outs now."""
        self._by_out = {out: other for out, other in self._by_out.items() if other is not port}
        self._by_out.update(dict.fromkeys(port.outs, port))

    def drop(self, port: Port) -> None:
        """Closes the way to a port, and the port."""
        if self._ports.pop(port, None) is None:
            return
        self._forget(port)
        port.close()

    def _forget(self, port: Port) -> None:
        port.wake(inf)
        port.wake = _nothing
        for fd, _, _ in port.descriptors():
            self._loop.remove(fd)
        self._by_out = {out: other for out, other in self._by_out.items() if other is not port}
        self._only = next(iter(self._ports)) if len(self._ports) == 1 else None

    @property
    def ports(self) -> list[Port]:
        """The ports that are open."""
        return list(self._ports)

    @property
    def busy(self) -> bool:
        """Whether something waits to be sent."""
        return any(port.busy for port in self._ports)

    def send(self, effects: Sequence[Effect]) -> None:
        """Sends each effect where it belongs. Never raises, and calls nobody back."""
        only = self._only
        if only is not None:
            try:
                only.send(effects)
            except PortLost as why:
                self._lose(only, why)
            return
        first = effects[0][1]
        if len(effects) <= 2 and effects[-1][1] == first:
            port = self._by_out.get(first)
            if port is not None:
                try:
                    port.send(effects)
                except PortLost as why:
                    self._lose(port, why)
            return
        for out, some in groupby(effects, key=itemgetter(1)):
            port = self._by_out.get(out)
            if port is not None:
                self._call(port, partial(port.send, list(some)))

    def pass_motion(self, raw: bytes) -> None:
        """Hands on a mouse's moves."""
        port = self._by_out.get("pointer")
        if port is not None:
            self._call(port, partial(port.pass_motion, raw))

    def _go_on(self, port: Port, now: float) -> None:
        self._call(port, partial(port.go_on, now))

    def _call(self, port: Port, what: Callable[[], None]) -> None:
        try:
            what()
        except PortLost as why:
            self._lose(port, why)

    def _lose(self, port: Port, why: PortLost) -> None:
        """Closes the way at once; whoever has to know of it does so when the event at hand is dealt with."""
        if self._ports.pop(port, None) is not None:
            self._forget(port)
            port.give_up()
            port.close()
            self._loop.soon(partial(self._lost, port, str(why)))

    def give_up(self) -> list[str]:
        """Forgets what waits to be sent everywhere; what is lost by that."""
        return [lost for port in self._ports if (lost := port.give_up()) is not None]

    def begin_close(self) -> None:
        """Has every port end what it began, before any is waited for: a display that hangs keeps nothing else sounding."""
        for port in self.ports:
            port.begin_close()

    def close(self) -> None:
        """Closes every port."""
        self.begin_close()
        for port in self.ports:
            self.drop(port)


def _nothing(due: float) -> None:
    """Nobody is woken."""
