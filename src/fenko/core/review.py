"""What the check of an integration sees of a desk."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Protocol

from fenko.core.plan import Binding, Cell, Level, Plan


class DeskReview(Protocol):
    """A desk under review. `bound` has all bindings by level: cell, gesture, binding. `tables` are the desk's, as they are written;
    `links` those of each surface, its description's with them."""

    plan: Plan
    levels: Mapping[str, Level]
    bound: dict[str, list[tuple[Cell, str, Binding]]]
    tables: Mapping[str, Any]
    links: Mapping[str, tuple[str, ...]]

    def note(
        self,
        sort: str,
        path: tuple[str | int, ...],
        message: str,
        severity: str = "hint",
        expected: str | None = None,
        key: bool = True,
    ) -> None:
        """Report a finding of this sort at a path of the desk file."""

    def place(self, cell: Cell, gesture: str) -> tuple[str | int, ...]:
        """Return the path of a binding."""
