"""Other programs of the same person talk to a running desk: its end of the private socket.

Nothing here can hold up an event: what does not fit into the socket waits in a bounded queue, and who does not read is
hung up on.
"""

from __future__ import annotations

import os
import select
import socket
import time
from collections import deque
from collections.abc import Callable, Collection
from math import inf
from typing import Any, Protocol

import msgspec

from fenko.core.verbs.desk import PROFILE_WORDS
from fenko.core.words import nearest
from fenko.live.loop import Loop
from fenko.live.rereading import Settings, Told
from fenko.system.talking import LONGEST, VERSION, Doorway, user_of

MOST_CLIENTS = 32
AT_ONCE = 4096
"""Bytes that are read at once from one of them."""
BREATH = 0.005
"""Seconds from one who comes in to the next."""
NO_ROOM = 1.0
"""Seconds before the next one is welcomed, where no descriptor is left for one."""
SHARE = 4
"""Of the time that many requests take, this many times as much goes by between them."""
MOST_WAITING = 1 << 20
"""Bytes for somebody who does not read."""
APART, EACH = 0.03, 0.006
"""Seconds from one state to the next that somebody who follows is told; of many, so much for each of them."""
SHORTEST, LONGEST_TRIAL = 1.0, 3600.0
"""Seconds of a trial."""


class Desk(Protocol):
    """What can be asked of a running desk."""

    @property
    def about(self) -> dict[str, Any]:
        """What it is."""

    @property
    def profiles(self) -> Collection[str]:
        """The profiles that there are."""

    def state(self) -> dict[str, Any]:
        """Its values, and where its controls are."""

    def status(self) -> dict[str, Any]:
        """What it does now, and what it has said lately."""

    def switch(self, name: str) -> None:
        """Puts a profile in force by hand."""

    def rest(self, paused: bool) -> None:
        """Pauses, or goes on."""

    def reload(self, told: Told) -> None:
        """Reads its files again."""

    def stop(self) -> None:
        """Ends it."""

    def try_settings(self, settings: Settings, seconds: float, told: Callable[[str | None], None]) -> None:
        """Other settings hold for a while; `told` hears that they do now, or why not."""

    def end_trial(self, keep: bool) -> bool:
        """The setting stays, or goes back; False if there is no trial."""


class _Client:
    """Somebody who talks to the desk."""

    def __init__(self, line: socket.socket) -> None:
        self.line = line
        self.came = b""
        self.waiting = b""
        self.follows = ""
        self.tries = False
        self.ended = False
        """Whether it has closed its sending half."""
        self.owed = 0
        """Answers that come later."""
        self.told: bytes = b""
        self.watched = 0

    @property
    def asks(self) -> bool:
        """Whether a whole request has come that has not been looked at."""
        return b"\n" in self.came


