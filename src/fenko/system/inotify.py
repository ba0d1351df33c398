"""Tells when files of a folder come, go or change their permissions, without polling (Linux inotify).

The binding is our own few lines: the packaged ones look for the C library by running a compiler or `ldconfig` at start.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import select
import struct
import threading
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path

_CREATED, _ATTRIBUTES, _MOVED_IN, _DELETED, _MOVED_OUT = 0x100, 0x4, 0x80, 0x200, 0x40
_WRITTEN, _GONE, _MOVED, _IGNORED = 0x8, 0x400, 0x800, 0x8000
_HEAD = struct.Struct("@iIII")


@cache
def _library() -> ctypes.CDLL:
    """Loaded once: each further one would stay in memory, for it refers to itself."""
    return ctypes.CDLL(None, use_errno=True)


class FolderWatch:
    """Watches one folder; with `contents` also what is written into its files, and whether it is still there. `fd` becomes
    readable when something has changed. Raises OSError if it cannot."""

    def __init__(self, folder: Path, contents: bool = False) -> None:
        self.fd: int = _library().inotify_init1(os.O_NONBLOCK | os.O_CLOEXEC)
        if self.fd < 0:
            raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
        mask = _CREATED | _ATTRIBUTES | _MOVED_IN | _DELETED | _MOVED_OUT
        if contents:
            mask |= _WRITTEN | _GONE | _MOVED
        if _library().inotify_add_watch(self.fd, os.fsencode(folder), mask) < 0:
            number = ctypes.get_errno()
            os.close(self.fd)
            raise OSError(number, os.strerror(number), str(folder))

    def read(self) -> Iterator[tuple[str, bool]]:
        """Names that have changed, and whether they are there (True) or gone (False); an empty name is the folder's own."""
        try:
            data = os.read(self.fd, 65536)
        except BlockingIOError:
            return
        at = 0
        while at < len(data):
            _, mask, _, length = _HEAD.unpack_from(data, at)
            at += _HEAD.size
            name = os.fsdecode(data[at : at + length].rstrip(b"\0"))
            at += length
            yield name, not mask & (_DELETED | _MOVED_OUT | _GONE | _MOVED | _IGNORED)

    def close(self) -> None:
        """Stops watching."""
        os.close(self.fd)


class Coming:
    """Waits in a thread until a path is there, and calls `came` each time; folders on the way to it may be missing too."""

    def __init__(self, path: Path, came: Callable[[], None]) -> None:
        self._path = path
        self._came = came
        self._there = False
        self._stop = os.eventfd(0, os.EFD_CLOEXEC)
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def _run(self) -> None:
        # Where the system watches nothing more for this user, it ends; what is waited for is looked for now and then anyway.
        with contextlib.suppress(OSError):
            while self._wait():
                pass

    def _wait(self) -> bool:
        """Waits for the next change on the way; False once nothing is waited for any more."""
        above = next(one for one in self._path.parents if one.is_dir())
        wanted = self._path.relative_to(above).parts[0]
        watch = FolderWatch(above, contents=True)
        try:
            there, before = self._path.exists(), self._there
            self._there = there
            if there and not before:
                self._came()
            if above != self._path.parent and (above / wanted).is_dir():
                return True  # the next folder on the way came while nobody looked
            while True:
                readable, _, _ = select.select([watch.fd, self._stop], [], [])
                if self._stop in readable:
                    return False
                if any(name in ("", wanted) for name, _ in watch.read()):
                    return True
        finally:
            watch.close()

    def close(self) -> None:
        """Has the thread end, and waits for that."""
        os.eventfd_write(self._stop, 1)
        self._thread.join()
        os.close(self._stop)
