"""How the machines of a desk stand: as a list, and as a readout that follows them."""

from __future__ import annotations

import contextlib
import select
import sys
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from fenko.cli.fullscreen import FullScreen, ends, typed
from fenko.cli.shared import bold, colour, dim, fail, fail_unknown, note, say, say_json, show_json, show_table
from fenko.client import NobodyThere, Refused, RunningDesk
from fenko.integrations.machine.facts import readout, standing
from fenko.integrations.machine.settings import MachineSettings, settings_of

if TYPE_CHECKING:
    from fenko.desk.load import Desk

_STATES = {
    "alarm": "bright_red",
    "away": "bright_black",
    "jogging": "bright_green",
    "running": "bright_green",
    "homing": "bright_green",
    "held": "bright_yellow",
}
_LOOKS = 0.5  # seconds after which another size of the terminal is seen at the latest
_BAR = 40


def machines_of(desk: Desk) -> dict[str, MachineSettings]:
    """The machines of a desk, but for those whose table is faulty."""
    found = {}
    for name, entry in (desk.sources.data.get("machine") or {}).items():
        try:
            found[name] = settings_of(name, entry)
        except ValueError as why:
            note(f"[machine.{name}]: {why}")
    return found


def listed(desk: Desk, form: str) -> None:
    """Every machine of the desk, and how it stands if the desk runs."""
    machines = machines_of(desk)
    facts = _facts_now(desk)
    if form == "json":
        show_json({
            name: {
                "link": one.link, "dialect": one.dialect, "step-sizes": list(one.step_sizes), **(facts.get(name) or {"state": "unknown"}),
                "axes": {axis: _axis(one, axis) for axis in one.axes},
            }
            for name, one in machines.items()
        })  # fmt: skip
        return
    if not machines:
        say(dim("the desk has no machine; docs/machines.md shows a [machine.NAME]"))
        return
    rows = []
    for name, one in machines.items():
        fact = facts.get(name) or {}
        axes = ", ".join(
            f"{axis} {_axis(one, axis)['travel'][0]:g} to {_axis(one, axis)['travel'][1]:g} {one.units[axis]}"
            for axis in one.axes
        )
        rows.append(
            (
                name,
                one.link,
                one.dialect,
                axes,
                _state(fact.get("state", "")),
                readout(fact) if fact.get("machine") else "",
            )
        )
    show_table(("machine", "link", "dialect", "axes", "state", "is at"), rows)
    if not facts:
        say(dim("the desk does not run, so nobody asks them how they stand"))


def _axis(one: MachineSettings, axis: str) -> dict[str, Any]:
    limits, unit = one.axes[axis], one.unit(axis)
    return {
        "travel": [round(limits.least / unit, 4), round(limits.most / unit, 4)], "fastest": round(limits.fastest * 60 / unit, 4),
        "acceleration": round(limits.acceleration / unit, 4), "unit": one.units[axis],
    }  # fmt: skip


def _facts_now(desk: Desk) -> dict[str, dict[str, Any]]:
    """How they stand, if this very desk runs."""
    with contextlib.suppress(NobodyThere, Refused, OSError), RunningDesk() as running:
        if Path(running.folder).resolve() == desk.sources.folder.resolve():
            found: dict[str, dict[str, Any]] = running.values()["outputs"].get("machine", {})
            return found
    return {}


def _state(state: str) -> str:
    return colour(state, _STATES[state]) if state in _STATES else state


# --- A readout that follows ---


def followed(name: str | None, form: str) -> None:
    """Follows the machines of the running desk, or one, until q or Ctrl-C; elsewhere than on a terminal, a line for each change."""
    if form == "json" or not sys.stdout.isatty():
        _print_changes(name, form)
        return
    view = _Readout(name)
    with contextlib.suppress(KeyboardInterrupt), FullScreen(view.resize) as screen:
        while True:
            try:
                with RunningDesk() as running:
                    if view.follow(running, screen):
                        return
            except NobodyThere:
                screen.draw(["no desk is running; its machines are shown when one does", "", dim("q ends this")])
                if ends(typed(select.select([sys.stdin], [], [], 1.0)[0])):
                    return


