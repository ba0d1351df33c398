"""`fenko run` on a desktop, and takes in place of hands."""

from __future__ import annotations

import json
import signal
import socket
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from started import Started
from support import FENKO, wait_for

DESK = """
format = 1
[surface.pad]
kind = "gamepad"
[profile.base.on.pad]
mode = "f9"
[profile.frames]
when = { app = "snipwell" }
[profile.frames.on.pad]
south = { do = 'type "frames: Größe ✓ 東" then enter', label = "Name" }
east = "a"
west = "shift+b then enter"
north = 'type "Reel two, take 3" then enter'
[profile.sound]
when = { app = "hushdesk", title = "Wings*" }
[profile.sound.on.pad]
south = 'type "sound: ελληνικά, кириллица" then enter'
east = "shift"
"""


class Running:
    """`fenko run`, or `try`, on a screen, with its messages."""

    def __init__(
        self, one: Any, log: Path, *arguments: str, command: str = "run", unbuffered: bool = False, anew: bool = False
    ) -> None:
        self.log = log
        environment = one.environment | ({"PYTHONUNBUFFERED": "1"} if unbuffered else {})
        self.process: Started | subprocess.Popen[bytes]
        if anew:  # in a Python of its own
            with log.open("wb") as file:
                self.process = subprocess.Popen(
                    [*FENKO, command, *arguments], env=environment, stdout=file, stderr=file, start_new_session=True
                )
        else:
            self.process = Started([command, *arguments], log, env=environment)
        one.processes.append(self.process)

    def says(self, text: str, after: int = 0) -> None:
        """Waits until it has said something, behind the first so many characters."""

        def said() -> bool:
            assert self.process.poll() is None or text in self.log.read_text()[after:], self.log.read_text()
            return text in self.log.read_text()[after:]

        try:
            wait_for(said, f"`{text}`")
        except AssertionError as why:
            raise AssertionError(f"{why} in:\n{self.log.read_text()}") from None

    def end(self) -> int:
        self.process.send_signal(signal.SIGTERM)
        return self.process.wait(20)


@contextmanager
def cue_board(seconds: float) -> Iterator[tuple[socket.socket, str]]:
    """A program that hears cues, and waits so long for each; and the tables by which a desk with a pad sends them."""
    with socket.socket(type=socket.SOCK_DGRAM) as peer:
        peer.bind(("127.0.0.1", 0))
        peer.settimeout(seconds)
        to = f"udp 127.0.0.1:{peer.getsockname()[1]}"
        yield peer, f'[surface.pad]\nkind = "gamepad"\n[osc.board]\nto = "{to}"\n'


def take(path: Path, *events: tuple[float, str, float]) -> str:
    lines = [{"take": 1, "name": "test", "surfaces": {"pad": "gamepad"}}]
    lines += [{"t": t, "surface": "pad", "control": control, "value": value} for t, control, value in events]
    path.write_text("\n".join(json.dumps(line) for line in lines) + "\n")
    return str(path)


def press(t: float, control: str, length: float = 0.1) -> list[tuple[float, str, int]]:
    return [(t, control, 1), (t + length, control, 0)]
