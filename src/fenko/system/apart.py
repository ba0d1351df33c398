"""Calls that may end their process: libraries of others, which crash where their servers left something behind."""

from __future__ import annotations

import os
import pickle
import signal
from collections.abc import Callable
from typing import TypeVar

T = TypeVar("T")


class Crashed(Exception):
    """The call ended its process: by which signal, in words."""


def apart(call: Callable[[], T]) -> T:
    """What `call` comes to, in a process of its own; for who has no other thread. What it raises is raised here, as far as it
    can be told from process to process. Raises Crashed."""
    ends, end = os.pipe()
    pid = os.fork()
    if pid == 0:
        try:
            told = _told(call)
            with os.fdopen(end, "wb") as out:
                out.write(told)
        finally:
            os._exit(0)  # nothing of this process's parent is ended twice
    os.close(end)
    with os.fdopen(ends, "rb") as told_by:
        said = told_by.read()
    _, status = os.waitpid(pid, 0)
    if not said or os.waitstatus_to_exitcode(status):
        number = -os.waitstatus_to_exitcode(status)
        name = signal.Signals(number).name if number in {*signal.Signals} else f"status {-number}"
        raise Crashed(f"a library that it uses has crashed ({name})")
    good, result = pickle.loads(said)
    if not good:
        raise result
    value: T = result
    return value


def _told(call: Callable[[], T]) -> bytes:
    try:
        found: tuple[bool, object] = (True, call())
    except Exception as why:
        found = (False, why)
    try:
        return pickle.dumps(found)
    except Exception as why:
        return pickle.dumps((False, RuntimeError(f"{type(found[1]).__name__}: {why}")))
