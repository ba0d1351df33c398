"""One connection to an X server: properties, the active window, events, and one error for all that can go wrong."""

from __future__ import annotations

import contextlib
import ctypes
import importlib
import re
import select
import socket
import struct
import sys
import time
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any

from fenko.system.session import DisplayError, display_name

SOCKETS = Path("/tmp/.X11-unix")
MODIFIER_BITS = {4: "ctrl", 8: "alt", 1: "shift", 64: "super"}
"""Bits of the core protocol's modifier masks, as every usual layout has them."""
ANSWERS_WITHIN = 10.0
"""Seconds that a server has to answer whoever comes."""
_ANY_TYPE = 0
_LONGEST = 4096  # a property is read up to this many 32-bit units
_SHORTEST_REPLY = 32  # bytes; each reply says how many more there are, in units of 4
_free = ctypes.CDLL(None).free


class NoWindow(Exception):
    """The window that was asked about is gone."""


def socket_name(display: str) -> str | None:
    """The name of a local display's socket in `SOCKETS`; None for a display elsewhere."""
    found = re.fullmatch(r"(?:unix)?:(\d+)(?:\.\d+)?", display)
    return f"X{found[1]}" if found else None


class Display:
    """A connection to the X server. Every method raises DisplayError when the server is gone."""

    def __init__(self, name: str) -> None:
        try:
            import xcffib
            import xcffib.xproto
        except (ImportError, OSError) as why:
            raise DisplayError(f"the X11 library (libxcb) is not on this machine: {why}") from why
        self.name = name
        self.x = xcffib.xproto
        self._binding = xcffib
        self._gone = xcffib.XcffibException
        # A subclass of the one above: catch it first. The library looks the errors of some extensions up in vain.
        self._refused = (xcffib.Error, KeyError)
        try:
            self.connection = xcffib.connect(name)
        except xcffib.XcffibException as why:
            raise DisplayError(f"display {name} cannot be opened") from why
        screen = self.connection.get_setup().roots[self.connection.pref_screen]
        self.root: int = screen.root
        self.fd: int = self.connection.get_file_descriptor()
        self._xcb = ctypes.CDLL("libxcb.so.1")
        self._pointer = self._address(self.connection._conn)
        self._extensions: dict[str, Any] = {}
        self._atoms: dict[str, int] = {}
        self._ahead: dict[tuple[int, str], Any] = {}

    def _address(self, pointer: Any) -> ctypes.c_void_p:
        return ctypes.c_void_p(int(self._binding.ffi.cast("uintptr_t", pointer)))

    def tell(self, request: Callable[..., Any], *arguments: Any) -> None:
        """Makes a request that has no reply."""
        try:
            request(*arguments)
        except self._gone as why:
            raise DisplayError(f"display {self.name} is gone") from why

    def ask(self, request: Callable[..., Any], *arguments: Any) -> Any:
        """The reply to a request. Raises NoWindow where the server refuses (the window has gone), and DisplayError where it does
        not answer within `ANSWERS_WITHIN`."""
        try:
            return self._reply(request(*arguments))
        except self._refused as why:
            raise NoWindow from why
        except self._gone as why:
            raise DisplayError(f"display {self.name} is gone") from why

    def _reply(self, cookie: Any) -> Any:
        """The binding's own way to wait for a reply has no end, and is deaf to Ctrl-C; so this asks the library below it."""
        reply, refusal = ctypes.c_void_p(), ctypes.c_void_p()
        self.connection.flush()
        end = time.monotonic() + ANSWERS_WITHIN
        while not self._xcb.xcb_poll_for_reply(
            self._pointer, ctypes.c_uint(cookie.sequence), ctypes.byref(reply), ctypes.byref(refusal)
        ):
            if not select.select([self.fd], [], [], max(0.0, end - time.monotonic()))[0]:
                raise DisplayError(f"display {self.name} does not answer")
        try:
            if refusal:
                raise NoWindow
            if not reply:
                raise DisplayError(f"display {self.name} is gone")
            (more,) = struct.unpack("=4xI", ctypes.string_at(reply, 8))
            raw = ctypes.string_at(reply, _SHORTEST_REPLY + 4 * more)
            return cookie.reply_type(self._binding.CffiUnpacker(self._binding.ffi.from_buffer(raw), len(raw)))
        finally:
            _free(reply)
            _free(refusal)

    def check(self, request: Callable[..., Any], *arguments: Any) -> None:
        """Makes a request that has no reply, and waits until it is done. Raises NoWindow where the server refuses."""
        try:
            asked = request(*arguments, is_checked=True)
            self.ask(self.connection.core.GetInputFocus)  # whose answer comes after the refusal
            asked.check()
        except self._refused as why:
            raise NoWindow from why
        except self._gone as why:
            raise DisplayError(f"display {self.name} is gone") from why

    def extension(self, name: str) -> Any:
        """The requests of an extension, by its module's name in xcffib."""
        try:
            if name not in self._extensions:
                key = importlib.import_module(f"xcffib.{name}").key
                # Asked for here: the first request of an extension would wait for what the server knows of it, without end.
                self._xcb.xcb_prefetch_extension_data(self._pointer, self._address(key.c_key))
                self.ask(self.connection.core.GetInputFocus)
                self._extensions[name] = self.connection(key)
            return self._extensions[name]
        except self._gone as why:
            raise DisplayError(f"display {self.name} is gone, or has no {name}") from why

    def atom(self, name: str) -> int:
        """The server's number for a name."""
        if name not in self._atoms:
            self._atoms[name] = self.ask(self.connection.core.InternAtom, False, len(name), name).atom
        return self._atoms[name]

    def property(self, window: int, name: str) -> bytes:
        """A property's bytes; empty where the window does not have it."""
        asked = self._ahead.pop((window, name), None)
        reply = self.ask(lambda: self._ask_property(window, name) if asked is None else asked)
        value: bytes = reply.value.buf()
        return value

    def _ask_property(self, window: int, name: str) -> Any:
        return self.connection.core.GetProperty(False, window, self.atom(name), _ANY_TYPE, 0, _LONGEST)

    @contextlib.contextmanager
    def ahead(self, window: int, names: Iterable[str]) -> Iterator[None]:
        """Within it these properties of a window are all had in the time that one takes: a server that is busy is waited for once."""
        try:
            self._ahead = {(window, name): self._ask_property(window, name) for name in names}
            yield
        except self._gone as why:
            raise DisplayError(f"display {self.name} is gone") from why
        finally:
            asked, self._ahead = self._ahead, {}
            for one in asked.values():
                with contextlib.suppress(self._gone):
                    one.discard_reply()

    def text_property(self, window: int, name: str) -> str:
        """A property's text."""
        return self.property(window, name).decode("utf-8", "replace")

    def title(self, window: int) -> str:
        """A window's title, by whichever property its program has set."""
        return decode_text(self.property(window, "_NET_WM_NAME") or self.property(window, "WM_NAME"))

    def numbers_property(self, window: int, name: str) -> list[int]:
        """A property's 32-bit numbers."""
        raw = self.property(window, name)
        whole = len(raw) // 4 * 4
        return list(memoryview(raw[:whole]).cast("I"))

    def window_manager(self) -> str | None:
        """The name of the window manager that tells which window is in front; empty if it has none, None if there is
        no such manager. One that crashed leaves its note behind, but not its window."""
        window = self.manager_window()
        try:
            return self.title(window) if window else None
        except NoWindow:
            return None

    def manager_window(self) -> int:
        """The window by which a running window manager shows that it is there; 0 if there is none."""
        windows = self.numbers_property(self.root, "_NET_SUPPORTING_WM_CHECK")
        try:
            if windows and self.numbers_property(windows[0], "_NET_SUPPORTING_WM_CHECK") == windows[:1]:
                return windows[0]
        except NoWindow:
            pass
        return 0

    def select(self, window: int, mask: int) -> None:
        """Asks for events of a window; no matter if it has just gone."""
        self.tell(self.connection.core.ChangeWindowAttributes, window, self.x.CW.EventMask, [mask])
        self.flush()

    def message(self, window: int, kind: str, *words: int) -> None:
        """Sends a window a message of the sort that window managers send."""
        raw = struct.pack("=BB2xII5I", 33, 32, window, self.atom(kind), *words, *[0] * (5 - len(words)))
        self.tell(self.connection.core.SendEvent, False, window, 0, raw)
        self.flush()

    def ask_manager(self, window: int, kind: str, *words: int) -> None:
        """Asks the window manager for something about a window."""
        raw = struct.pack("=BB2xII5I", 33, 32, window, self.atom(kind), *words, *[0] * (5 - len(words)))
        mask = self.x.EventMask.SubstructureNotify | self.x.EventMask.SubstructureRedirect
        self.tell(self.connection.core.SendEvent, False, self.root, mask, raw)
        self.flush()

    def flush(self) -> None:
        """Sends all requests now."""
        self.tell(self.connection.flush)

    def events(self) -> Iterator[Any]:
        """The events that have come, None for one that the library cannot take apart. Requests that the server refused
        are left out: their windows are gone."""
        while True:
            try:
                event = self.connection.poll_for_event()
            except KeyError:
                yield None
                continue
            except self._refused:
                continue
            except self._gone as why:
                raise DisplayError(f"display {self.name} is gone") from why
            if event is None:
                return
            yield event

    def close(self) -> None:
        """Closes the connection."""
        with contextlib.suppress(self._gone):
            self.connection.disconnect()


