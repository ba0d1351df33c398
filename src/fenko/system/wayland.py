"""A client of a Wayland compositor: a socket, descriptors passed over it, and the tables of the protocol. Nothing here waits,
but for `settle`, which is for beginnings."""

from __future__ import annotations

import array
import contextlib
import os
import select
import socket
import struct
import time
from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import Any

from fenko.system.session import DisplayError, wayland_name
from fenko.system.wayland_tables import INTERFACES, Interface, Message

_HEADER = struct.Struct("=II")
_WORD = struct.Struct("=I")
_SIGNED = struct.Struct("=i")
_FIXED_PER_ONE = 256
_FIRST_OF_SERVER = 0xFF000000
_MOST_FDS = 28
_MOST_WAITING = 1 << 20
"""Bytes that wait to be sent; a compositor that has left more than that has not been listening for long."""
_LONGEST_MESSAGE = 1 << 16
SETTLES_WITHIN = 3.0
"""Seconds that a compositor has to answer at the beginning."""

Told = Callable[..., None]


class Object:
    """One object of the protocol. `tell` makes a request of it; `hears` has a function for each event that matters."""

    __slots__ = ("_line", "hears", "interface", "number", "version")

    def __init__(self, line: Wayland, interface: Interface, number: int, version: int) -> None:
        self._line = line
        self.interface = interface
        self.number = number
        self.version = version
        self.hears: dict[str, Told] = {}

    def tell(self, request: str, *arguments: Any) -> Object:
        """Makes a request; the object that it makes, else this one. Descriptors are closed here once they are sent."""
        return self._line.request(self, self.interface.requests[request], arguments)

    def forget(self, request: str = "destroy") -> None:
        """Makes the request that ends the object; nothing of it is heard any more."""
        self.hears = {}
        self.tell(request)


