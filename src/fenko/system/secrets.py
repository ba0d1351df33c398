"""Secrets of a desk: texts that stand in a file of the person alone, or in the environment, and are never shown."""

from __future__ import annotations

import os
import stat
from collections.abc import Mapping
from typing import Any

_LARGEST = 1 << 16  # bytes


class NoSecret(ValueError):
    """A secret that cannot be had: why. What it would be is never part of it."""


def secret_of(entry: Any) -> str:
    """The text that is meant: itself, or what `{ file = … }` or `{ env = … }` names. Raises NoSecret."""
    if isinstance(entry, str):
        return entry
    if not isinstance(entry, Mapping) or ("file" in entry) == ("env" in entry):
        raise NoSecret("a secret is `{ file = … }` or `{ env = … }`")
    before = str(entry.get("before", ""))
    if "env" in entry:
        name = str(entry["env"])
        if name not in os.environ:
            raise NoSecret(f"the environment has no {name}")
        return before + os.environ[name]
    path = os.path.expanduser(str(entry["file"]))
    try:
        with open(path, "rb") as file:
            status = os.fstat(file.fileno())
            if not stat.S_ISREG(status.st_mode):
                raise NoSecret(f"{path} is no file")
            if status.st_mode & 0o077:
                raise NoSecret(f"{path} can be read by others; `chmod 600 {path}`")
            return before + file.read(_LARGEST).decode().strip("\r\n")
    except OSError as why:
        raise NoSecret(f"{path}: {(why.strerror or str(why)).lower()}") from None
    except UnicodeDecodeError:
        raise NoSecret(f"{path} is no text") from None
