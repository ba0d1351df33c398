"""Names that tests share."""

from __future__ import annotations

import contextlib
import io
import os
import signal
import subprocess
import sys
import threading
import time
import warnings
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from unittest import mock

import pytest

from fenko.cli import main
from fenko.outputs.layout import kernel_layout
from started import WITHIN_LAB

FENKO = [sys.executable, "-m", "fenko"]
DEMO = Path(__file__).parent.parent / "src/fenko/data/demo"

SLOWNESS = 4 if WITHIN_LAB else 1
"""How much longer things may take here: the lab has one processor, and pages that are new take long."""

THOROUGH = "FENKO_THOROUGH" in os.environ
"""Whether there is time to try what is drawn at random more often (`make test-long`)."""


def tries(usual: int) -> int:
    """How often something is drawn at random: a fifth as often where there is no time for more."""
    return usual if THOROUGH else max(5, usual // 5)


FAILED = pytest.StashKey[bool]()
"""Whether a test has failed so far; by its item."""

Run = Callable[..., subprocess.CompletedProcess[str]]
MakeDesk = Callable[..., Path]


def wait_for(condition: Callable[[], Any], what: str, seconds: float = 15) -> Any:
    """Waits until `condition()` is true and returns it."""
    seconds *= SLOWNESS
    end = time.monotonic() + seconds
    while (asked := time.monotonic()) < end:
        value = condition()
        if value:
            return value
        # What starts a program to find out has half of the time at most.
        time.sleep(max(0.03, time.monotonic() - asked))
    raise AssertionError(f"waited {seconds} s for {what}")


def run_within(
    arguments: Sequence[str], environment: Mapping[str, str], folder: Path
) -> subprocess.CompletedProcess[str]:
    """What `fenko …` says and comes to, run within this process: for commands that read, and print."""
    out, err = (
        io.TextIOWrapper(io.BytesIO(), encoding="utf-8", errors="backslashreplace", write_through=True)
        for _ in range(2)
    )
    status: object = 0
    kernel_layout.cache_clear()  # it depends on the environment
    with (
        mock.patch.dict(os.environ, environment, clear=True),
        mock.patch.object(sys, "stdin", io.StringIO()),
        contextlib.chdir(folder),
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(err),
        warnings.catch_warnings(),
    ):
        warnings.simplefilter("error")
        try:
            main(arguments)
        except SystemExit as end:
            status = end.code
        finally:
            signal.signal(signal.SIGINT, signal.default_int_handler)
    assert status is None or isinstance(status, int), status
    said = [stream.buffer.getvalue().decode() for stream in (out, err)]  # type: ignore[attr-defined]
    return subprocess.CompletedProcess(["fenko", *arguments], status or 0, *said)


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
