"""Media players at work: MPRIS 2 on the session's bus (specifications.freedesktop.org/mpris-spec)."""

from __future__ import annotations

import contextlib
import os
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from fenko.core.changes import Effect
from fenko.core.patterns import BadPattern, Pattern, compile_pattern
from fenko.integrations.wording import write_of
from fenko.system.trouble import ignore_errors
from fenko.workers.worker import Away, Desk, Worker

PREFIX = "org.mpris.MediaPlayer2."
_PATH = "/org/mpris/MediaPlayer2"
_PLAYER = "org.mpris.MediaPlayer2.Player"
_PROPERTIES = "org.freedesktop.DBus.Properties"
_WITHIN = 2.0  # seconds in which a player answers
_LONGEST_TITLE = 200
_METHODS = {
    "play-pause": "PlayPause", "play": "Play", "pause": "Pause", "stop": "Stop", "next": "Next", "previous": "Previous",
}  # fmt: skip
_NO_BUS = "there is no session bus to find players on"


def _connect() -> Any:
    from jeepney.io.blocking import open_dbus_connection

    try:
        return open_dbus_connection(bus="SESSION")
    except (OSError, KeyError, ValueError) as why:
        raise Away(_NO_BUS) from why
    except Exception as why:  # jeepney says in many ways that nobody answers as it should
        raise Away(f"{_NO_BUS}: {why}") from why


def ready(tables: Mapping[str, Any], folder: Path) -> list[tuple[bool, str, str]]:
    """How things stand: good or not, what is so, what helps."""
    try:
        line = _connect()
    except Away:
        where = "set" if os.environ.get("DBUS_SESSION_BUS_ADDRESS") else "not set"
        return [
            (False, f"{_NO_BUS}; DBUS_SESSION_BUS_ADDRESS is {where}", "start Fenko from within the desktop's session")
        ]
    with contextlib.closing(line):
        names = Players(line).names()
    found = ", ".join(name.removeprefix(PREFIX) for name in names)
    return [(True, f"players: {found}" if found else "the session bus is there, and no player on it now", "")]


def offers(tables: Mapping[str, Any], folder: Path) -> list[tuple[str, str]]:
    """Phrases for whatever plays."""
    found = [("player play-pause", "whichever plays")]
    with contextlib.suppress(Away), contextlib.closing(_connect()) as line:
        found += [(f"player play-pause {write_of(_short(name))}", "is there") for name in Players(line).names()]
    return found


class Players:
    """What can be asked of the bus."""

    def __init__(self, line: Any) -> None:
        self._line = line

    def names(self) -> list[str]:
        """Every player that is there."""
        (names,) = self._call("/org/freedesktop/DBus", "org.freedesktop.DBus", "org.freedesktop.DBus", "ListNames")
        return sorted(name for name in names if name.startswith(PREFIX))

    def do(self, name: str, method: str, signature: str = "", *arguments: Any) -> None:
        """A player does something. Raises KeyError if it will not."""
        self._call(_PATH, name, _PLAYER, method, signature, arguments)

    def standing(self, name: str) -> dict[str, Any]:
        """Its properties; none if it says nothing."""
        try:
            (found,) = self._call(_PATH, name, _PROPERTIES, "GetAll", "s", (_PLAYER,))
            return {key: value[1] for key, value in found.items()}
        except (KeyError, ValueError, TypeError, AttributeError, IndexError):
            return {}  # it says no, or something else than what was asked for

    def _call(
        self, path: str, name: str, interface: str, method: str, signature: str = "", body: tuple[Any, ...] = ()
    ) -> Any:
        from jeepney import DBusAddress, MessageType, new_method_call

        message = new_method_call(DBusAddress(path, name, interface), method, signature or None, body)
        try:
            answer = self._line.send_and_get_reply(message, timeout=_WITHIN)
        except TimeoutError:
            raise KeyError(name) from None
        except (OSError, ValueError) as why:
            raise Away("the session bus is gone") from why
        if answer.header.message_type is MessageType.error:
            raise KeyError(name)
        return answer.body


