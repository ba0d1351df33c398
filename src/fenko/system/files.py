"""Files that are there whole or not at all."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO

LARGEST = 64_000_000
"""Bytes; no file that a person writes is larger."""


def real_path(path: Path) -> Path:
    """The path behind all symbolic links, as far as there is one; a link that leads to itself stays."""
    return Path(os.path.realpath(path))


def open_file(path: Path) -> BinaryIO:
    """A file to read. Raises OSError, also for devices and pipes, of which nobody knows when they end."""
    handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    try:
        found = os.fstat(handle)
        if stat.S_ISDIR(found.st_mode):
            raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR))
        if not stat.S_ISREG(found.st_mode):
            raise OSError(errno.EINVAL, "this is a device or a pipe, and no file")
        if found.st_size > LARGEST:
            raise OSError(errno.EFBIG, os.strerror(errno.EFBIG))
        return open(handle, "rb")
    except OSError:
        with contextlib.suppress(OSError):
            os.close(handle)
        raise


def read_file(path: Path) -> bytes:
    """All of a file. Raises OSError as `open_file` does."""
    with open_file(path) as file:
        return file.read()


@contextlib.contextmanager
def whole_file(path: Path, mode: int, put: Callable[[str, Path], None] = os.replace) -> Iterator[BinaryIO]:
    """A file to write into, which becomes `path` with this mode when all is written, and vanishes if anything fails.

    `put` puts it there: `os.replace` takes the place of what was there, `os.link` refuses to. Raises OSError."""
    handle, draft = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    try:
        with open(handle, "wb") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        os.chmod(draft, mode)
        put(draft, path)
    finally:
        with contextlib.suppress(FileNotFoundError):
            os.unlink(draft)
