"""The session's message bus as a descriptor: calls that wait at the beginning, and signals and calls that are heard without
waiting. (jeepney does the bytes.)"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any

from fenko.system.desktop_windows import AnotherDesktop
from fenko.system.session import DisplayError

_ANSWERS_WITHIN = 3.0
_TAKES_WITHIN = 0.5
"""Seconds that the bus itself, which passes on what others take when they do, may need to take something."""
_MOST_AT_ONCE = 200
"""Messages; somebody who never stops shall not be listened to for ever."""
BUS = ("org.freedesktop.DBus", "/org/freedesktop/DBus", "org.freedesktop.DBus")


class BusError(DisplayError):
    """Nobody answers, or somebody refuses."""


@contextmanager
def _as_bus_error(problem: str) -> Iterator[None]:
    """Raise BusError for every error within."""
    try:
        yield
    except BusError:
        raise
    except Exception as why:  # jeepney raises many errors where it gets no proper answer
        raise BusError(f"the session's message bus {problem}: {why or type(why).__name__}") from why


class Bus:
    """A connection to the session's bus. Every method raises BusError."""

    def __init__(self) -> None:
        if not os.environ.get("DBUS_SESSION_BUS_ADDRESS") and not os.path.exists(
            os.path.join(os.environ.get("XDG_RUNTIME_DIR", "/nowhere"), "bus")
        ):
            raise BusError("this session has no message bus")
        from jeepney.io.blocking import open_dbus_connection

        with _as_bus_error("cannot be reached"):
            self._connection: Any = open_dbus_connection("SESSION")
        self.fd: int = self._connection.sock.fileno()
        self._connection.sock.settimeout(_TAKES_WITHIN)
        self.name: str = self._connection.unique_name
        self._heard: list[Any] = []

    def call(self, to: tuple[str, str, str], method: str, signature: str = "", *body: Any) -> tuple[Any, ...]:
        """Calls a method of an object (bus name, path, interface), and waits for what it says."""
        from jeepney import DBusAddress, HeaderFields, MessageType, new_method_call

        message = new_method_call(DBusAddress(to[1], to[0], to[2]), method, signature or None, body)
        serial = next(self._connection.outgoing_serial)
        with _as_bus_error("is gone"):
            try:
                self._connection.send(message, serial=serial)
                while True:
                    answer = self._connection.receive(timeout=_ANSWERS_WITHIN)
                    if answer.header.fields.get(HeaderFields.reply_serial) == serial:
                        break
                    self._heard.append(answer)
            except TimeoutError as why:
                raise BusError(f"{to[0]} does not answer") from why
        if answer.header.message_type is not MessageType.method_return:
            raise BusError(f"{to[0]} refuses {method}: {answer.body[0] if answer.body else 'without a word'}")
        return tuple(answer.body)

    def tell(self, to: tuple[str, str, str], method: str, signature: str = "", *body: Any) -> None:
        """Calls a method, and is not interested in what it says."""
        from jeepney import DBusAddress, MessageFlag, new_method_call

        message = new_method_call(DBusAddress(to[1], to[0], to[2]), method, signature or None, body)
        message.header.flags |= MessageFlag.no_reply_expected
        with _as_bus_error("is gone"):
            self._connection.send(message)

    def match(self, rule: str) -> None:
        """Has the bus pass on what fits the rule."""
        self.call(BUS, "AddMatch", "s", rule)

    def owner_of(self, name: str) -> str:
        """Who has a name on the bus; empty if nobody has."""
        try:
            return str(self.call(BUS, "GetNameOwner", "s", name)[0])
        except BusError:
            return ""

    def take(self, name: str) -> bool:
        """Takes a name, if nobody has it."""
        return bool(self.call(BUS, "RequestName", "su", name, 4)[0] == 1)

    def read(self, wait: float = 0.0) -> list[tuple[str, str, tuple[Any, ...]]]:
        """What others have sent: the bus name of the sender, the member, the body. Calls are answered with nothing."""
        from jeepney import HeaderFields, MessageType, new_method_return

        found, self._heard = self._heard, []
        with _as_bus_error("is gone"), suppress(TimeoutError):
            while len(found) < _MOST_AT_ONCE:
                found.append(self._connection.receive(timeout=wait))
                wait = 0.0
        told = []
        for message in found:
            fields = message.header.fields
            if message.header.message_type is MessageType.method_call:
                with _as_bus_error("takes nothing"):
                    self._connection.send(new_method_return(message))
            elif message.header.message_type is not MessageType.signal:
                continue
            told.append(
                (str(fields.get(HeaderFields.sender, "")), str(fields.get(HeaderFields.member, "")), message.body)
            )
        return told

    def close(self) -> None:
        """Leaves the bus."""
        self._connection.close()


def open_bus() -> Bus:
    """The session's bus, to ask which desktop this is. Raises AnotherDesktop without one."""
    try:
        return Bus()
    except BusError as why:
        raise AnotherDesktop(str(why)) from why