class TalkServer:
    """Listens as long as the desk runs."""

    def __init__(self, loop: Loop, desk: Desk, door: Doorway) -> None:
        self._loop = loop
        self._desk = desk
        self._clients: dict[int, _Client] = {}
        self._asking: deque[_Client] = deque()
        self._listening = door.line
        self._due = -inf
        self._followed = False
        self._telling: deque[tuple[_Client, bytes]] = deque()
        self._untold: list[str] = []
        self._tell = loop.timer(self._tell_followers)
        self._next = loop.timer(self._answer_one)
        self._welcoming = loop.timer(lambda now: self._poll.register(self._listening, select.EPOLLIN))
        # However many there are, the loop, which looks at all that it has before each wait, has one descriptor more.
        self._poll = select.epoll()
        self._poll.register(self._listening, select.EPOLLIN)
        loop.add(self._poll.fileno(), self._happened)
        loop.after_each_round(self._look)

    # --- Clients ---

    def _happened(self) -> None:
        """One thing at a time; the loop comes back for the next, after the events."""
        for fd, what in self._poll.poll(0, 1):
            client = self._clients.get(fd)
            if fd == self._listening.fileno():
                self._welcome()
            elif client is not None and client.ended and what & (select.EPOLLHUP | select.EPOLLERR):
                self._hang_up(client)
            elif client is not None and what & select.EPOLLOUT:
                self._write(client)
            elif client is not None:
                self._readable(client)

    def _watch(self, client: _Client) -> None:
        """Looks for what is wanted of a client now: what it asks, unless it has asked, and room for what waits for it."""
        fd = client.line.fileno()
        wanted = (0 if client.asks or client.ended else select.EPOLLIN) | (select.EPOLLOUT if client.waiting else 0)
        if client.ended:
            wanted |= select.EPOLLHUP
        if fd < 0 or wanted == client.watched:
            return
        if not client.watched:
            self._poll.register(fd, wanted)
        elif wanted:
            self._poll.modify(fd, wanted)
        else:
            self._poll.unregister(fd)
        client.watched = wanted

    def _settle(self, client: _Client) -> None:
        """A client that says nothing more is let go when it has all its answers."""
        if client.ended and not (client.asks or client.owed or client.waiting or client.tries or client.follows):
            self._hang_up(client)
        else:
            self._watch(client)

    def _welcome(self) -> None:
        try:
            line, _ = self._listening.accept()
        except BlockingIOError:
            return
        except OSError:
            # No descriptor is left: who waits goes on waiting, and the loop with everything else.
            self._poll.unregister(self._listening)
            self._welcoming.set_in(NO_ROOM)
            return
        # Somebody who comes and goes all the time shall not be all that the desk does.
        self._poll.unregister(self._listening)
        self._welcoming.set_in(BREATH)
        if len(self._clients) >= MOST_CLIENTS or user_of(line) not in (os.getuid(), 0):
            line.close()
            return
        line.setblocking(False)
        client = _Client(line)
        self._clients[line.fileno()] = client
        self._watch(client)
        self._send(client, {"fenko": VERSION, **self._desk.about})

    def _readable(self, client: _Client) -> None:
        try:
            data = client.line.recv(AT_ONCE)
        except BlockingIOError:
            return
        except OSError:
            data = b""
        client.came += data
        if not data and not client.ended:
            client.ended = True  # it says nothing more, and may still wait for answers
            self._settle(client)
        elif not data or (len(client.came) > LONGEST and not client.asks):
            self._hang_up(client)
        elif client.asks:
            # What more it has to say is read when this is answered; one request after the other, events before each.
            self._watch(client)
            self._asking.append(client)
            if len(self._asking) == 1:
                self._next.set(0.0)

    def _answer_one(self, began: float) -> None:
        while self._asking and self._asking[0].line.fileno() not in self._clients:
            self._asking.popleft()
        if not self._asking:
            return
        client = self._asking.popleft()
        line, _, client.came = client.came.partition(b"\n")
        try:
            request = msgspec.json.decode(line)
        except (msgspec.DecodeError, RecursionError):
            request = None
        self._answer(client, request if isinstance(request, dict) else {})
        if client.asks:
            self._asking.append(client)
        self._settle(client)
        if self._asking:
            now = time.monotonic()
            self._next.set(now + SHARE * (now - began))

    def _answer(self, client: _Client, request: dict[str, Any]) -> None:
        match request.get("ask"):
            case "values" | "status" as word:
                if request.get("follow") is True:
                    client.follows, client.told = word, b""
                    self._followed = True
                    self._tell.set(0.0)
                else:
                    self._send(client, {"done": self._desk.state() if word == "values" else self._desk.status()})
            case "switch":
                self._switch(client, request.get("profile"))
            case "pause" | "resume" as word:
                self._desk.rest(word == "pause")
                self._send(client, {"done": {"paused": word == "pause"}})
            case "reload":
                client.owed += 1
                self._desk.reload(
                    lambda wrong, changed: self._answer_late(
                        client, {"done": {"changed": changed}} if wrong is None else {"error": wrong}
                    )
                )
            case "stop":
                self._send(client, {"done": {}})
                self._desk.stop()
            case "set":
                self._try(client, request)
            case "keep" | "undo" as word:
                if client.tries and self._desk.end_trial(keep=word == "keep"):
                    client.tries = False
                    self._send(client, {"done": {}})
                else:
                    self._send(client, {"error": "there is no trial of yours"})
            case word:
                self._send(client, {"error": f"`{word}` is nothing that this desk can be asked"[:200]})

    def _switch(self, client: _Client, name: Any) -> None:
        if name in PROFILE_WORDS or (isinstance(name, str) and name in self._desk.profiles):
            self._desk.switch(name)
            self._send(client, {"done": {"profile": self._desk.about["profile"]}})
        else:
            hint = nearest(name, self._desk.profiles) if isinstance(name, str) and len(name) < 100 else None
            also = f"; did you mean `{hint}`?" if hint else f" ({', '.join([*self._desk.profiles][:20])})"
            self._send(client, {"error": f"the desk has no profile `{name}`"[:200] + also})

    def _try(self, client: _Client, request: dict[str, Any]) -> None:
        settings, seconds = request.get("settings"), request.get("for")
        good = isinstance(settings, dict) and settings and all(isinstance(value, str) for value in settings.values())
        if not good or not isinstance(settings, dict) or not isinstance(seconds, int | float):
            self._send(client, {"error": "`set` takes `settings` with their values, as texts, and `for`, in seconds"})
            return
        if not SHORTEST <= seconds <= LONGEST_TRIAL:
            self._send(client, {"error": f"a trial takes {SHORTEST:g} to {LONGEST_TRIAL:g} seconds"})
            return

        def told(wrong: str | None) -> None:
            if client.line.fileno() < 0:  # hung up in the meantime
                if wrong is None:
                    self._desk.end_trial(keep=False)
                return
            client.tries = wrong is None
            self._answer_late(client, {"error": wrong} if wrong is not None else {"tell": {"for": seconds}})

        client.owed += 1
        paths = tuple((tuple(setting.split(".")), value) for setting, value in settings.items())
        self._desk.try_settings(paths, float(seconds), told)

    def trial_ended(self) -> None:
        """A trial is over by itself."""
        for client in list(self._clients.values()):
            if client.tries:
                client.tries = False
                self._send(client, {"done": {"undone": True}})
                self._settle(client)

    # --- Telling ---

    def _look(self) -> None:
        """Something may have changed: who follows is told of it, but not all the time."""
        if self._followed and not self._telling:
            self._tell.set(max(self._due, time.monotonic()))

    def _tell_followers(self, now: float) -> None:
        """A little at a time, so that no event waits for all of it: first what is told is put together, then told to one after the
        other."""
        if self._telling:
            client, line = self._telling.popleft()
            # Who has not read what came before is told when that is done.
            if line != client.told and not client.waiting:
                client.told = line
                self._put(client, line)
        else:
            words = dict.fromkeys(client.follows for client in self._clients.values() if client.follows)
            self._followed = bool(words)
            self._untold = self._untold or list(words)
            if not self._untold:
                return
            word = self._untold.pop(0)
            line = (
                msgspec.json.encode({"tell": self._desk.state() if word == "values" else self._desk.status()}) + b"\n"
            )
            self._telling.extend((client, line) for client in self._clients.values() if client.follows == word)
        if self._telling or self._untold:
            self._tell.set(0.0)
        else:
            self._due = now + max(APART, EACH * len(self._clients))

    def _answer_late(self, client: _Client, message: dict[str, Any]) -> None:
        """What came of something that took its time."""
        client.owed -= 1
        self._send(client, message)
        if client.line.fileno() >= 0:
            self._settle(client)

    def _send(self, client: _Client, message: dict[str, Any]) -> None:
        self._put(client, msgspec.json.encode(message) + b"\n")

    def _put(self, client: _Client, data: bytes) -> None:
        if client.line.fileno() < 0:
            return  # hung up in the meantime
        client.waiting += data
        if len(client.waiting) > MOST_WAITING:
            self._hang_up(client)
        else:
            self._write(client)

    def _write(self, client: _Client) -> None:
        """Writes what fits; the rest when there is room."""
        try:
            client.waiting = client.waiting[client.line.send(client.waiting) :]
        except BlockingIOError:
            pass
        except OSError:
            self._hang_up(client)
            return
        self._settle(client)

    def _hang_up(self, client: _Client) -> None:
        fd = client.line.fileno()
        if self._clients.pop(fd, None) is None:
            return
        if client.watched:
            self._poll.unregister(fd)
        client.line.close()
        if client.tries:
            client.tries = False
            self._desk.end_trial(keep=False)

    def close(self) -> None:
        """Hangs up on everybody, and listens no more."""
        for timer in (self._tell, self._next, self._welcoming):
            timer.set(inf)
        self._followed = False
        for client in list(self._clients.values()):
            if client.waiting:
                self._write(client)
            self._hang_up(client)
        self._loop.remove(self._poll.fileno())
        self._poll.close()