class PlayerWorker(Worker):
    """One connection that does things, and one that hears what players say by themselves."""

    eager = True

    def __init__(self, tables: Mapping[str, Any], folder: Path, desk: Desk) -> None:
        super().__init__(tables, folder, desk)
        self._line: Any = None
        self._players: Players | None = None
        self._ears: Ears | None = None
        self._last = ""
        self._told: set[str] = set()

    def open(self) -> None:
        """Connects to the bus."""
        self._line = _connect()
        self._players = Players(self._line)
        self._ears = Ears(self.wake)
        self._tell()

    def send(self, effects: Sequence[Effect]) -> None:
        """Players do what is to be done."""
        for effect in effects:
            act, of, *seconds = effect[2:]
            for name in self._meant(of):
                self._do(name, act, *seconds)

    def _do(self, name: str, act: str, seconds: float = 0.0) -> None:
        assert self._players is not None
        try:
            if act == "seek":
                self._players.do(name, "Seek", "x", round(seconds * 1e6))
            else:
                self._players.do(name, _METHODS[act])
            self._last = name
        except KeyError:
            self.desk.note(f"Media players: {name.removeprefix(PREFIX)} does not {act}")

    def _meant(self, of: str | None) -> list[str]:
        """Those of a pattern; else the one that plays, or that played last, or any."""
        assert self._players is not None
        names = self._players.names()
        if of is not None:
            pattern = self._pattern(of)
            named = [name for name in names if pattern is not None and self._fits(pattern, name)]
            if not named:
                self.desk.note(
                    f"Media players: no player `{of}` is there"
                    + (f"; {', '.join(map(_short, names))}" if names else "")
                )
            return named
        if not names:
            self.desk.note("Media players: no player is there")
            return []
        playing = [name for name in names if self._players.standing(name).get("PlaybackStatus") == "Playing"]
        if playing:
            return [self._last if self._last in playing else playing[0]]
        return [self._last if self._last in names else names[0]]

    def _pattern(self, of: str) -> Pattern | None:
        with contextlib.suppress(BadPattern):
            return compile_pattern(of)
        return None

    def _fits(self, pattern: Pattern, name: str) -> bool:
        short = _short(name)
        # A second one of a program adds its process: `mpv.instance42`.
        return pattern.fits(short) or pattern.fits(short.split(".instance")[0])

    def watch(self) -> float | None:
        """Tells how players stand, when one of them has said something."""
        ears = self._ears
        if ears is None:
            return None
        if ears.ended.is_set():
            raise Away("the session bus is gone")
        if ears.news.is_set():
            ears.news.clear()
            self._tell()
        return None

    def _tell(self) -> None:
        assert self._players is not None
        now: set[str] = set()
        for name in self._players.names():
            standing = self._players.standing(name)
            if not standing:
                continue
            short = _short(name)
            now.add(short)
            playing = standing.get("PlaybackStatus") == "Playing"
            if playing:
                self._last = name
            fact: dict[str, Any] = {"playing": playing, "title": _title(standing.get("Metadata"))}
            position, rate = standing.get("Position"), standing.get("Rate")
            if isinstance(position, int):
                rate = rate if isinstance(rate, float) and 0 <= rate < 100 else 1.0
                fact |= {"position": position / 1e6, "at": time.time(), "rate": rate if playing else 0.0}
            self.desk.fact(short, fact)
        for short in self._told - now:
            self.desk.fact(short, None)
        self._told = now

    def close(self) -> None:
        """Lets go of the bus; players go on as they are."""
        if self._ears is not None:
            self._ears.close()
            self._ears = None
        line, self._line = self._line, None
        if line is not None:
            ignore_errors(line.close)
        for short in self._told:
            self.desk.fact(short, None)
        self._told = set()


def _title(metadata: Any) -> str:
    """The title, of a player that says it as it should."""
    found = metadata.get("xesam:title") if isinstance(metadata, dict) else None
    return str(found[1])[:_LONGEST_TITLE] if isinstance(found, tuple) and len(found) == 2 else ""


def _short(name: str) -> str:
    return name.removeprefix(PREFIX)


class Ears:
    """Hears players come, go, and change; `wake` is called then. A thread of its own, on a connection of its own."""

    def __init__(self, wake: Callable[[], None]) -> None:
        from jeepney import MatchRule, message_bus

        self.news = threading.Event()
        self.ended = threading.Event()
        self._wake = wake
        self._line = _connect()
        rules = (
            MatchRule(type="signal", interface=_PROPERTIES, member="PropertiesChanged", path=_PATH),
            MatchRule(type="signal", interface=_PLAYER, member="Seeked", path=_PATH),
            MatchRule(type="signal", sender="org.freedesktop.DBus", member="NameOwnerChanged"),
        )
        for rule in rules:
            self._line.send(message_bus.AddMatch(rule))
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        with contextlib.suppress(Exception):  # the bus, or this connection, has ended; `ended` says so
            while True:
                message = self._line.receive()
                if self._matters(message):
                    self.news.set()
                    self._wake()
        self.ended.set()
        self._wake()

    @staticmethod
    def _matters(message: Any) -> bool:
        from jeepney import HeaderFields, MessageType

        if message.header.message_type is not MessageType.signal:
            return False
        if message.header.fields.get(HeaderFields.member) == "NameOwnerChanged":
            return str(message.body[0]).startswith(PREFIX)
        return True

    def close(self) -> None:
        """Hears nothing any more."""
        self._wake = lambda: None
        ignore_errors(lambda: self._line.sock.shutdown(2))
        ignore_errors(self._line.close)
