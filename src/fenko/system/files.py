"""Files that are there whole or not at all."""

from __future__ import annotations

import contextlib
import os
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO


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
