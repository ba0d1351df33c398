"""Every output that has a worker, one file each; `FILES` is the list of those that Fenko brings. Others come from entry points
of the group `fenko.outputs`; each names an `Output`."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from functools import cache
from importlib import import_module
from typing import TYPE_CHECKING

from fenko.core.registration import Output
from fenko.core.verbs import AlreadyTaken, register

FILES = ("audio", "sound", "player", "program", "midi", "osc", "request", "publish", "legend", "machine", "feedback")
if TYPE_CHECKING:
    from importlib import metadata

GROUP = "fenko.outputs"


@cache
def load() -> tuple[str, ...]:
    """Registers every output, before the first phrase is read; what is wrong with those that others ship."""
    for name in FILES:
        register(import_module(f"fenko.outputs.registered.{name}").OUTPUT)
    return tuple(filter(None, map(_register_other, _others())))


def _others() -> Iterator[metadata.EntryPoint]:
    """What others have installed. The library that knows costs a tenth of a start, so it is asked only where a look into the
    files says that there is something."""
    if any(map(_names_outputs, sys.path)):
        from importlib import metadata

        yield from metadata.entry_points(group=GROUP)


def _names_outputs(folder: str) -> bool:
    try:
        with os.scandir(folder or ".") as found:
            names = [one.path for one in found if one.name.endswith((".dist-info", ".egg-info"))]
    except OSError:
        return False
    for name in names:
        try:
            with open(os.path.join(name, "entry_points.txt"), encoding="utf-8", errors="replace") as file:
                if GROUP in file.read():
                    return True
        except OSError:
            continue
    return False


def _register_other(point: metadata.EntryPoint) -> str:
    try:
        output = point.load()
        if not isinstance(output, Output):
            return f"the output `{point.name}` ({point.value}) is no fenko.core.registration.Output"
        register(output)
    except AlreadyTaken as why:
        return str(why)
    except Exception as why:  # whatever somebody else's code does when it is imported
        return f"the output `{point.name}` ({point.value}) cannot be used: {type(why).__name__}: {why}"
    return ""
