"""Bindings that do several things: in turn, or at random."""

from __future__ import annotations

from random import Random

from fenko.core.changes import Effect
from fenko.core.phrase import Phrase
from fenko.core.plan import Binding, Cell


class Choices:
    """Which of several actions comes next. `out` takes the effect that tells what it leads to; `seed` decides what comes
    at random."""

    def __init__(self, out: list[Effect], seed: int) -> None:
        self._out = out
        self._random = Random(seed)
        self._last: dict[tuple[str, str, str], int] = {}
        self.states: dict[str, str] = {}
        """The state to which each has come that has states, by `level address.gesture`."""

    def turn_to(self, cell: Cell, gesture: str, number: int) -> None:
        """The last one was that, whoever did it."""
        self._last[cell.profile, cell.address, gesture] = number
        binding = next((one for name, one in cell.gestures() if name == gesture), None)
        if binding is not None and number < len(binding.states):
            self.states[f"{cell.profile} {cell.address}.{gesture}"] = binding.states[number]

    def next(self, t: float, cell: Cell, gesture: str, binding: Binding) -> Phrase:
        """The next in turn, or any but the last one."""
        key = (cell.profile, cell.address, gesture)
        last, phrases = self._last.get(key), binding.phrases
        if binding.at_random:
            number = self._random.choice([number for number in range(len(phrases)) if number != last])
        else:
            number = 0 if last is None else (last + 1) % len(phrases)
        self._last[key] = number
        if number < len(binding.states):
            self.states[f"{cell.profile} {cell.address}.{gesture}"] = binding.states[number]
            self._out.append((t, "fenko", "state", cell.address, binding.states[number]))
        return phrases[number]
