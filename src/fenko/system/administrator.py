"""What only an administrator may do: writing the system's files and telling its services."""

from __future__ import annotations

import subprocess
from collections.abc import Sequence
from pathlib import Path

from fenko.system.files import whole_file


def missing_lines(path: str, lines: Sequence[str]) -> list[str]:
    """The lines that a file does not hold yet. Raises OSError if it is there and cannot be read."""
    try:
        there = Path(path).read_text(encoding="utf-8", errors="surrogateescape").splitlines()
    except FileNotFoundError:
        there = []
    return [line for line in lines if line not in there]


def add_lines(path: str, lines: Sequence[str]) -> None:
    """Adds lines to the end of a file that everybody may read; what it was before stays beside it as `….before`.

    Raises OSError, with the file as it was."""
    target = Path(path)
    before = target.read_bytes() if target.exists() else b""
    target.parent.mkdir(parents=True, exist_ok=True)
    if before:
        _replace(target.with_name(f"{target.name}.before"), before)
    gap = b"\n" if before and not before.endswith(b"\n") else b""
    _replace(target, before + gap + "".join(f"{line}\n" for line in lines).encode())


def _replace(target: Path, content: bytes) -> None:
    with whole_file(target, 0o644) as file:
        file.write(content)


def do(command: Sequence[str]) -> str | None:
    """Runs a command; what went wrong, in words, or None."""
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=60)
    except FileNotFoundError:
        return f"{command[0]} is not on this machine"
    except subprocess.TimeoutExpired:
        return f"{command[0]} has not ended after a minute"
    return (done.stderr.strip() or f"exit status {done.returncode}") if done.returncode else None
