"""Other programs of the same person talk to a running desk: its end of the private socket.

Nothing here can hold up an event: what does not fit into the socket waits in a bounded queue, and who does not read is
hung up on.
"""

from __future__ import annotations

import contextlib
import os
import socket
import time
from collections.abc import Callable
from math import inf
from pathlib import Path
from typing import Any, Protocol, TypeAlias

import msgspec

from fenko.live.loop import Loop
from fenko.system.talking import LONGEST, VERSION, private_folder, socket_path, user_of

MOST_CLIENTS = 16
MOST_WAITING = 1 << 20
"""Bytes for somebody who does not read."""
APART = 0.05
"""Seconds from one state to the next that somebody who follows is told."""
SHORTEST, LONGEST_TRIAL = 1.0, 3600.0
"""Seconds of a trial."""


Settings: TypeAlias = tuple[tuple[tuple[str, ...], str], ...]
"""Paths in a desk, each with a TOML value."""


class Desk(Protocol):
    """What can be asked of a running desk."""

    @property
    def about(self) -> dict[str, Any]:
        """What it is."""

    def state(self) -> dict[str, Any]:
        """Its values, and where its controls are."""

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
        self.follows = False
        self.tries = False
        self.told: bytes = b""


class TalkServer:
    """Listens as long as the desk runs. `note` hears why nobody can talk to it, if so."""

    def __init__(self, loop: Loop, desk: Desk, note: Callable[[str], None]) -> None:
        self._loop = loop
        self._desk = desk
        self._clients: dict[int, _Client] = {}
        self._path = socket_path()
        self._listening: socket.socket | None = None
        self._due = -inf
        self._tell = loop.timer(self._tell_followers)
        try:
            self._listening = self._listen(self._path)
        except OSError as why:
            note(f"other programs cannot talk to this desk: {why.strerror or why}")
            return
        if self._listening is None:
            note("another desk of yours is running; what talks to a desk talks to that one")
            return
        loop.add(self._listening.fileno(), self._welcome)
        loop.after_each_round(self._look)

    def _listen(self, path: Path) -> socket.socket | None:
        private_folder(path.parent)
        line = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM | socket.SOCK_NONBLOCK)
        with contextlib.closing(socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)) as other:
            try:
                other.connect(str(path))
            except OSError:
                path.unlink(missing_ok=True)  # of a desk that ended without a word
            else:
                line.close()
                return None
        line.bind(str(path))
        os.chmod(path, 0o600)
        line.listen(64)
        return line

    # --- Clients ---

    def _welcome(self) -> None:
        assert self._listening is not None
        try:
            line, _ = self._listening.accept()
        except OSError:
            return
        if len(self._clients) >= MOST_CLIENTS or user_of(line) not in (os.getuid(), 0):
            line.close()
            return
        line.setblocking(False)
        client = _Client(line)
        self._clients[line.fileno()] = client
        self._loop.add(line.fileno(), lambda: self._readable(client), lambda: self._write(client))
        self._send(client, {"fenko": VERSION, **self._desk.about})

    def _readable(self, client: _Client) -> None:
        try:
            data = client.line.recv(LONGEST)
        except BlockingIOError:
            return
        except OSError:
            data = b""
        client.came += data
        if not data or (len(client.came) > LONGEST and b"\n" not in client.came):
            self._hang_up(client)
            return
        while b"\n" in client.came and client.line.fileno() in self._clients:
            line, _, client.came = client.came.partition(b"\n")
            try:
                request = msgspec.json.decode(line)
            except (msgspec.DecodeError, RecursionError):
                request = None
            self._answer(client, request if isinstance(request, dict) else {})

    def _answer(self, client: _Client, request: dict[str, Any]) -> None:
        match request.get("ask"):
            case "values":
                if request.get("follow") is True:
                    client.follows = True
                    self._tell_followers(time.monotonic())
                else:
                    self._send(client, {"done": self._desk.state()})
            case "set":
                self._try(client, request)
            case "keep" | "undo" as word:
                if client.tries and self._desk.end_trial(keep=word == "keep"):
                    client.tries = False
                    self._send(client, {"done": {}})
                else:
                    self._send(client, {"error": "there is no trial of yours"})
            case word:
                self._send(client, {"error": f"`{word}` is nothing that this desk can be asked"})

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
            self._send(client, {"error": wrong} if wrong is not None else {"tell": {"for": seconds}})

        paths = tuple((tuple(setting.split(".")), value) for setting, value in settings.items())
        self._desk.try_settings(paths, float(seconds), told)

    def trial_ended(self) -> None:
        """A trial is over by itself."""
        for client in list(self._clients.values()):
            if client.tries:
                client.tries = False
                self._send(client, {"done": {"undone": True}})

    # --- Telling ---

    def _look(self) -> None:
        """Something may have changed: who follows is told of it, but not all the time."""
        if self._clients and any(client.follows for client in self._clients.values()):
            self._tell.set(max(self._due, time.monotonic()))

    def _tell_followers(self, now: float) -> None:
        self._due = now + APART
        followers = [client for client in self._clients.values() if client.follows]
        if not followers:
            return
        state = msgspec.json.encode({"tell": self._desk.state()}) + b"\n"
        for client in followers:
            if state != client.told and not client.waiting:
                client.told = state
                self._put(client, state)

    def _send(self, client: _Client, message: dict[str, Any]) -> None:
        self._put(client, msgspec.json.encode(message) + b"\n")

    def _put(self, client: _Client, data: bytes) -> None:
        client.waiting += data
        if len(client.waiting) > MOST_WAITING:
            self._hang_up(client)
        else:
            self._write(client)

    def _write(self, client: _Client) -> bool:
        """Writes what fits; whether there is more."""
        if client.waiting:
            try:
                client.waiting = client.waiting[client.line.send(client.waiting) :]
            except BlockingIOError:
                pass
            except OSError:
                self._hang_up(client)
                return False
        return bool(client.waiting)

    def _hang_up(self, client: _Client) -> None:
        fd = client.line.fileno()
        if self._clients.pop(fd, None) is None:
            return
        self._loop.remove(fd)
        client.line.close()
        if client.tries:
            client.tries = False
            self._desk.end_trial(keep=False)

    def close(self) -> None:
        """Hangs up on everybody, and listens no more."""
        self._tell.set(inf)
        for client in list(self._clients.values()):
            self._hang_up(client)
        if self._listening is not None:
            self._loop.remove(self._listening.fileno())
            self._listening.close()
            self._listening = None
            self._path.unlink(missing_ok=True)
