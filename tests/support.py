"""Names that tests share."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

FENKO = [sys.executable, "-m", "fenko"]
DEMO = Path(__file__).parent.parent / "src/fenko/data/demo"

SLOWNESS = 6 if "KERNEL_LAB" in os.environ else 1
"""How much longer everything takes here; an emulated machine is slow."""

Run = Callable[..., subprocess.CompletedProcess[str]]
MakeDesk = Callable[..., Path]


def wait_for(condition: Callable[[], Any], what: str, seconds: float = 15) -> Any:
    """Waits until `condition()` is true and returns it."""
    seconds *= SLOWNESS
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        value = condition()
        if value:
            return value
        time.sleep(0.03)
    raise AssertionError(f"waited {seconds} s for {what}")
