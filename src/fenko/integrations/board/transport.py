"""A board of one's own, on a serial line or a TCP port: whom it says it is, what it says, and what it is told."""

from __future__ import annotations

import contextlib
import os
import threading
import time
from collections import deque
from collections.abc import Callable, Mapping
from math import inf
from pathlib import Path
from typing import Any

from fenko.core.flow import Sent, off_rest
from fenko.core.words import reason
from fenko.integrations.board.lines import VERSION, Alive, BoardReader, Declared, Hello, Ready, Said, line
from fenko.system.inotify import Coming
from fenko.system.link import Link
from fenko.workers.transport import Way
from fenko.workers.worker import Away

ASKED_EVERY = 1.0
"""Seconds from one time that a board is asked who it is to the next, until it says so; and, while anything is held on it, whether it
is alive."""
SILENT = 3
"""Times that it was asked in vain whether it is alive, after which it is taken for dead."""
_LEFT_OUT = 50  # lines that mean nothing, after which that is said


class BoardWay(Way):
    """`serial DEVICE [SPEED]` or `tcp HOST:PORT`."""

    longest_pause = 5.0

    def __init__(
        self, link: str, entry: Mapping[str, Any], wake: Callable[[], None], note: Callable[[str], None]
    ) -> None:
        super().__init__(link, entry, wake, note)
        self._line: Link | None = None
        self._reading: threading.Thread | None = None
        self._looked = threading.Event()
        self._reader = BoardReader()
        self._events: deque[Any] = deque()
        self._declared: Declared | None = None
        self._pressed: set[str] = set()
        self._asked = 0
        self._ask_at = inf
        self._said_odd = False
        self._coming: Coming | None = None
        self._on = False

    def open(self) -> None:
        """Opens the line and asks who is there."""
        kind, _, rest = self.link.partition(" ")
        device = rest.partition(" ")[0]
        if kind == "serial" and not os.path.exists(device):
            if self._coming is None:
                # Kept from one attempt to the next: somebody may plug it in, and then it is tried at once.
                self._coming = Coming(Path(device), self.wake)
            raise Away(f"{device} is not here")
        self.end()
        try:
            self._line = Link(self.link)
        except (OSError, ValueError) as why:
            raise Away(f"{rest} cannot be opened: {reason(why) if isinstance(why, OSError) else why}") from None
        self._reader = BoardReader()
        self._events.clear()
        self._said_odd = False
        self._looked.clear()
        self._reading = threading.Thread(target=self._listen, args=(self._line,), daemon=True)
        self._reading.start()
        self._asked = 0
        self._tell("fenko", VERSION)
        self._ask_at = time.monotonic() + ASKED_EVERY

    def _listen(self, link: Link) -> None:
        with contextlib.suppress(OSError, ValueError):
            while link.wait():
                self.wake()
                self._looked.wait()
                self._looked.clear()

    def hear(self, now: float) -> list[Sent]:
        """What it says. Raises Away when its line is gone."""
        assert self._line is not None
        reads = not self._events
        if reads:
            try:
                data = self._line.read()
            except OSError as why:
                raise Away(f"{self.link}: {reason(why)}") from None
            finally:
                self._looked.set()
            self._events.extend(self._reader.feed(data))
        found: list[Sent] = []
        while self._events:
            event = self._events.popleft()
            if isinstance(event, Said):
                found += [(now, control, value) for control, value in event.changes]
                for control, value in event.changes:
                    (self._pressed.add if off_rest(value) and control not in self.turning else self._pressed.discard)(
                        control
                    )
                self._asked = 0
            elif isinstance(event, Alive):
                self._asked = 0
            elif self._takes(event):
                break
        if self._reader.left_out > _LEFT_OUT and not self._said_odd:
            self._said_odd = True
            self.note(f"{self.link}: much of what it says is no line of a board (docs/boards.md), and is left out")
        self._look_after(now)
        # The call that woke this may have been for what was not read: then it is to be read at once.
        self.due = now if self._events or not reads else self._ask_at
        return found

    def _takes(self, event: Hello | Ready) -> bool:
        """What it says of itself; True if the surface is another one by that, or none any more."""
        self._asked = 0
        if isinstance(event, Hello):
            if self.what is not None and not self._pressed and event.version > 0:
                return False  # nothing is held on it, so it is enough to know that when it has said what it is
            was_here, self.what, self._declared = self.what is not None, None, None
            if event.version < 1:
                self.note(
                    f"{self.link}: it speaks version {event.version} of the line protocol; Fenko speaks {VERSION} and up"
                )
            return was_here
        if event.what.version < 1:
            return False
        self._pressed.clear()
        self._declared = event.what
        self.turning = event.what.turning
        self.what = {
            "title": event.what.title, "name": event.what.name,
            "controls": {name: {"sort": sort} for name, sort in event.what.sorts.items()},
            "shown": sorted(event.what.shown), "lamps": event.what.lamps,
        }  # fmt: skip
        return True

    def _look_after(self, now: float) -> None:
        """Asks again who is there; and, while anything is held, whether it still is. Raises Away if it is not."""
        if self._declared is not None and not (self._declared.alive and self._pressed):
            self._ask_at, self._asked = inf, 0
            return
        if self._ask_at == inf:
            self._ask_at = now + ASKED_EVERY
        if now < self._ask_at:
            return
        self._asked += 1
        if self._declared is None:
            self._tell("fenko", VERSION)
            self._ask_at = now + ASKED_EVERY * min(self._asked, 5)
        elif self._asked > SILENT:
            raise Away(f"{self.link}: it does not answer any more")
        else:
            self._tell("alive")
            self._ask_at = now + ASKED_EVERY

    # --- Answering ---

    def _tell(self, *words: object) -> None:
        if self._line is None:
            return
        try:
            self._line.send(line(*words))
        except BlockingIOError:
            return  # it does not read; of lamps the newest will come with the next change
        except OSError as why:
            raise Away(f"{self.link}: {reason(why)}") from None

    def do(self, act: str, values: tuple[Any, ...]) -> None:
        """Tells it, as far as it says that it can."""
        can = self._declared
        if can is None:
            return
        match act, values:
            case "lamp", (name, to) if name in can.lamps:
                self._on = True
                self._tell("lamp", name, to if can.lamps[name] or to == "off" else "on")
            case "tone", (hertz, seconds) if can.tone:
                self._on = True
                self._tell("tone", hertz, round(seconds * 1000))
            case "rumble", (level, seconds) if can.rumble:
                self._on = True
                self._tell("rumble", round(level * 100), round(seconds * 1000))
            case "text", (text,) if can.text:
                self._on = True
                self._tell("text", str(text)[: can.text])
            case "show", (name, at) if name in can.shown:
                self._tell("show", name, round(float(at) * 100, 1))

    def dark(self) -> None:
        """It forgets all that it was told."""
        if self._on:
            with contextlib.suppress(Away):
                self._tell("rest")
            self._on = False

    def close(self) -> None:
        """Closes the line."""
        self.dark()
        link, self._line = self._line, None
        if link is not None:
            link.stop_waiting()
            self._looked.set()
            if self._reading is not None:
                self._reading.join()
            link.orderly()
            link.close()
        self.what = self._declared = None
        self._pressed.clear()
        self.due = self._ask_at = inf

    def end(self) -> None:
        """Nobody waits for its device any more."""
        coming, self._coming = self._coming, None
        if coming is not None:
            coming.close()
