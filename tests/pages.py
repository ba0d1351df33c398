"""The README and the pages of the docs, taken apart: pieces of desks, commands, and what these print."""

from __future__ import annotations

import re
import shlex
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple

ROOT = Path(__file__).parent.parent
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").glob("**/*.md"))]
_BLOCK = re.compile(r"^([ ]*)```(\w+)\n(.*?)^\1```", re.MULTILINE | re.DOTALL)
_INLINE = re.compile(r"`(fenko [a-z-][^`]*)`")


_OF_A_BINDING = {"do", "in-turn"}
"""By which a binding is known, which is replaced as a whole."""


class Snippet(NamedTuple):
    """One piece: its page and line, its language, its text."""

    page: Path
    line: int
    kind: str
    text: str

    @property
    def name(self) -> str:
        return f"{self.page.name}:{self.line}"


class Command(NamedTuple):
    """One command of a page, and the lines that it shows for it; None where it shows none."""

    page: Path
    line: int
    text: str
    shown: list[str] | None


_PLACE = re.compile(r"^# at the end of \[(.*)\]$", re.MULTILINE)
"""Says where lines are to be added: a table may be declared once."""


def snippets(pages: list[Path] = PAGES) -> Iterator[Snippet]:
    """Every piece in its order."""
    for page in pages:
        text = page.read_text()
        for found in _BLOCK.finditer(text):
            body = "\n".join(line.removeprefix(found[1]) for line in found[3].split("\n"))
            if found[2] == "toml":
                body = _PLACE.sub(r"[\1]", body)
            yield Snippet(page, text[: found.start()].count("\n") + 1, found[2], body)


def typed(snippet: Snippet) -> Iterator[Command]:
    """What is typed in one piece: every line of `sh`, and what stands after `$` in `console`."""
    lines = snippet.text.rstrip("\n").split("\n")
    for at, line in enumerate(lines):
        where = snippet.line + 1 + at
        if snippet.kind == "sh" and line.strip():
            yield Command(snippet.page, where, re.sub(r"\s+#.*", "", line), None)
        elif snippet.kind == "console" and line.startswith("$ "):
            rest = lines[at + 1 :]
            end = next((n for n, other in enumerate(rest) if other.startswith("$ ")), len(rest))
            yield Command(snippet.page, where, line[2:], rest[:end])


def inline() -> Iterator[Command]:
    """Every command that stands in a line of prose."""
    for page in PAGES:
        text = page.read_text()
        for found in _INLINE.finditer(_BLOCK.sub(lambda block: "\n" * block[0].count("\n"), text)):
            yield Command(page, text[: found.start()].count("\n") + 1, found[1].replace("\n", " "), None)


def fenko_words(command: Command) -> Iterator[list[str]]:
    """The words of each `fenko` that a command has."""
    for part in re.split(r"&&|\|\||;|\||>", command.text):
        part = part.strip().removeprefix("sudo ")
        if part.startswith("fenko "):
            yield shlex.split(part.replace("…", " "))[1:]


def merged(below: dict[str, Any], above: dict[str, Any]) -> dict[str, Any]:
    """One table with what another says besides, or instead."""
    found = dict(below)
    for name, value in above.items():
        known = found.get(name)
        both = isinstance(known, dict) and isinstance(value, dict) and not known.keys() & _OF_A_BINDING
        found[name] = merged(known, value) if both else value
    return found


def desk_of(folder: Path) -> dict[str, Any]:
    """A desk as one table."""
    found: dict[str, Any] = tomllib.loads((folder / "desk.toml").read_text())
    for pattern in found.pop("include", []):
        for file in sorted(folder.glob(pattern)):
            found = merged(found, tomllib.loads(file.read_text()))
    return found


def write_desk(folder: Path, desk: dict[str, Any]) -> None:
    """Writes a desk into one file."""
    (folder / "desk.toml").write_text("\n".join(_lines(desk)) + "\n")


def _lines(table: dict[str, Any], *path: str) -> Iterator[str]:
    below = {name: value for name, value in table.items() if isinstance(value, dict) and _is_table(value, len(path))}
    if path and (len(below) < len(table) or not table):
        yield f"\n[{'.'.join(map(_key, path))}]"
    for name, value in table.items():
        if name not in below:
            yield f"{_key(name)} = {_written(value)}"
    for name, value in below.items():
        yield from _lines(value, *path, name)


def _is_table(value: dict[str, Any], depth: int) -> bool:
    return depth < 2 or any(isinstance(one, dict) for one in value.values())


def _written(value: Any) -> str:
    """A value as TOML, in one line."""
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{_key(name)} = {_written(one)}" for name, one in value.items()) + " }"
    if isinstance(value, list):
        return "[" + ", ".join(map(_written, value)) + "]"
    if isinstance(value, str):
        return '"' + value.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n") + '"'
    return str(value).lower() if isinstance(value, bool) else str(value)


def _key(name: str) -> str:
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else _written(name)
