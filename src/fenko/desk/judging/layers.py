"""Judgements on layers: which are never on, and which nobody gets out of."""

from __future__ import annotations

from collections.abc import Iterable

from fenko.core.plan import Cell, Level, Profile
from fenko.core.stack import stack_of
from fenko.core.verbs.desk import ChangeProfile, Nothing, PauseOrResume, TurnOnLayer
from fenko.desk.judging.case import Case, all_steps, own_name


def layers(case: Case) -> None:
    """Layers that are never on, that nobody gets out of, and bindings on what holds them."""
    on = case.openers
    own = {
        profile.name: {
            level.name
            for levels in (profile.levels, *(layer.levels for layer in profile.layers.values()))
            for level in levels
        }
        for profile in case.plan.profiles.values()
    }
    for profile in case.plan.profiles.values():
        for name, layer in profile.layers.items():
            openers = [one for one in on.get(name, []) if one[0].profile in own[profile.name]]
            mine = f"{profile.name}/{name}"
            # Who inherits a layer may be who turns it on.
            users = [names for names in own.values() if mine in names]
            used = any(one[0].profile in names for names in users for one in on.get(name, []))
            if mine in case.levels and not used and not layer.held:
                case.note(
                    "layers that are never on", ("profile", profile.name, "layer", name),
                    f"nothing turns the layer `{name}` on", "warning",
                    f"`while = …`, or a binding with `layer {name}`",
                )  # fmt: skip
            _held_by_its_own(case, layer.levels, openers, layer.held)
            if any(step.mode == "locked" for _, _, step in openers):
                _way_out(case, profile, name, openers)


def _held_by_its_own(
    case: Case, levels: Iterable[Level], openers: list[tuple[Cell, str, TurnOnLayer]], held: tuple[str, ...]
) -> None:
    addresses = {cell.address for cell, _, _ in openers}
    if len(addresses) != 1 or held or any(step.mode for _, _, step in openers):
        return
    (address,) = addresses
    for level in levels:
        for cell, gesture, binding in case.bound[level.name]:
            if cell.address == address and binding.phrase.steps != (Nothing(),):
                case.note(
                    "bindings on what holds their layer", case.place(cell, gesture),
                    f"never fires: `{own_name(address)}` is held as long as this layer is on", "warning",
                )  # fmt: skip


def _way_out(case: Case, profile: Profile, name: str, openers: list[tuple[Cell, str, TurnOnLayer]]) -> None:
    stack = stack_of(case.plan, profile.name, name)
    for step in (step for cell in stack.table().values() for step in all_steps(cell)):
        if (
            isinstance(step, PauseOrResume)
            or (isinstance(step, ChangeProfile) and step.name != profile.name)
            or (isinstance(step, TurnOnLayer) and step.name == name and step.mode == "locked")
        ):
            return
    cell, gesture, _ = next(one for one in openers if one[2].mode == "locked")
    case.note(
        "layers without a way out", case.place(cell, gesture),
        f"nothing lifts the layer `{name}` again: while it is on, no binding says `layer {name} locked`, "
        "`profile auto` or `pause`", "warning",
    )  # fmt: skip
