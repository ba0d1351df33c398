"""Checks of a desk's machines: controls that never let them rest, profiles that cannot stop them, sizes that do not fit them."""

from __future__ import annotations

from collections.abc import Iterator

from fenko.core.controls import FADER
from fenko.core.effects import effects_of
from fenko.core.phrase import steps_of
from fenko.core.plan import BASE, Binding, Cell, Profile, control_of
from fenko.core.review import DeskReview
from fenko.core.stack import stack_of
from fenko.core.steps import Steer
from fenko.integrations.machine.settings import settings_of

_OUT = "machine"


def check(case: DeskReview) -> None:
    """Report everything about them."""
    if not case.tables.get(_OUT):
        return
    _steered(case)
    _sizes(case)
    under_all = case.plan.profiles[BASE]
    _, stopped_under_all = _moved_and_stopped(case, under_all)
    for profile in case.plan.profiles.values():
        moved, stopped = _moved_and_stopped(case, profile)
        for name, (cell, gesture) in moved.items():
            own = cell.profile.partition("/")[0] == profile.name
            if name not in stopped and (own or name in stopped_under_all):
                path = case.place(cell, gesture) if own else ("profile", profile.name)
                case.note("machines that nobody can stop", path,
                          f"in `{profile.name}` nothing says `machine stop`, and `{_own_name(cell)}` moves `{name}`", "warning",
                          "a control with `machine stop` that is found without looking", key=not own)  # fmt: skip


def _steered(case: DeskReview) -> None:
    for level in case.levels.values():
        for cell, gesture, binding in case.bound[level.name]:
            steered = any(isinstance(step, Steer) for step in steps_of(binding.phrase))
            surface, _, own = control_of(cell.address).partition(".")
            if steered and case.plan.surfaces[surface].shape(own) is FADER:
                case.note("machines that nobody lets rest", case.place(cell, gesture),
                          f"`{_own_name(cell)}` stays where it is put, so the machine goes on when the hand is gone", "warning",
                          "a ring or a stick, which comes back to rest", key=False)  # fmt: skip


def _sizes(case: DeskReview) -> None:
    for name, entry in case.tables[_OUT].items():
        try:
            settings = settings_of(name, entry)
        except ValueError:
            continue  # a phrase that uses it is refused
        for number, size in enumerate(settings.step_sizes if "step-sizes" in entry else ()):
            short = [
                axis
                for axis, limits in settings.axes.items()
                if size * settings.unit(axis) > limits.most - limits.least
            ]
            if short:
                case.note("step sizes beyond the travel", (_OUT, name, "step-sizes", number),
                          f"a step of {size:g} is longer than the travel of {', '.join(short)}", "warning", key=False)  # fmt: skip
        height = settings.safe_height
        if height is not None and not settings.axes["z"].least <= height <= settings.axes["z"].most:
            case.note("safe heights outside the travel", (_OUT, name, "safe-height"),
                      "the safe height lies outside the travel of z, so nothing is ever above it", "warning", key=False)  # fmt: skip


def _moved_and_stopped(case: DeskReview, profile: Profile) -> tuple[dict[str, tuple[Cell, str]], set[str]]:
    """The machines that a profile moves, each with a binding that does, and those that it can stop."""
    table = stack_of(case.plan, profile.name).table()
    layers = [cell for layer in profile.layers.values() for level in layer.levels for cell in level.cells.values()]
    moving: dict[str, tuple[Cell, str]] = {}
    stopping: set[str] = set()
    for cell in (*table.values(), *layers):
        for gesture, binding in cell.gestures():
            for out, act, *values in _done(binding):
                if out == _OUT and act == "stop":
                    stopping.add(str(values[0]))
                elif out == _OUT and act in ("jog", "begin", "step", "home", "send"):
                    moving.setdefault(str(values[0]), (cell, gesture))
    return moving, stopping


def _done(binding: Binding) -> Iterator[tuple[object, ...]]:
    for phrase in binding.phrases:
        for step in steps_of(phrase):
            yield from effects_of(step)


def _own_name(cell: Cell) -> str:
    """Return a cell's address without its surface."""
    return cell.address.partition(".")[2]
