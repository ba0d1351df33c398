"""Names that tests share."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
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


@contextmanager
def without_end(what: Callable[[], None]) -> Iterator[None]:
    """Does it again and again all the while, up to a thousand times a second."""
    over = threading.Event()

    def again() -> None:
        while not over.wait(0.001):
            what()

    thread = threading.Thread(target=again)
    thread.start()
    try:
        yield
    finally:
        over.set()
        thread.join()
