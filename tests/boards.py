"""Boards of one's own on a terminal: the reference program in a process of its own, or any other that a test wants; the line stays
when it is killed, as that of a board does which starts anew."""

from __future__ import annotations

import contextlib
import os
import pty
import select
import subprocess
import sys
import threading
import tty
from pathlib import Path

from fenko.data import BOARDS

RUN = """
import os, sys
class Line:
    def fileno(self): return 0
    def read(self, most): return os.read(0, most).decode("ascii", "replace")
sys.stdin = Line()
sys.path[:0] = [{here!r}, {boards!r}]
import board
board.main()
"""
CONTROLS = """red.sort = "button"
green.sort = "button"
knob.sort = "fader"
dial.sort = "dial"
lean.sort = "tilt"
"""
"""What a desk says of the board's controls."""
PINS = """
import pathlib
NAME = "bench-box Bench box"
HAS = ("red button", "green button", "knob fader 0 1023", "dial dial", "lean tilt -512 511")
CAN = ("lamp red", "lamp glow colours", "tone", "rumble", "text 16", "show knob")
_here = pathlib.Path({here!r})
def read():
    try:
        values = dict(line.split(" ", 1) for line in (_here / "hands").read_text().splitlines())
        turned = _here / "turned"
        if turned.exists():
            values["dial"] = turned.read_text()
            turned.unlink()
        return values
    except (OSError, ValueError):
        return {{}}
def do(words):
    with (_here / "told").open("a") as file:
        file.write(" ".join(words) + "\\n")
"""


class Board:
    """A line at `device`, and at its other end a program, or nobody."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self.folder = folder
        self.device = folder / "ttyBench"
        self._process: subprocess.Popen[bytes] | None = None
        self._end = -1
        self._spare = -1
        self._listener: threading.Thread | None = None
        self._lock = threading.Lock()
        (folder / "pins.py").write_text(PINS.format(here=str(folder)))
        self.said = bytearray()
        """All that came from Fenko."""
        self.hands()

    def plug_in(self) -> None:
        """The line is there."""
        self._end, self._spare = pty.openpty()
        tty.setraw(self._spare)
        with contextlib.suppress(FileNotFoundError):
            self.device.unlink()
        self.device.symlink_to(os.ttyname(self._spare))
        self._listener = threading.Thread(target=self._listen, args=(self._end,), daemon=True)
        self._listener.start()

    def unplug(self) -> None:
        """The line is gone."""
        self.kill()
        ends, self._end, self._spare = (self._end, self._spare), -1, -1
        if self._listener is not None:
            self._listener.join()  # a line that somebody reads is not closed before that is over
        for end in ends:
            if end >= 0:
                os.close(end)
        with contextlib.suppress(FileNotFoundError):
            self.device.unlink()

    def start(self, *command: str) -> None:
        """The reference program runs on it, or another one."""
        script = RUN.format(here=str(self.folder), boards=str(BOARDS))
        program = [*command] or [sys.executable, "-u", "-c", script]
        process = self._process = subprocess.Popen(
            program, stdin=subprocess.PIPE, stdout=subprocess.PIPE, cwd=self.folder, bufsize=0
        )
        threading.Thread(target=self._speak, args=(process,), daemon=True).start()

    def kill(self) -> None:
        """The program stops in the middle of whatever it does; the line stays."""
        process, self._process = self._process, None
        if process is not None:
            process.kill()
            process.wait()

    def say(self, data: bytes) -> None:
        """These bytes are on the line, whoever said them."""
        with self._lock, contextlib.suppress(OSError):
            while data:
                data = data[os.write(self._end, data) :]

    def _speak(self, process: subprocess.Popen[bytes]) -> None:
        assert process.stdout is not None
        while data := process.stdout.read(4096):
            self.say(data)

    def _listen(self, end: int) -> None:
        with contextlib.suppress(OSError):
            while self._end == end:
                if not select.select([end], [], [], 0.05)[0]:
                    continue
                data = os.read(end, 4096)
                self.said += data
                process = self._process
                if process is not None and process.stdin is not None:
                    with contextlib.suppress(OSError):
                        process.stdin.write(data)

    def hands(self, **values: str) -> None:
        """How the controls stand from now on."""
        usual = {"red": "0", "green": "0", "knob": "0", "lean": "0 0"} | values
        new = self.folder / "hands.new"
        new.write_text("".join(f"{name} {value}\n" for name, value in usual.items()))
        new.replace(self.folder / "hands")

    def turn(self, detents: int) -> None:
        """The dial is turned."""
        new = self.folder / "turned.new"
        new.write_text(str(detents))
        new.replace(self.folder / "turned")

    @property
    def asked(self) -> list[str]:
        """What it was told to do, but for showing where values stand."""
        return [line for line in self.told if not line.startswith("show ")]

    @property
    def told(self) -> list[str]:
        """What it was told."""
        with contextlib.suppress(FileNotFoundError):
            return (self.folder / "told").read_text().splitlines()
        return []
