"""The second process: does what it is asked for, one thing after the other, until the other end is gone."""

from __future__ import annotations

import contextlib
import os
import signal
import socket
import sys
from collections.abc import Callable, Iterator
from importlib import import_module
from typing import Any

from fenko.services.wire import Frames, packed

SERVICES = {"compile": "fenko.services.compiling:compile_desk"}
"""Every service: the function (of the request's arguments) whose answers are sent one by one."""


def main() -> None:
    """Serves the socket whose descriptor is the first argument."""
    for number in (signal.SIGINT, signal.SIGHUP, signal.SIGUSR1):
        signal.signal(number, signal.SIG_IGN)
    with socket.socket(fileno=int(sys.argv[1])) as line:
        os.set_inheritable(line.fileno(), False)
        frames = Frames()
        while data := line.recv(1 << 16):
            frames.add(data)
            for request, service, arguments in frames:
                for answer in _answers(service, arguments):
                    # Blocks while the other end has not read: that bounds what is under way.
                    line.sendall(packed((request, *answer)))


def _answers(service: str, arguments: tuple[Any, ...]) -> Iterator[tuple[str, Any]]:
    """Each answer as a word and what it says, last of all `done` or `failed`."""
    module, _, name = SERVICES[service].partition(":")
    try:
        work: Callable[..., Iterator[Any]] = getattr(import_module(module), name)
        for answer in work(*arguments):
            yield "part", answer
        yield "done", None
    except Exception as why:
        yield "failed", f"{type(why).__name__}: {why}"


with contextlib.suppress(ConnectionError):  # who asked is gone
    main()