_UTF8_SEGMENT = re.compile(rb"\x1b%G(.*?)\x1b%@", re.DOTALL)
_OTHER_ESCAPE = re.compile(rb"\x1b[\x20-\x2f]+[\x30-\x7e]")


def decode_text(raw: bytes) -> str:
    """The text of a title: UTF-8, or ISO 8859-1 in which stretches of UTF-8 are marked (compound text)."""
    if b"\x1b" not in raw:
        try:
            return raw.decode()
        except UnicodeDecodeError:
            return raw.decode("latin-1")
    pieces = _UTF8_SEGMENT.split(raw)
    return "".join(
        piece.decode("utf-8", "replace") if number % 2 else _OTHER_ESCAPE.sub(b"", piece).decode("latin-1")
        for number, piece in enumerate(pieces)
    )


def _expect_answer(name: str, seconds: float) -> None:
    """Raises DisplayError where a server of this machine takes whoever comes, and says nothing: one that hangs, or has just been
    started. The library would wait for it, deaf to Ctrl-C."""
    local = socket_name(name)
    if local is None:
        return
    with socket.socket(socket.AF_UNIX) as line, contextlib.suppress(OSError):  # which the library has better words for
        line.settimeout(seconds)
        try:
            line.connect(str(SOCKETS / local))
            line.sendall(struct.pack("=BxHHHH2x", ord("l" if sys.byteorder == "little" else "B"), 11, 0, 0, 0))
            line.recv(1)  # whether it lets us in or not
        except (TimeoutError, BlockingIOError) as why:
            raise DisplayError(f"display {name} does not answer") from why


def open_display(name: str | None = None, patience: float = ANSWERS_WITHIN) -> Display:
    """A connection to the display, by default the session's, if it answers within so many seconds. Raises DisplayError."""
    name = display_name() if name is None else name
    if not name:
        raise DisplayError("DISPLAY is not set: there is no X server to talk to")
    _expect_answer(name, patience)
    return Display(name)
