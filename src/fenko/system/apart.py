"""Calls that may end their process, or never return: libraries of others, where their servers left something behind."""

from __future__ import annotations

import os
import pickle
import select
import signal
import time
from collections.abc import Callable
from typing import TypeVar

T = TypeVar("T")


_ANSWERS_WITHIN = 10.0


class Crashed(Exception):
    """The call ended its process, or did not come to an end: by which signal, or after how long, in words."""


def apart(call: Callable[[], T], within: float = _ANSWERS_WITHIN) -> T:
    """Calls `call` in a child process and returns its result; the caller must have no other thread. Waits for `within` seconds at
    most. Raises what `call` raises, as far as that can be pickled, and Crashed."""
    ends, end = os.pipe()
    pid = os.fork()
    if pid == 0:
        try:
            os.dup2(os.open(os.devnull, os.O_WRONLY), 2)  # these libraries write to the terminal
            told = _told(call)
            with os.fdopen(end, "wb") as out:
                out.write(told)
        finally:
            os._exit(0)  # nothing of this process's parent is ended twice
    os.close(end)
    said = None
    try:
        said = _read(ends, time.monotonic() + within)
    finally:
        os.close(ends)
        if said is None:
            os.kill(pid, signal.SIGKILL)
        _, status = os.waitpid(pid, 0)
    if said is None:
        raise Crashed(f"a library that it uses has not answered for {within:g} s")
    if not said or os.waitstatus_to_exitcode(status):
        number = -os.waitstatus_to_exitcode(status)
        name = signal.Signals(number).name if number in {*signal.Signals} else f"status {-number}"
        raise Crashed(f"a library that it uses has crashed ({name})")
    good, result = pickle.loads(said)
    if not good:
        raise result
    value: T = result
    return value


def _read(end: int, until: float) -> bytes | None:
    """All that is written there; None if that takes too long."""
    said = b""
    while select.select([end], [], [], max(0.0, until - time.monotonic()))[0]:
        part = os.read(end, 1 << 16)
        if not part:
            return said
        said += part
    return None


def _told(call: Callable[[], T]) -> bytes:
    try:
        found: tuple[bool, object] = (True, call())
    except Exception as why:  # raised again by who asked
        found = (False, why)
    try:
        return pickle.dumps(found)
    except Exception as why:  # pickling runs code of the result's class
        return pickle.dumps((False, RuntimeError(f"{type(found[1]).__name__}: {why}")))
