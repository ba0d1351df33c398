"""Code that is named in a table, and loaded only when it is needed."""

from __future__ import annotations

from importlib import import_module
from typing import Any


def load_named(place: str) -> Any:
    """Return what `module:name` names, after loading its module. Raises ImportError, AttributeError, and what the module raises."""
    module, _, name = place.partition(":")
    return getattr(import_module(module), name)
