"""Texts through the clipboard, for characters that no key makes: it is lent for a moment, pasted from, and given back."""

from __future__ import annotations

import contextlib
import fcntl
import os
import sys
import termios
import time
from collections.abc import Generator
from functools import partial
from math import inf
from typing import Any

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
_TAKES_IN = 0.05
"""Seconds after a program has read a text in which it puts it in its place, at least."""
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
        self._before: dict[str, Content | None] | None = None
        self._transfers: list[Any] = []
        self.pasted = -inf
        """When somebody has pasted last (monotonic seconds)."""
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
        """Somebody pastes, or wants to know what was copied."""
        os.set_blocking(fd, False)
        self._transfers.append([fd, content.get(kind, b"")])
        self._taken = self._taken or (taken and kind in _TEXTS)
        self.go_on()

    def go_on(self) -> None:
        """Writes as much as whoever reads takes. A pipe is closed when all of it has been read."""
        for transfer in list(self._transfers):
            fd, left = transfer
            try:
                while left:
                    left = left[os.write(fd, left) :]
            except BlockingIOError:
                pass
            except OSError:
                left = b""  # nobody reads it any more
            transfer[1] = left
            if not left and not _unread(fd):
                os.close(fd)
                self._transfers.remove(transfer)

    @property
    def busy(self) -> bool:
        """Whether somebody still reads."""
        return bool(self._transfers)

    def paste(self, text: str) -> Generator[tuple[int, ...] | float, None, str | None]:
        """Strokes, and seconds to wait, by which a text comes where somebody types; says what went wrong, if anything did.
        What was there before is given back by `give_back`: not at once, for some programs (GTK) forget what they are reading
        when the clipboard becomes another one."""
        if self._before is None:
            before: dict[str, Content | None] = {}
            for which in self._now:
                before[which] = yield from self._content(which)
            self._before = before
        raw = text.encode()
        for which in self._now:
            self._put(which, dict.fromkeys(_TEXTS, raw) | {_NOT_FOR_HISTORIES: b"secret"}, taken=True)
        self._taken = False
        self._line.flush()
        begun = time.monotonic()
        yield PASTES
        end = time.monotonic() + _READS_WITHIN
        while (not self._taken or self._transfers) and time.monotonic() < end:
            self.go_on()
            yield _LOOK_EVERY
        self.pasted = time.monotonic()
        if not self._taken:
            return "the program pasted nothing"
        # GTK reads, and then takes what the clipboard has by that time; a key that comes before that overtakes the text. Who was
        # slow to read is slow at this, too.
        yield max(_TAKES_IN, self.pasted - begun)
        return None if None not in self._before.values() else "what had been copied was too much to be given back"

    def give_back(self) -> None:
        """What had been copied is there again, as long as this goes on."""
        before, self._before = self._before, None
        for which, content in (before or {}).items():
            self._put(which, content or {})
        self._line.flush()


def _unread(fd: int) -> int:
    """Bytes that stand in a pipe."""
    count = bytearray(4)
    try:
        fcntl.ioctl(fd, termios.FIONREAD, count)
    except OSError:
        return 0
    return int.from_bytes(count, sys.byteorder)
