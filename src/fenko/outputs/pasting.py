"""Texts through the clipboard, for characters that no key makes: it is lent for a moment, pasted from, and given back."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Generator
from functools import partial

from fenko.system.session import DisplayError
from fenko.system.wayland import Object, Wayland

MANAGER = "zwlr_data_control_manager_v1"
PASTES = (42, 110)
"""The kernel codes of Shift and Insert, by which programs of every toolkit paste."""
_TEXTS = ("text/plain;charset=utf-8", "UTF8_STRING", "text/plain", "STRING", "TEXT")
_NOT_FOR_HISTORIES = "x-kde-passwordManagerHint"
"""Says to programs that keep what was copied that this is not for them."""
_MOST = 4 << 20
"""Bytes that are given back; somebody who had copied more has to copy it again, and is told so."""
_SAVES_WITHIN = 0.5
_READS_WITHIN = 10.0
_LOOK_EVERY = 0.003

Content = dict[str, bytes]


class Clipboard:
    """The clipboard, and what is marked, on a compositor that lets programs see to them. Raises DisplayError without one."""

    def __init__(self, line: Wayland, seat: Object) -> None:
        manager = line.bind(MANAGER, 2)
        if manager is None:
            raise DisplayError(f"the compositor of {line.name} lets nobody see to the clipboard ({MANAGER} is missing)")
        self._line = line
        self._manager = manager
        self._offers: dict[int, tuple[Object, list[str]]] = {}
        self._now = {"selection": 0, "primary_selection": 0}
        self._taken = False
        self._device = manager.tell("get_data_device", seat)
        self._device.hears = {
            "data_offer": self._offered,
            "selection": partial(self._set, "selection"),
            "primary_selection": partial(self._set, "primary_selection"),
        }

    def _offered(self, offer: Object) -> None:
        kinds: list[str] = []
        self._offers[offer.number] = offer, kinds
        offer.hears = {"offer": lambda kind: kinds.append(kind) if len(kinds) < 100 else None}

    def _set(self, which: str, number: int) -> None:
        self._now[which] = number
        for other in [one for one in self._offers if one not in self._now.values()]:
            self._offers.pop(other)[0].forget()

    def _content(self, which: str) -> Generator[float, None, Content | None]:
        """What is in there; None if that cannot be had, or is too much."""
        offer, kinds = self._offers.get(self._now[which], (None, []))
        if offer is None:
            return {}
        pipes = {}
        for kind in dict.fromkeys(kinds):
            ours, theirs = os.pipe2(os.O_CLOEXEC | os.O_NONBLOCK)
            offer.tell("receive", kind, theirs)
            pipes[kind] = ours
        self._line.flush()
        content = dict.fromkeys(pipes, b"")
        end = time.monotonic() + _SAVES_WITHIN
        try:
            while pipes:
                for kind, ours in list(pipes.items()):
                    with contextlib.suppress(BlockingIOError):
                        piece = os.read(ours, 1 << 16)
                        content[kind] += piece
                        if not piece:
                            os.close(pipes.pop(kind))
                if not pipes:
                    break
                if time.monotonic() > end or sum(map(len, content.values())) > _MOST:
                    return None
                yield _LOOK_EVERY
        finally:
            for ours in pipes.values():
                os.close(ours)
        return content

    def _put(self, which: str, content: Content, taken: bool = False) -> None:
        source = None
        if content:
            source = self._manager.tell("create_data_source")
            for kind in content:
                source.tell("offer", kind)
            source.hears = {"send": partial(self._send, content, taken), "cancelled": source.forget}
        self._device.tell("set_selection" if which == "selection" else "set_primary_selection", source)

    def _send(self, content: Content, taken: bool, kind: str, fd: int) -> None:
        """Somebody pastes. A pipe takes this much at once, or whoever reads it is not there any more."""
        os.set_blocking(fd, False)
        with contextlib.suppress(OSError):
            os.write(fd, content.get(kind, b""))
        os.close(fd)
        self._taken = self._taken or (taken and kind in _TEXTS)

    def paste(self, text: str) -> Generator[tuple[int, ...] | float, None, str | None]:
        """Strokes, and seconds to wait, by which a text comes where somebody types; says what went wrong, if anything did."""
        before: dict[str, Content | None] = {}
        for which in self._now:
            before[which] = yield from self._content(which)
        raw = text.encode()
        for which in self._now:
            self._put(which, dict.fromkeys(_TEXTS, raw) | {_NOT_FOR_HISTORIES: b"secret"}, taken=True)
        self._taken = False
        self._line.flush()
        yield PASTES
        end = time.monotonic() + _READS_WITHIN
        while not self._taken and time.monotonic() < end:
            yield _LOOK_EVERY
        for which, content in before.items():
            self._put(which, content or {})
        self._line.flush()
        if not self._taken:
            return "the program pasted nothing"
        return None if None not in before.values() else "what had been copied was too much to be given back"
