"""Which process a window belongs to, as the sway compositor says: its other protocols do not. Nothing here waits, but for the
beginning and for `ask`."""

from __future__ import annotations

import os
import socket
import struct
from collections.abc import Iterator
from typing import Any, NamedTuple

import msgspec

from fenko.core.circumstances import Focus
from fenko.system.processes import program_of

_HEADER = struct.Struct("=6sII")
_MAGIC = b"i3-ipc"
_SUBSCRIBE, _GET_TREE = 2, 4
_WINDOW_CHANGED = 0x80000003
_ANSWERS_WITHIN = 2.0
_LONGEST = 1 << 24
_DEEPEST = 100


class _Known(NamedTuple):
    """What sway says of a window."""

    app: str
    title: str
    pid: int
    floats: bool


class SwayWindows:
    """Knows the processes of windows. Raises OSError where there is no sway, or it is gone."""

    def __init__(self) -> None:
        path = os.environ.get("SWAYSOCK", "")
        if not path:
            raise FileNotFoundError("SWAYSOCK is not set")
        self._socket = socket.socket(socket.AF_UNIX)
        self._in = b""
        self._known: dict[int, _Known] = {}
        self._front = 0
        try:
            self._socket.settimeout(_ANSWERS_WITHIN)
            self._socket.connect(path)
            self.fd = self._socket.fileno()
            self._tell(_SUBSCRIBE, b'["window"]')
            self.ask()
        except (OSError, ValueError):
            self._socket.close()
            raise

    def _tell(self, kind: int, body: bytes = b"") -> None:
        self._socket.sendall(_HEADER.pack(_MAGIC, len(body), kind) + body)

    def ask(self) -> None:
        """Asks for all windows anew, and waits for the answer."""
        self._tell(_GET_TREE)
        self._socket.settimeout(_ANSWERS_WITHIN)
        while True:
            for kind, body in self._messages():
                if kind == _GET_TREE:
                    self._known.clear()
                    for node in _nodes(body):
                        self._note(node)
                    return
                self._hear(kind, body)
            self._receive()

    def read(self) -> bool:
        """Hears what has come; whether it tells of a window."""
        self._socket.setblocking(False)
        try:
            self._receive()
        except BlockingIOError:
            return False
        told = False
        for kind, body in self._messages():
            told = self._hear(kind, body) or told
        return told

    def _receive(self) -> None:
        raw = self._socket.recv(1 << 16)
        if not raw:
            raise ConnectionResetError("sway is gone")
        self._in += raw

    def _messages(self) -> Iterator[tuple[int, Any]]:
        while len(self._in) >= _HEADER.size:
            magic, length, kind = _HEADER.unpack_from(self._in)
            if magic != _MAGIC or length > _LONGEST:
                raise ConnectionResetError("sway says what cannot be read")
            if len(self._in) < _HEADER.size + length:
                return
            raw, self._in = self._in[_HEADER.size : _HEADER.size + length], self._in[_HEADER.size + length :]
            try:
                yield kind, msgspec.json.decode(raw)
            except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
                continue

    def _hear(self, kind: int, body: Any) -> bool:
        if kind != _WINDOW_CHANGED or not isinstance(body, dict) or not isinstance(body.get("container"), dict):
            return False
        if body.get("change") == "close":
            gone = body["container"].get("id")
            if isinstance(gone, int):
                self._known.pop(gone, None)
        else:
            self._note(body["container"])
        return True

    def _note(self, node: dict[str, Any]) -> None:
        number, pid, title = node.get("id"), node.get("pid"), node.get("name") or ""
        properties = node.get("window_properties")
        app = node.get("app_id") or (properties.get("class") if isinstance(properties, dict) else None) or ""
        if isinstance(number, int) and isinstance(pid, int) and isinstance(app, str) and isinstance(title, str):
            self._known[number] = _Known(app, title, pid, node.get("type") == "floating_con")
            if node.get("focused") is True:
                self._front = number

    def completed(self, focus: Focus, front: bool) -> Focus:
        """A window with its program, as far as that is known; one that floats belongs to a window of its program that does not,
        for sway has dialogs float, and says nothing else of them."""
        found = self._known.get(self._front) if front else None
        if found is None or found.app != focus.app:
            same = (one for one in self._known.values() if (one.app, one.title) == (focus.app, focus.title))
            found = next(same, None)
        if found is None or found.pid <= 0:
            return focus
        owner = focus.owner
        if owner is None and found.floats:
            mains = [one for one in self._known.values() if one.pid == found.pid and not one.floats]
            owner = Focus(mains[-1].app, mains[-1].title) if mains else None
        program = program_of(found.pid)
        return Focus(focus.app, focus.title, *program, owner=owner and Focus(owner.app, owner.title, *program))

    def close(self) -> None:
        """Asks nothing any more."""
        self._socket.close()


def _nodes(tree: Any, depth: int = 0) -> Iterator[dict[str, Any]]:
    if not isinstance(tree, dict) or depth > _DEEPEST:
        return
    yield tree
    for name in ("nodes", "floating_nodes"):
        inner = tree.get(name)
        for node in inner if isinstance(inner, list) else ():
            yield from _nodes(node, depth + 1)
