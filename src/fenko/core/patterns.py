"""Patterns of a `when`: texts with `*` and `?`, and regular expressions. Neither takes longer than its text is long: a
window's title comes from any program, and must not be able to stop Fenko."""

from __future__ import annotations

from functools import lru_cache
from typing import Any, Protocol


class BadPattern(ValueError):
    """A regular expression that cannot be used; the message says why."""


class Pattern(Protocol):
    """Something that a text may fit. Case does not matter."""

    text: str
    """As it was written."""

    def fits(self, text: str) -> bool:
        """Whether this text does."""
        ...


@lru_cache(maxsize=8)
def _folded(text: str) -> str:
    return text.casefold()


class Wildcard:
    """A text in which `*` stands for anything and `?` for any one character.

    What stands between two stars is looked for from the left, each part once: the first place is always good enough,
    so nothing is ever tried again."""

    def __init__(self, text: str) -> None:
        self.text = text
        self._first, *self._parts = text.casefold().split("*")

    @property
    def literal(self) -> str | None:
        """The one text that fits, its case folded; None if there are more."""
        return None if self._parts or "?" in self._first else self._first

    def fits(self, text: str) -> bool:
        """Whether the whole text does."""
        text = _folded(text)
        if not self._parts:
            return len(text) == len(self._first) and _stands(self._first, text, 0)
        if not _stands(self._first, text, 0):
            return False
        at = len(self._first)
        for part in self._parts[:-1]:
            found = _find(part, text, at)
            if found < 0:
                return False
            at = found + len(part)
        last = self._parts[-1]
        return len(text) - len(last) >= at and _stands(last, text, len(text) - len(last))


def _stands(part: str, text: str, at: int) -> bool:
    """Whether a part stands there."""
    if "?" not in part:
        return text.startswith(part, at)
    return len(text) >= at + len(part) and all(one in ("?", text[at + n]) for n, one in enumerate(part))


def _find(part: str, text: str, at: int) -> int:
    """Where a part stands first, from `at` on; -1 if nowhere."""
    if "?" not in part:
        return text.find(part, at)
    return next((start for start in range(at, len(text) - len(part) + 1) if _stands(part, text, start)), -1)


class Expression:
    """A regular expression, found anywhere in a text (RE2: linear in the text; no look-around, no back references).

    Raises BadPattern."""

    def __init__(self, text: str) -> None:
        self.text = f"~{text}"
        try:
            import re2
        except ImportError as why:
            raise BadPattern(f"regular expressions need the package google-re2 ({why})") from None
        options = re2.Options()
        options.case_sensitive = False
        options.log_errors = False
        try:
            self._compiled: Any = re2.compile(text, options)
        except (re2.error, UnicodeEncodeError) as why:
            reason = why.args[0] if why.args else why
            shown = reason.decode("utf-8", "replace") if isinstance(reason, bytes) else str(why)
            raise BadPattern(shown) from None

    def __reduce__(self) -> tuple[type[Expression], tuple[str]]:
        """What is compiled cannot be sent to another process; the text can."""
        return Expression, (self.text[1:],)

    def fits(self, text: str) -> bool:
        """Whether it is found in this text."""
        return self._compiled.search(text.encode("utf-8", "replace").decode()) is not None


def compile_pattern(text: str) -> Pattern:
    """A pattern of a `when`: `*` and `?` match, `~…` is a regular expression found anywhere; case does not matter.

    Raises BadPattern."""
    return Expression(text[1:]) if text.startswith("~") else Wildcard(text)


def fitting(text: str) -> str:
    """A pattern that this text fits, and little else."""
    return f"?{text[1:]}" if text.startswith("~") else text


def sample_of(text: str) -> str:
    """A text that a pattern with `*` and `?` matches; empty for a regular expression, of which nobody knows."""
    return "" if text.startswith("~") else text.replace("*", "").replace("?", "x")