class Wayland:
    """A connection to a compositor. Every method raises DisplayError when that is gone, or has refused something."""

    def __init__(self, name: str | None = None, patience: float = SETTLES_WITHIN) -> None:
        self.name = wayland_name() if name is None else name
        if not self.name:
            raise DisplayError("WAYLAND_DISPLAY is not set: there is no Wayland compositor to talk to")
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM | socket.SOCK_CLOEXEC)
        try:
            self._socket.connect(str(socket_of(self.name)))
        except (OSError, ValueError) as why:
            self._socket.close()
            reason = getattr(why, "strerror", None) or why
            raise DisplayError(f"Wayland display {self.name} cannot be opened: {reason}") from why
        self._socket.setblocking(False)
        self.fd = self._socket.fileno()
        self._objects: dict[int, Object] = {}
        self._free: deque[int] = deque()
        self._next = 1
        self._out: deque[tuple[bytes, list[int]]] = deque()
        self._waiting = 0
        self._in = b""
        self._fds: deque[int] = deque()
        self.globals: dict[str, tuple[int, int]] = {}
        """The number and the version of each interface that the compositor offers; of several the first."""
        self._display = self._new("wl_display", 1)
        self._display.hears = {"error": self._refused, "delete_id": self._deleted}
        self._registry = self._display.tell("get_registry")
        self._registry.hears = {"global": self._offered, "global_remove": self._withdrawn}
        try:
            self.settle(patience)
        except DisplayError:
            self.close()
            raise

    # --- Objects ---

    def _new(self, interface: str, version: int) -> Object:
        if self._free:
            number = self._free.popleft()
        else:
            number, self._next = self._next, self._next + 1
        made = self._objects[number] = Object(self, INTERFACES[interface], number, version)
        return made

    def _deleted(self, number: int) -> None:
        if self._objects.pop(number, None) is not None and number < _FIRST_OF_SERVER:
            self._free.append(number)

    def _refused(self, number: int, code: int, message: str) -> None:
        about = self._objects.get(number)
        raise DisplayError(
            f"Wayland display {self.name}: {about.interface.name if about else number}: {message} ({code})"
        )

    def _offered(self, number: int, interface: str, version: int) -> None:
        self.globals.setdefault(interface, (number, version))

    def _withdrawn(self, number: int) -> None:
        self.globals = {name: offered for name, offered in self.globals.items() if offered[0] != number}

    def bind(self, interface: str, version: int) -> Object | None:
        """An object of an interface, of that version at most; None where the compositor does not offer it."""
        if interface not in self.globals:
            return None
        number, offered = self.globals[interface]
        made = self._new(interface, min(version, offered))
        self.request(self._registry, self._registry.interface.requests["bind"], (number, made))
        return made

    # --- Out ---

    def request(self, about: Object, message: Message, arguments: tuple[Any, ...]) -> Object:
        """Puts a request into the queue; `flush` sends it."""
        body = bytearray()
        fds: list[int] = []
        result = about
        given = iter(arguments)
        for kind in message.arguments:
            if kind == "new":
                result = self._new(message.makes, about.version)
                body += _WORD.pack(result.number)
                continue
            value = next(given)
            match kind:
                case "uint":
                    body += _WORD.pack(value & 0xFFFFFFFF)
                case "int":
                    body += _SIGNED.pack(value)
                case "fixed":
                    body += _SIGNED.pack(round(max(-8e6, min(8e6, value)) * _FIXED_PER_ONE))
                case "object":
                    body += _WORD.pack(value.number if value is not None else 0)
                case "string":
                    body += _packed(value)
                case "fd":
                    fds.append(value)
                case "any":
                    body += _packed(value.interface.name) + _HEADER.pack(value.version, value.number)
        self._out.append((_HEADER.pack(about.number, (8 + len(body)) << 16 | message.number) + body, fds))
        self._waiting += 8 + len(body)
        return result

    @property
    def waits(self) -> bool:
        """Whether something could not be sent yet, for the compositor is busy."""
        return bool(self._out)

    def flush(self) -> bool:
        """Sends what it can now; True if there is more."""
        while self._out:
            raw, fds = self._out[0]
            if not fds:  # everything up to the next descriptor in one piece
                count = 1
                while count < len(self._out) and not self._out[count][1]:
                    count += 1
                raw = b"".join(self._out[at][0] for at in range(count)) if count > 1 else raw
            else:
                count = 1
            try:
                if fds:
                    passed = [(socket.SOL_SOCKET, socket.SCM_RIGHTS, array.array("i", fds))]
                    sent = self._socket.sendmsg([raw], passed)
                else:
                    sent = self._socket.send(raw)
            except BlockingIOError:
                if self._waiting > _MOST_WAITING:
                    raise DisplayError(f"Wayland display {self.name} does not listen any more") from None
                return True
            except OSError as why:
                self._say_last_words()
                raise DisplayError(f"Wayland display {self.name} is gone") from why
            for fd in fds:
                os.close(fd)
            for _ in range(count):
                self._out.popleft()
            self._waiting -= sent
            if sent < len(raw):
                self._out.appendleft((raw[sent:], []))
                return True
        return False

    def _say_last_words(self) -> None:
        """A compositor that refuses something says why before it hangs up."""
        with contextlib.suppress(OSError):
            self._receive()
            self._dispatch()

    # --- In ---

    def read(self) -> None:
        """Hears what has come."""
        try:
            more = self._receive()
        except OSError as why:
            raise DisplayError(f"Wayland display {self.name} is gone") from why
        self._dispatch()
        if not more:
            raise DisplayError(f"Wayland display {self.name} is gone")

    def _receive(self) -> bool:
        """Takes in what is there; False at the end of it all."""
        while True:
            try:
                raw, passed, _, _ = self._socket.recvmsg(1 << 16, socket.CMSG_SPACE(4 * _MOST_FDS))
            except BlockingIOError:
                return True
            for level, kind, data in passed:
                if level == socket.SOL_SOCKET and kind == socket.SCM_RIGHTS:
                    fds = array.array("i")
                    fds.frombytes(data[: len(data) // 4 * 4])
                    self._fds.extend(fds)
            if not raw:
                return False
            self._in += raw
            if len(raw) < 1 << 16:
                return True

    def _dispatch(self) -> None:
        raw, at = self._in, 0
        self._in = b""
        try:
            while len(raw) - at >= 8:
                number, both = _HEADER.unpack_from(raw, at)
                size = both >> 16
                if size < 8 or size > _LONGEST_MESSAGE:
                    raise DisplayError(f"Wayland display {self.name} says what cannot be read")
                if len(raw) - at < size:
                    break
                body, at = raw[at + 8 : at + size], at + size
                self._hear(number, both & 0xFFFF, body)
        finally:
            self._in = raw[at:] + self._in

    def _hear(self, number: int, event: int, body: bytes) -> None:
        about = self._objects.get(number)
        if about is None:
            return
        if event >= len(about.interface.events):
            return  # of a later version; none of these carries a descriptor in what is spoken here
        message = about.interface.events[event]
        arguments: list[Any] = []
        try:
            self._unpack(message, body, about, arguments)
        except (struct.error, IndexError) as why:
            for kind, value in zip(message.arguments, arguments, strict=False):
                if kind == "fd":
                    os.close(value)
            raise DisplayError(f"Wayland display {self.name} says what cannot be read") from why
        hear = about.hears.get(message.name)
        if hear is not None:
            hear(*arguments)
            return
        for kind, value in zip(message.arguments, arguments, strict=True):
            if kind == "fd":
                os.close(value)

    def _unpack(self, message: Message, body: bytes, about: Object, arguments: list[Any]) -> None:
        at = 0
        for kind in message.arguments:
            if kind == "fd":
                arguments.append(self._fds.popleft())
                continue
            word = _WORD.unpack_from(body, at)[0]
            at += 4
            match kind:
                case "uint" | "object":
                    arguments.append(word)
                case "int":
                    arguments.append(_SIGNED.unpack_from(body, at - 4)[0])
                case "fixed":
                    arguments.append(_SIGNED.unpack_from(body, at - 4)[0] / _FIXED_PER_ONE)
                case "new":
                    made = Object(self, INTERFACES[message.makes], word, about.version)
                    self._objects[word] = made
                    arguments.append(made)
                case "string" | "array":
                    raw = body[at : at + word]
                    if len(raw) < word:
                        raise IndexError
                    at += (word + 3) // 4 * 4
                    arguments.append(raw if kind == "array" else raw.rstrip(b"\0").decode("utf-8", "replace"))

    def when_done(self, what: Callable[[], None]) -> None:
        """Calls it when the compositor has dealt with everything so far."""
        self._display.tell("sync").hears = {"done": lambda serial: what()}

    def settle(self, seconds: float = SETTLES_WITHIN) -> None:
        """Sends everything, and waits until the compositor has dealt with it."""
        done: list[int] = []
        self._display.tell("sync").hears = {"done": done.append}
        end = time.monotonic() + seconds
        while not done:
            writes = [self.fd] if self.flush() else []
            left = end - time.monotonic()
            if left <= 0:
                raise DisplayError(f"Wayland display {self.name} does not answer")
            if select.select([self.fd], writes, [], left)[0]:
                self.read()
        self.flush()  # what was answered meanwhile

    def compositor(self) -> str:
        """The name of the compositor's program; empty if it cannot be told."""
        try:
            raw = self._socket.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12)
            return Path(f"/proc/{struct.unpack('iII', raw)[0]}/comm").read_text().strip()
        except OSError:
            return ""

    def close(self) -> None:
        """Hangs up; everything that was made here ends with it."""
        self._socket.close()
        for fd in self._fds:
            os.close(fd)
        for _, fds in self._out:
            for fd in fds:
                os.close(fd)
        self._fds.clear()
        self._out.clear()
        self._objects.clear()


def socket_of(name: str) -> Path:
    """The socket of a Wayland display."""
    return Path(os.environ.get("XDG_RUNTIME_DIR", "/"), name)


def _packed(text: str) -> bytes:
    raw = text.encode() + b"\0"
    return _WORD.pack(len(raw)) + raw + b"\0" * (-len(raw) % 4)


def memory_with(content: bytes) -> int:
    """A descriptor of memory with that content, to be passed on."""
    fd = os.memfd_create("fenko", os.MFD_CLOEXEC)
    os.write(fd, content)
    return fd


def content_of(fd: int, size: int, most: int = 1 << 22) -> bytes:
    """What stands in memory that was passed on; the descriptor is closed."""
    try:
        return os.pread(fd, min(size, most), 0)
    except OSError:
        return b""
    finally:
        os.close(fd)
