"""What the desk that runs does with each control: its files say where controls sit, the desk itself what is in force."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct, structs

from fenko.client import RunningDesk
from fenko.core.plan import BASE, Surface
from fenko.core.stack import Stack, stack_of
from fenko.desk.load import Desk, load_desk
from fenko.desk.meanings import pressed_controls, together
from fenko.desk.problems import DeskError
from fenko.showing.shown import Shown, Surfaces, on_a_plan


class View(Struct, frozen=True):
    """One surface as it stands now."""

    name: str
    body: tuple[float, float]
    shown: tuple[Shown, ...]
    together: tuple[str, ...]


class Legend:
    """What is shown of the running desk, now and with each change."""

    def __init__(self, running: RunningDesk) -> None:
        """Raises DeskError if its files have an error now."""
        self._folder = Path(running.given)
        self.desk: Desk = load_desk(self._folder)
        self._surfaces = Surfaces(self.desk)
        self._version = ""

    def use(self, running: RunningDesk) -> None:
        """Another desk may run now."""
        if Path(running.given) != self._folder:
            self._folder, self._version = Path(running.given), ""

    def _keep_up(self, version: str) -> None:
        """The files as they are in force; while they have errors, what they said before is."""
        if version != self._version:
            with contextlib.suppress(DeskError):
                self.desk = load_desk(self._folder)
                self._surfaces = Surfaces(self.desk)
                self._version = version

    def views(self, status: Mapping[str, Any], wanted: tuple[str, ...] = ()) -> list[View]:
        """The wanted surfaces; without a wish those that are plugged in, or all if none is."""
        self._keep_up(status["version"])
        own = self.desk.plan.surfaces
        there = [name for name, one in status["surfaces"].items() if one["there"] and name in own]
        stack = self._stack(status)
        return [self._view(own[name], stack, status) for name in wanted or there or own if name in own]

    def doing(self, status: Mapping[str, Any], wanted: tuple[str, ...] = ()) -> list[View]:
        """Those of them that do anything now, or are wanted by name."""
        return [
            view
            for view in self.views(status, wanted)
            if view.name in wanted or view.together or any(one.label.bound for one in view.shown)
        ]

    def _view(self, surface: Surface, stack: Stack, status: Mapping[str, Any]) -> View:
        shown = self._surfaces.shown(surface, stack, status["states"], pressed_controls(status["pressed"], surface))
        more = tuple(
            on_a_plan(f"{names}: {title}")
            for names, title in together(stack, surface, self._surfaces.controls(surface))
        )
        return View(surface.name, self._surfaces.described(surface).body, tuple(shown), more)

    def _stack(self, status: Mapping[str, Any]) -> Stack:
        plan = self.desk.plan
        profile = plan.profiles[status["profile"] if status["profile"] in plan.profiles else BASE]
        return stack_of(plan, profile.name, *(name for name in status["layers"] if name in profile.layers))

    def data(self, status: Mapping[str, Any], wanted: tuple[str, ...] = ()) -> dict[str, Any]:
        """The same as plain data."""
        views = self.views(status, wanted)
        return {
            "profile": status["profile"], "layers": status["layers"], "paused": status["paused"],
            "surfaces": {view.name: [structs.asdict(one.meaning) for one in view.shown] for view in views},
        }  # fmt: skip


def in_force(status: Mapping[str, Any]) -> str:
    """The profile and its layers in words."""
    layers = " and ".join(status["layers"])
    return f"{status['profile']}{f', {layers}' if layers else ''}"


def why(status: Mapping[str, Any]) -> str:
    """Why that profile; and how machines stand."""
    window = status["in front"]
    name = window["app"] or window["program"]
    reason = "by hand" if status["by"] == "hand" else f"in front is {name}" if name else ""
    return "   ".join(filter(None, (reason, *(_standing(*one) for one in status["machines"].items()))))


def _standing(name: str, fact: Mapping[str, Any]) -> str:
    """A machine in a line: its state, where the work's axes are, and what a step is."""
    places = " ".join(f"{axis} {place:.2f}" for axis, place in fact["work"].items())
    return " ".join(filter(None, (f"{name}: {fact['state']}", places, f"step {fact['axis']} {fact['step-size']:g}")))
