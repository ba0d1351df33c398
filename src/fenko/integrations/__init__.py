"""Integrations: each folder has everything about one output or transport. Fenko finds them; no list names them.

- `spec.py`: `OUTPUT`, the verbs, acts, desk tables, risks and checks of an output (pure), and `LINKS`, the kinds of links by which
  it brings surfaces.
- `worker.py`: sends, in the workers' process. `transport.py`: receives, if it brings surfaces.
- `ready.py`: what `fenko ready` reports. `checks.py`: what `fenko check` says of a desk.
- `ui`: what people see of it, such as a command; it may use everything, and only other parts of `ui` use it.

Outputs of other packages come from entry points of the group `fenko.outputs`; each names an `Output`."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from functools import cache
from importlib import import_module
from typing import TYPE_CHECKING

from fenko.core.links import register_links
from fenko.core.registration import Output
from fenko.core.verbs import AlreadyTaken, register

if TYPE_CHECKING:
    from importlib import metadata

GROUP = "fenko.outputs"


@cache
def load() -> tuple[str, ...]:
    """Register every output and transport, before the first phrase is read; return what is wrong with those of other packages."""
    specs = [import_module(f"{__name__}.{name}.spec") for name in _folders()]
    register_links([kind for spec in specs for kind in getattr(spec, "LINKS", ())])
    outputs: list[Output] = [spec.OUTPUT for spec in specs if hasattr(spec, "OUTPUT")]
    for output in sorted(outputs, key=lambda output: output.place):
        register(output)
    return tuple(filter(None, map(_register_other, _others())))


def _folders() -> list[str]:
    with os.scandir(os.path.dirname(__file__)) as found:
        return sorted(one.name for one in found if os.path.exists(os.path.join(one.path, "spec.py")))


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