def _wanted(facts: Mapping[str, Any], name: str | None) -> Mapping[str, Any]:
    if name is not None and facts and name not in facts:
        fail_unknown(f"the running desk has no machine `{name}`", name, facts)
    return {name: facts[name]} if name is not None and name in facts else facts


def _print_changes(name: str | None, form: str) -> None:
    before: Mapping[str, Any] = {}
    try:
        with RunningDesk() as running:
            for state in running.follow("values"):
                facts = _wanted(state["outputs"].get("machine", {}), name)
                if form == "json":
                    if facts != before:
                        say_json(facts)
                else:
                    for one, fact in facts.items():
                        if fact != before.get(one):
                            say(f"{one}  {standing(fact)}")
                before = facts
    except (NobodyThere, Refused) as why:
        fail(str(why))
    except KeyboardInterrupt:
        return


class _Readout:
    """A terminal that shows how machines stand."""

    def __init__(self, name: str | None) -> None:
        self._name = name
        self._resized = True
        self._facts: Mapping[str, Any] = {}
        self._desk: dict[str, MachineSettings] = {}

    def resize(self) -> None:
        """The terminal has another size."""
        self._resized = True

    def follow(self, running: RunningDesk, screen: FullScreen) -> bool:
        """Draws again with each change; True when that is enough."""
        from fenko.desk.load import load_desk
        from fenko.desk.problems import DeskError

        with contextlib.suppress(DeskError):
            self._desk = machines_of(load_desk(Path(running.given)))
        with contextlib.closing(running.listen("values")) as told:
            while True:
                ready = select.select([told, sys.stdin], [], [], 0 if self._resized else _LOOKS)[0]
                heard = told.arrived() if told in ready else []
                if heard:
                    self._facts = _wanted(heard[-1]["outputs"].get("machine", {}), self._name)
                if ends(typed(ready)):
                    return True
                if heard or self._resized:
                    self._resized = False
                    columns, rows = screen.size()
                    screen.draw(self.lines(columns)[:rows])

    def lines(self, columns: int) -> list[str]:
        """All of it."""
        found: list[str] = []
        for name, fact in self._facts.items():
            found += [*self._one(name, fact, columns), ""]
        return [*(found or [dim("the desk that runs has no machine")]), dim("q ends this")]

    def _one(self, name: str, fact: Mapping[str, Any], columns: int) -> list[str]:
        settings = self._desk.get(name)
        head = f"{bold(name)}   {_state(fact['state'])}   axis {bold(fact['axis'])}   step {fact['step-size']:g}   {fact['speed']:g} a minute"
        lines = [head, ""]
        if fact["machine"]:
            lines.append(dim(f"  {'':4}{'work':>12}  {'machine':>12}"))
        for axis, place in fact["machine"].items():
            unit = fact["units"].get(axis, "")
            mark = ">" if axis == fact["axis"] else " "
            numbers = f"{mark} {axis:3} {fact['work'][axis]:12.3f}  {place:12.3f} {unit:6}"
            bar = _bar(settings, axis, place) if settings is not None and columns >= len(numbers) + _BAR + 12 else ""
            lines.append((bold(numbers) if axis == fact["axis"] else numbers) + bar)
        if fact["said"]:
            lines += ["", colour(fact["said"], "bright_red" if fact["state"] == "alarm" else "bright_yellow")]
        return lines


def _bar(settings: MachineSettings, axis: str, place: float) -> str:
    """Where in its travel that is."""
    if axis not in settings.axes:
        return ""
    limits, unit = settings.axes[axis], settings.unit(axis)
    least, most = limits.least / unit, limits.most / unit
    at = min(_BAR - 1, max(0, round((place - least) / (most - least) * (_BAR - 1))))
    return f"  {dim(f'{least:6g}')} " + dim("─" * at) + "█" + dim("─" * (_BAR - 1 - at)) + f" {dim(f'{most:g}')}"
