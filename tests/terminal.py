"""A pretended terminal of a given size, with a program on it."""

from __future__ import annotations

import fcntl
import os
import re
import select
import signal
import struct
import subprocess
import termios
import time
from pathlib import Path

from started import Started
from support import FENKO, wait_for


class Terminal:
    """Runs `fenko …` on a pseudo-terminal and keeps what it shows."""

    def __init__(
        self,
        *arguments: str,
        columns: int = 100,
        lines: int = 30,
        cwd: Path | None = None,
        before: tuple[str, ...] = (),
    ) -> None:
        self.master, slave = os.openpty()
        self.resize(columns, lines, tell=False)
        self.before = termios.tcgetattr(slave)
        self.slave = slave
        environment = {key: value for key, value in os.environ.items() if key not in ("COLUMNS", "LINES", "NO_COLOR")}
        environment["TERM"] = "xterm-256color"
        self.process: Started | subprocess.Popen[bytes]
        if before:
            self.process = subprocess.Popen(
                [*before, *FENKO, *arguments], stdin=slave, stdout=slave, stderr=slave, cwd=cwd, start_new_session=True,
                preexec_fn=lambda: fcntl.ioctl(0, termios.TIOCSCTTY, 0), env=environment,
            )  # fmt: skip
        else:
            self.process = Started(arguments, os.ttyname(slave), env=environment, cwd=cwd, terminal=True)
        self.shown = b""
        self.heard = 0

    def resize(self, columns: int, lines: int, tell: bool = True) -> None:
        """Gives the terminal another size."""
        fcntl.ioctl(self.master, termios.TIOCSWINSZ, struct.pack("HHHH", lines, columns, 0, 0))
        if tell:
            self.process.send_signal(signal.SIGWINCH)

    def pump(self) -> None:
        """Reads what has come."""
        while select.select([self.master], [], [], 0.02)[0]:
            try:
                self.shown += os.read(self.master, 65536)
            except OSError:
                return

    def frame(self) -> list[str]:
        """The lines of the last whole picture, without their colours."""
        self.pump()
        pictures = self.shown.decode(errors="replace").split("\x1b[H")
        whole = [picture for picture in pictures[1:] if "\x1b[J" in picture]
        if not whole:
            return []
        text = re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", whole[-1].split("\x1b[J")[0])
        return text.replace("\r", "").split("\n")

    def shows(self, text: str, seconds: float = 15) -> None:
        """Waits until the picture has a text."""
        wait_for(
            lambda: any(text in line for line in self.frame()), f"`{text}` in\n" + "\n".join(self.frame()), seconds
        )

    def says(self, text: str, seconds: float = 15) -> None:
        """Waits for a text, without its colours, after all that was waited for before."""

        def rest() -> str:
            self.pump()
            return re.sub(r"\x1b\[[0-9;]*m", "", self.shown.decode(errors="replace"))[self.heard :]

        wait_for(lambda: text in rest(), f"`{text}` in\n{rest()}", seconds)
        self.heard += rest().index(text) + len(text)

    def line(self, text: str) -> None:
        """Types a line."""
        self.type(text.encode() + b"\n")

    def type(self, keys: bytes) -> None:
        """Types keys."""
        os.write(self.master, keys)

    def end(self, seconds: float = 20) -> int:
        """Waits for the program to end; the terminal has to be as it was."""
        end = time.monotonic() + seconds
        while self.process.poll() is None and time.monotonic() < end:
            self.pump()
        self.pump()
        status = self.process.wait(1)
        assert termios.tcgetattr(self.slave) == self.before, "the terminal's settings were not given back"
        if b"\x1b[?1049h" in self.shown:
            assert self.shown.rindex(b"\x1b[?1049l") > self.shown.rindex(b"\x1b[?1049h")
            assert self.shown.rindex(b"\x1b[?25h") > self.shown.rindex(b"\x1b[?25l")
        return status
