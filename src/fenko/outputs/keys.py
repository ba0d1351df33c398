"""What every output of keys and pointer shares: it counts key codes, so that a Shift that two keys need stays down."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from math import trunc

from fenko.core.changes import Effect
from fenko.core.keys import format_key
from fenko.core.remedies import Remedy
from fenko.system.kernel import EVENT, REL


class OutputError(Exception):
    """An output that cannot be used, and what helps, if anything does."""

    def __init__(self, message: str, remedy: Remedy | None = None) -> None:
        super().__init__(message)
        self.remedy = remedy or Remedy()


class KeyOutput(ABC):
    """Sends keys and pointer moves somewhere. `warn` is told, once each, of keys that cannot be made there."""

    name = "none"

    def __init__(self, warn: Callable[[str], None]) -> None:
        self._warn = warn
        self._warned: set[str] = set()
        self._down: dict[int, int] = {}
        self._made: dict[str, tuple[int, ...]] = {}
        self._rest = [0.0, 0.0]  # parts of pixels that have not been moved yet
        self._known: dict[str, tuple[int, ...]] = {}  # what `_codes` will say again, where that is certain

    def send(self, effects: Sequence[Effect]) -> None:
        """Sends effects in order; those of other outputs are left alone.

        Raises DisplayError when an output's display has gone."""
        # This is on the way of every event, so keys are counted here and not in functions of their own.
        down, made = self._down, self._made
        for effect in effects:
            out, act = effect[1], effect[2]
            if out != "keys":
                if out == "pointer":
                    self._point(effect)
            elif act == "down":
                key = effect[3]
                codes = self._known.get(key) or self._codes(key)
                if codes is None:
                    self._warn_once(key, f"the key `{format_key(key)}` cannot be made by {self.name}")
                    continue
                made[key] = codes
                for code in codes:
                    count = down.get(code, 0)
                    down[code] = count + 1
                    if not count:
                        self._press(code)
            elif act == "up":
                # What comes up is what went down, even if the layout has changed in between.
                for code in reversed(made.pop(effect[3], ())):
                    count = down.pop(code)
                    if count > 1:
                        down[code] = count - 1
                    else:
                        self._release(code)
            else:
                self._type(effect[3])
        self._flush()

    def _point(self, effect: Effect) -> None:
        match effect[2]:
            case "move":
                for axis, pixels in enumerate(effect[3:5]):
                    self._rest[axis] += pixels
                across, down = map(trunc, self._rest)
                self._rest = [self._rest[0] - across, self._rest[1] - down]
                if across or down:
                    self._move(across, down)
            case "scroll":
                self._scroll(effect[3], effect[4])
            case act:
                self._button(effect[3], act == "down")

    def _warn_once(self, what: str, message: str) -> None:
        if what not in self._warned:
            self._warned.add(what)
            self._warn(message)

    def pass_motion(self, raw: bytes) -> None:
        """Hands on a mouse's moves: raw kernel events, moves and ends of reports and nothing else."""
        moved = [0, 0]
        for _, _, kind, code, value in EVENT.iter_unpack(raw):
            if kind == REL:
                moved[code] += value
        self._move(*moved)
        self._flush()

    @abstractmethod
    def _codes(self, key: str) -> tuple[int, ...] | None:
        """The codes that make a key, modifiers first; None if it cannot be made."""

    @abstractmethod
    def _press(self, code: int) -> None: ...

    @abstractmethod
    def _release(self, code: int) -> None: ...

    @abstractmethod
    def _type(self, text: str) -> None: ...

    @abstractmethod
    def _move(self, dx: int, dy: int) -> None: ...

    @abstractmethod
    def _scroll(self, dx: float, dy: float) -> None: ...

    @abstractmethod
    def _button(self, button: str, on: bool) -> None: ...

    @abstractmethod
    def _flush(self) -> None:
        """Everything said so far leaves now."""

    @abstractmethod
    def close(self) -> None:
        """Lets go of the output. What is still down comes up."""
