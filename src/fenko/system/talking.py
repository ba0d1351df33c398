"""The private socket of a running desk: where it is, and how one talks to it.

One JSON object a line, UTF-8. The desk begins with `{"fenko": 1, "desk": NAME, "folder": …}`; 1 is the version of all this. A request is
`{"ask": WORD, …}`; what comes of it are lines `{"tell": …}`, and at last `{"done": …}` or `{"error": TEXT}`. One request
at a time; who hangs up takes back what they asked for.
"""

from __future__ import annotations

import fcntl
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
"""Bytes of a line that is asked."""
PATIENCE = 2.0
"""Seconds in which a desk says what it is, to one that would like to run too."""


class Taken(Exception):
    """A desk of this person runs already; `about` is what it says of itself, if it answers."""

    def __init__(self, process: int, about: dict[str, Any] | None) -> None:
        super().__init__("a desk of yours runs already")
        self.process = process
        self.about = about


class NobodyThere(Exception):
    """No desk is running for this user."""


class Refused(Exception):
    """The desk cannot do what was asked; the message says why."""


def private_runtime() -> Path:
    """What of the runtime folder is Fenko's."""
    folder = Path(os.environ.get("XDG_RUNTIME_DIR") or f"/run/user/{os.getuid()}")
    # After `su` it may be that of somebody else. Where there is none, one in a place that is everybody's, which is looked at
    # before it is trusted.
    return folder / "fenko" if os.access(folder, os.W_OK | os.X_OK) else Path(f"/tmp/fenko-{os.getuid()}")


def socket_path() -> Path:
    """Where the desk of this user listens."""
    return private_runtime() / "desk"


def private_folder(path: Path) -> None:
    """Makes a folder for this user alone. Raises OSError, also if it is there and somebody else can reach it."""
    try:
        found = path.stat(follow_symlinks=False)
    except FileNotFoundError:
        path.mkdir(mode=0o700, parents=True, exist_ok=True)
        found = path.stat(follow_symlinks=False)
    if not stat.S_ISDIR(found.st_mode) or found.st_uid != os.getuid() or found.st_mode & 0o077:
        raise PermissionError(f"{path} can be reached by others")


def user_of(line: socket.socket) -> int:
    """Who is at the other end."""
    user: int = struct.unpack("3i", line.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12))[1]
    return user


class Doorway:
    """The place at which the one desk of a person listens, as long as this lasts. Raises Taken, or OSError where nobody could
    come in."""

    def __init__(self) -> None:
        self.path = socket_path()
        private_folder(self.path.parent)
        # The lock decides who is the one: it goes with the process, whatever becomes of that.
        self._lock = os.open(
            self.path.with_suffix(".lock"), os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600
        )
        try:
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            process = os.read(self._lock, 20).decode("ascii", "replace").strip()
            os.close(self._lock)
            raise Taken(int(process) if process.isdecimal() else 0, _said_there()) from None
        os.ftruncate(self._lock, 0)
        os.write(self._lock, str(os.getpid()).encode())
        self.path.unlink(missing_ok=True)  # of a desk that ended without a word
        self.line = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM | socket.SOCK_NONBLOCK)
        self.line.bind(str(self.path))
        os.chmod(self.path, 0o600)
        self.line.listen(64)

    def close(self) -> None:
        """Another one may have it."""
        self.path.unlink(missing_ok=True)
        self.line.close()
        os.close(self._lock)


def _said_there() -> dict[str, Any] | None:
    try:
        talk = Talk(PATIENCE)
    except NobodyThere:
        return None
    talk.close()
    return talk.desk


class Talk:
    """A conversation with the running desk; with `patience` an answer that takes longer, in seconds, is none. Raises
    NobodyThere."""

    def __init__(self, patience: float | None = None) -> None:
        self._line = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        self._line.settimeout(patience)
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

    def arrived(self) -> list[dict[str, Any]]:
        """What has been told meanwhile, without waiting. Raises NobodyThere when nobody is there any more."""
        try:
            data = self._line.recv(LONGEST, socket.MSG_DONTWAIT)
        except BlockingIOError:
            return []
        except OSError:
            data = b""
        if not data:
            raise NobodyThere("the desk has ended")
        *lines, self._rest = (self._rest + data).split(b"\n")
        return [answer["tell"] for answer in map(msgspec.json.decode, lines) if "tell" in answer]

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
            except TimeoutError:
                raise NobodyThere("the desk does not answer") from None
            except OSError:
                data = b""
            if not data:
                raise NobodyThere("the desk has ended")
            self._rest += data
        line, _, self._rest = self._rest.partition(b"\n")
        answer: dict[str, Any] = msgspec.json.decode(line)
        return answer

    def patient(self) -> None:
        """Waits for as long as it takes from now on."""
        self._line.settimeout(None)

    def until_gone(self) -> None:
        """Waits until the desk has ended. Raises NobodyThere if that takes too long."""
        try:
            while self._line.recv(LONGEST):
                pass
        except TimeoutError:
            raise NobodyThere("the desk has not ended yet") from None
        except OSError:
            return

    def close(self) -> None:
        """Hangs up."""
        self._line.close()
