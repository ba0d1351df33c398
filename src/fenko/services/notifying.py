"""Beside a running desk: shows what it has to say on the desktop (org.freedesktop.Notifications, version 1.2).

Whoever shows notifications may be slow, or there may be nobody; the desk hears nothing of that, and waits for nothing."""

from __future__ import annotations

from typing import Any

from fenko.services.messages import ShowNotification
from fenko.system.parent_process import ParentProcess, serve

PATIENCE = 3.0
"""Seconds in which a notification is taken."""
_URGENCY = {"profile": 0, "error": 1}
_STAYS = {"profile": 2000, "error": -1}  # ms; -1: as long as the desktop likes


class Shown:
    """What is shown now: of each kind one, which the next one takes the place of."""

    def __init__(self) -> None:
        self._line: Any = None
        self._numbers: dict[str, int] = {}

    def show(self, kind: str, title: str, body: str) -> None:
        """Shows something; with an empty title, no longer."""
        try:
            if title:
                if "body-markup" in self._ask("GetCapabilities", "", ())[0]:
                    body = body.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
                hints = {"urgency": ("y", _URGENCY[kind]), "transient": ("b", kind == "profile")}
                arguments: tuple[Any, ...] = (
                    "Fenko",
                    self._numbers.get(kind, 0),
                    "",
                    title,
                    body,
                    [],
                    hints,
                    _STAYS[kind],
                )
                self._numbers[kind] = int(self._ask("Notify", "susssasa{sv}i", arguments)[0])
            elif kind in self._numbers:
                self._ask("CloseNotification", "u", (self._numbers.pop(kind),))
        except Exception:  # nobody shows notifications here, or not as agreed; then they are in `fenko status`
            self._line = None

    def _ask(self, method: str, signature: str, arguments: tuple[Any, ...]) -> tuple[Any, ...]:
        from jeepney import DBusAddress, MessageType, new_method_call
        from jeepney.io.blocking import open_dbus_connection

        if self._line is None:
            self._line = open_dbus_connection(bus="SESSION")
        place = DBusAddress(
            "/org/freedesktop/Notifications", "org.freedesktop.Notifications", "org.freedesktop.Notifications"
        )
        answer = self._line.send_and_get_reply(
            new_method_call(place, method, signature or None, arguments), timeout=PATIENCE
        )
        if answer.header.message_type is MessageType.error:
            raise ConnectionError(str(answer.body))
        body: tuple[Any, ...] = answer.body
        return body


def work(parent: ParentProcess) -> None:
    """Show notifications until the parent ends; of several of one kind that wait, only the newest."""
    shown = Shown()
    while (received := parent.receive()) is not None:
        for message in {message.kind: message for message in received}.values():
            shown.show(message.kind, message.title, message.body)


if __name__ == "__main__":
    serve(work, ShowNotification)
