"""What of other ends `fenko learn` has to offer: what is there now, and what somebody moves there."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

from fenko.core.lazy import load_named
from fenko.core.verbs import OUTPUTS
from fenko.desk.load import Desk
from fenko.live.loop import Loop
from fenko.outputs.port import Descriptor, Settings
from fenko.outputs.workers_port import WorkersPort

_SETTLED = 1.0
"""Seconds in which other ends say how they stand; what they say after that has been moved."""


class Offer(NamedTuple):
    """A phrase for something that is there, and what that is."""

    phrase: str
    about: str


def offers(desk: Desk) -> Iterator[Offer]:
    """All that is there now, output by output."""
    for output in OUTPUTS.values():
        if output.offers:
            try:
                for phrase, about in load_named(output.offers)(desk.sources.data, desk.folder):
                    yield Offer(phrase, f"{output.title}: {about}")
            except Exception as why:  # a library that is not there, or somebody else's code
                yield Offer("", f"{output.title}: {type(why).__name__}: {why}")


class Moved:
    """Listens at the other ends that tell of changes, until somebody moves something there; `found` gets a phrase for it."""

    def __init__(self, desk: Desk, loop: Loop, found: Callable[[str], None], note: Callable[[str], None]) -> None:
        tables = desk.sources.data
        outs = [name for name, one in OUTPUTS.items() if one.moved and (not one.each or tables.get(one.each))]
        self._loop = loop
        self._found = found
        self._known: dict[tuple[str, str], Any] | None = None
        self._port = WorkersPort(outs, Settings(tables, note, None, str(desk.folder)))
        self._timer = loop.timer(self._settled)
        self._timer.set_in(_SETTLED)
        (descriptor,) = self._port.descriptors()
        self._loop.add(descriptor.fd, self._readable(descriptor), descriptor.writable)
        self._fd = descriptor.fd

    def _readable(self, descriptor: Descriptor) -> Callable[[], None]:
        def readable() -> None:
            descriptor.readable()
            self._look()

        return readable

    def _facts(self) -> dict[tuple[str, str], Any]:
        return {(out, name): fact for out, facts in self._port.facts.items() for name, fact in facts.items()}

    def _settled(self, now: float) -> None:
        self._known = self._facts()

    def _look(self) -> None:
        if self._known is None:
            return
        for (out, name), fact in self._facts().items():
            before, moved = self._known.get((out, name), {}), OUTPUTS[out].moved
            if before == fact or moved is None:
                continue
            if phrase := moved(name, before, fact):
                self.close()
                self._found(phrase)
                return
            self._known[out, name] = fact

    def close(self) -> None:
        """Listens no more."""
        if self._fd >= 0:
            self._timer.set(float("inf"))
            self._loop.remove(self._fd)
            self._fd = -1
            self._port.close()
