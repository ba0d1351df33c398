"""A terminal as a picture: the whole screen is drawn in one write, so that nothing flickers."""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import sys
import termios
import tty
from collections.abc import Callable, Sequence
from types import FrameType, TracebackType

from fenko.cli.shared import printed

_ENTER, _LEAVE = "\x1b[?1049h\x1b[?25l\x1b[?7l", "\x1b[?7h\x1b[?25h\x1b[?1049l"
_HOME, _CLEAR_LINE, _CLEAR_REST = "\x1b[H", "\x1b[K", "\x1b[J"


class FullScreen:
    """Owns the terminal while it is a context; gives it back as it was. `resized` is called on another size."""

    def __init__(self, resized: Callable[[], None]) -> None:
        self._resized = resized

    def __enter__(self) -> FullScreen:
        def on_resize(number: int, frame: FrameType | None) -> None:
            self._resized()

        self._before = signal.signal(signal.SIGWINCH, on_resize)
        self._settings = None
        with contextlib.suppress(termios.error):
            self._settings = termios.tcgetattr(sys.stdin)
            tty.setcbreak(sys.stdin)
        self._write(_ENTER)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._write(_LEAVE)
        if self._settings is not None:
            termios.tcsetattr(sys.stdin, termios.TCSADRAIN, self._settings)
        signal.signal(signal.SIGWINCH, self._before)

    @staticmethod
    def size() -> tuple[int, int]:
        """Columns and lines."""
        return shutil.get_terminal_size()

    def draw(self, lines: Sequence[str]) -> None:
        """Shows these lines and nothing else."""
        self._write(_HOME + "\r\n".join(printed(line) + _CLEAR_LINE for line in lines) + _CLEAR_REST)

    def _write(self, text: str) -> None:
        data = text.encode()
        while data:
            data = data[os.write(sys.stdout.fileno(), data) :]


def typed(ready: Sequence[object]) -> bytes:
    """What has been typed, where `select` says that stdin is ready; empty at its end."""
    return os.read(sys.stdin.fileno(), 16) if sys.stdin in ready else b"-"


def ends(keys: bytes) -> bool:
    """Whether that is the end: q, Ctrl-C, or nobody who types any more."""
    return not keys or b"q" in keys or b"\x03" in keys
