"""What is wrong with a file, where, and what to do: one problem, and how a person reads it."""

from __future__ import annotations

from typing import Any

from msgspec import Struct, structs

from fenko.core.words import width


class Problem(Struct, frozen=True, order=True):
    """One thing that is wrong. Lines and columns count from 1; 0 where the file as a whole is meant."""

    file: str
    line: int
    column: int
    message: str
    length: int = 1
    expected: str | None = None
    nearest: str | None = None
    source: str | None = None
    severity: str = "error"
    got: str | None = None
    """What came in place of what was expected, where that was tried."""

    def as_json(self) -> dict[str, Any]:
        """The problem as plain data."""
        return structs.asdict(self)

    def render(self) -> str:
        """The problem as people read it: place, message, the line with a caret, and what would be right."""
        place = self.file
        if self.line:
            place += f":{self.line}:{self.column}"
        lines = [f"{place}: {self.severity}: {self.message}"]
        if self.source is not None:
            number = str(self.line)
            source, start = _around(self.source, self.column - 1, self.length)
            lines.append(f"  {number} | {_printable(source)}")
            before, marked = source[:start], source[start : start + self.length]
            lines.append(f"  {' ' * len(number)} | {' ' * width(before)}{'^' * max(1, width(marked))}")
        if self.got is not None:
            lines += [f"  expected: {self.expected}", f"  got:      {self.got}"]
        elif self.expected:
            lines.append(f"  expected {self.expected}")
        if self.nearest:
            lines.append(f"  did you mean `{self.nearest}`?")
        return "\n".join(lines)


LONGEST_LINE = 160
"""Characters of a line that are shown; of a longer one those around what is meant."""


def _around(line: str, start: int, length: int) -> tuple[str, int]:
    """What is shown of a line in which something stands at `start`, and where that is then; `…` where something is cut off."""
    if len(line) <= LONGEST_LINE:
        return line, start
    first = max(0, min(start - LONGEST_LINE // 4, len(line) - LONGEST_LINE))
    last = first + LONGEST_LINE
    cut = (
        ("…" if first else "")
        + line[first + bool(first) : last - (last < len(line))]
        + ("…" if last < len(line) else "")
    )
    return cut, start - first


def _printable(text: str) -> str:
    """A line as a terminal may show it: each character that would move the cursor takes one place."""
    return "".join(
        character if character.isprintable() else " " if character == "\t" else "\ufffd" for character in text
    )


class DeskError(Exception):
    """A desk that cannot be used. Carries every problem that was found, and the files that were read, as far as it is known."""

    def __init__(self, problems: list[Problem], digests: dict[str, str] | None = None) -> None:
        super().__init__(f"{len(problems)} problems")
        self.problems = problems
        self.digests = digests or {}
