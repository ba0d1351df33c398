"""What workers were told to begin and have not ended yet."""

from __future__ import annotations

from collections.abc import Hashable, Iterable

from fenko.core.changes import Effect


class Begun:
    """Items that workers were told to begin, each until a worker reports its end: workers can be killed before they do what they
    were told, and so can those that take their place."""

    def __init__(self) -> None:
        self._effects: dict[tuple[str, Hashable], Effect] = {}
        self._held: set[tuple[str, Hashable]] = set()
        self._ending: dict[tuple[str, Hashable], int] = {}  # how many ends have been sent and not reported

    def __bool__(self) -> bool:
        return bool(self._effects)

    def begin(self, item: tuple[str, Hashable], effect: Effect) -> None:
        """The effect that begins this item is sent."""
        self._effects[item] = effect
        self._held.add(item)

    def end(self, item: tuple[str, Hashable]) -> None:
        """The effect that ends this item is sent."""
        if item in self._effects:
            self._held.discard(item)
            self._ending[item] = self._ending.get(item, 0) + 1

    def ended(self, item: tuple[str, Hashable]) -> None:
        """A worker reports one end of this item."""
        if self._ending.get(item, 0) > 1:
            self._ending[item] -= 1
        elif self._ending.pop(item, 0) and item not in self._held:
            self._effects.pop(item, None)

    def left_over(self) -> list[Effect]:
        """Return all of them, for a new worker to end."""
        self._held.clear()
        self._ending = dict.fromkeys(self._effects, 1)
        return list(self._effects.values())

    def keep(self, outs: Iterable[str]) -> None:
        """Forget the items of all other outputs, whose workers have ended them."""
        kept = frozenset(outs)
        self._effects = {item: effect for item, effect in self._effects.items() if item[0] in kept}
