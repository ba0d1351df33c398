"""A simulated machine for tests, in a process of its own."""

from __future__ import annotations

import json
import os
import signal
import time
from pathlib import Path
from typing import Any

from started import Started
from support import wait_for

AXES = {"x": "0:300,3000,500", "y": "0:200,2400,300"}
STARTED: list[Real] = []
"""Those that run; `no_machine_is_left` of conftest.py ends them, however a test ends."""


class Real:
    """`fenko machine simulate`, and what it did."""

    def __init__(self, folder: Path, *arguments: str, homed: bool = True) -> None:
        self._said = folder / f"said-{time.monotonic_ns()}"
        command = ["machine", "simulate", "--format", "json", *(("--homed",) if homed else ()), *arguments]
        for axis, limits in AXES.items():
            command += ["--axis", f"{axis}={limits}"]
        self.process = Started(command, self._said, os.devnull)
        STARTED.append(self)
        self.name: str = wait_for(lambda: self._said.read_text().partition("\n")[0], "its line")

    def end(self) -> dict[str, Any]:
        """Ends it; what it did."""
        self.process.send_signal(signal.SIGINT)
        assert self.process.wait(20) == 0
        found: dict[str, Any] = json.loads(self._said.read_text().partition("\n")[2])
        return found

    def close(self) -> None:
        """It is gone."""
        self.process.kill()
        self.process.wait()
