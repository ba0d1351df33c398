"""The private socket of a running desk: where it is, and how one talks to it.

One JSON object a line, UTF-8. The desk begins with `{"fenko": 1, "desk": NAME, "folder": …}`; 1 is the version of all this. A request is
`{"ask": WORD, …}`; what comes of it are lines `{"tell": …}`, and at last `{"done": …}` or `{"error": TEXT}`. One request
at a time; who hangs up takes back what they asked for.
"""

from __future__ import annotations

import os
import socket
import stat
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec

VERSION = 1
LONGEST = 1 << 16
"""Bytes of a line."""


class NobodyThere(Exception):
    """No desk is running for this user."""


class Refused(Exception):
    """The desk cannot do what was asked; the message says why."""


def socket_path() -> Path:
    """Where the desk of this user listens: in the runtime folder, which is the user's alone."""
    folder = Path(os.environ.get("XDG_RUNTIME_DIR") or f"/run/user/{os.getuid()}")
    # Where there is no such folder, one in a place that is everybody's, which is looked at before it is trusted.
    return (folder / "fenko" if folder.is_dir() else Path(f"/tmp/fenko-{os.getuid()}")) / "desk"


def private_folder(path: Path) -> None:
    """Makes a folder for this user alone. Raises OSError, also if it is there and somebody else can reach it."""
    path.mkdir(mode=0o700, parents=True, exist_ok=True)
    found = path.stat(follow_symlinks=False)
    if not stat.S_ISDIR(found.st_mode) or found.st_uid != os.getuid() or found.st_mode & 0o077:
        raise PermissionError(f"{path} can be reached by others")


def user_of(line: socket.socket) -> int:
    """Who is at the other end."""
    user: int = struct.unpack("3i", line.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12))[1]
    return user


class Talk:
    """A conversation with the running desk. Raises NobodyThere."""

    def __init__(self) -> None:
        self._line = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        try:
            self._line.connect(str(socket_path()))
        except OSError:
            self._line.close()
            raise NobodyThere("no desk is running; `fenko run` starts one") from None
        if user_of(self._line) not in (os.getuid(), 0):
            self._line.close()
            raise NobodyThere("what listens there is somebody else's")
        self._rest = b""
        self.desk: dict[str, Any] = self._next()

    def fileno(self) -> int:
        """The descriptor on which the desk is heard."""
        return self._line.fileno()

    def ask(self, word: str, **more: Any) -> Iterator[dict[str, Any]]:
        """Asks for something: what is told on the way, and last what comes of it. Raises Refused, NobodyThere."""
        self.send(word, **more)
        while True:
            answer = self._next()
            if "error" in answer:
                raise Refused(str(answer["error"]))
            if "done" in answer:
                yield answer["done"]
                return
            yield answer.get("tell", {})

    def told(self) -> dict[str, Any]:
        """What is told next. Raises NobodyThere."""
        found: dict[str, Any] = self._next().get("tell", {})
        return found

    @property
    def heard(self) -> bool:
        """Whether something has been told already that nobody has looked at."""
        return b"\n" in self._rest

    def send(self, word: str, **more: Any) -> None:
        """Asks for something without waiting."""
        try:
            self._line.sendall(msgspec.json.encode({"ask": word, **more}) + b"\n")
        except OSError:
            raise NobodyThere("the desk has ended") from None

    def _next(self) -> dict[str, Any]:
        while b"\n" not in self._rest:
            try:
                data = self._line.recv(LONGEST)
            except OSError:
                data = b""
            if not data:
                raise NobodyThere("the desk has ended")
            self._rest += data
        line, _, self._rest = self._rest.partition(b"\n")
        answer: dict[str, Any] = msgspec.json.decode(line)
        return answer

    def close(self) -> None:
        """Hangs up."""
        self._line.close()
