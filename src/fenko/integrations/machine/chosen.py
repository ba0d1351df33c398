"""Which axis and which step size are chosen, of each machine. What a desk says of the chosen axis becomes what is meant by it
here, in the order of the hand, before anything waits anywhere: so nothing ever moves an axis that was chosen later."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from fenko.integrations.machine.settings import MachineSettings, settings_of

Values = tuple[Any, ...]


class Chosen:
    """The choices of one desk, of its `[machine.NAME]` tables. Machines whose table is faulty have none."""

    def __init__(self, tables: Mapping[str, Any]) -> None:
        self._settings: dict[str, MachineSettings] = {}
        for name, entry in (tables.get("machine") or {}).items():
            try:
                self._settings[name] = settings_of(name, entry)
            except ValueError:
                continue  # nothing can be bound to it either
        self._axis = {name: next(iter(one.axes)) for name, one in self._settings.items()}
        self._size = {name: one.step_sizes[0] for name, one in self._settings.items()}
        self._jogged: dict[tuple[Any, ...], str] = {}

    def resolved(self, act: str, values: Values) -> Values | None:
        """An effect's values as they are meant now; None where it means nothing."""
        name = values[0]
        if name not in self._settings:
            return None
        match act:
            case "axis":
                self._axis[name] = values[1]
            case "step-size":
                self._size[name] = size = self._sized(name, values[1])
                return (name, size)
            case "step":
                _, axis, counted, number = values
                far = number * self._size[name] if counted == "sizes" else number
                return (name, axis or self._axis[name], "units", round(far, 9))
            case "jog" | "begin" | "end" if not values[1]:
                return (*values, self._axis_of(act, values))
        return values

    def _sized(self, name: str, size: str | float) -> float:
        sizes: Sequence[float] = sorted({*self._settings[name].step_sizes})
        now = self._size[name]
        if isinstance(size, str):
            fitting = (
                [one for one in sizes if one > now][:1] if size == "next" else [one for one in sizes if one < now][-1:]
            )
            return fitting[0] if fitting else now
        return float(size)

    def _axis_of(self, act: str, values: Values) -> str:
        """The axis that was chosen when this began: another one is chosen for what comes next."""
        name, _, speed = values
        key = (name, "" if act == "jog" else speed)
        axis = self._jogged.get(key) or self._axis[name]
        if act == "begin" or (act == "jog" and any(speed)):
            self._jogged[key] = axis
        else:
            self._jogged.pop(key, None)
        return axis
