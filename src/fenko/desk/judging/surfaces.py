"""Judgements on surfaces: what nobody uses, and what the thing does not have."""

from __future__ import annotations

from fenko.core.controls import HELD_BY_HAND
from fenko.core.descriptions import burst_of
from fenko.core.plan import Cell
from fenko.desk.descriptions import Catalogue
from fenko.desk.judging.case import Case
from fenko.desk.problems import DeskError


def unused(case: Case) -> None:
    """Surfaces, names and groups that nothing uses."""
    bound = {control for level in case.levels.values() for control in level.controls}
    bound |= {cell.rpartition(".")[0] if cell.count(".") > 1 else cell for cell in case.plan.watched}
    for name in case.plan.surfaces:
        mine = [control.partition(".")[2] for control in bound if control.startswith(f"{name}.")]
        if not mine:
            case.note("surfaces without a binding", ("surface", name), f"nothing is bound on `{name}`")
            continue
        used = {part for control in mine for part in control.replace(".", "+").split("+")}
        used |= {burst[0] for part in used if (burst := burst_of(part))}
        entry = case.desk.sources.data["surface"][name]
        for kernel, own in entry.get("names", {}).items():
            if own not in used:
                case.note(
                    "names that no binding uses", ("surface", name, "names", kernel),
                    f"nothing is bound on `{own}`; `{kernel}` has a name and no use",
                )  # fmt: skip
    groups: dict[str, list[tuple[Cell, str]]] = {}
    for level in case.levels.values():
        for cell, gesture, binding in case.bound[level.name]:
            if binding.group is not None:
                groups.setdefault(binding.group, []).append((cell, gesture))
    for group, members in groups.items():
        if len(members) == 1:
            case.note(
                "groups of one", (*case.place(*members[0]), "group"),
                f"`{group}` has no other binding, so nothing lifts what this one toggles",
            )  # fmt: skip


_TURNED = ("dial", "ring-and-dial")


def arrows(case: Case) -> None:
    """The arrow keys of what has none: a direction that was meant."""
    for name, surface in case.plan.surfaces.items():
        if surface.kind not in _TURNED or name in case.present or case.desk.links[name].description is not None:
            continue
        for level in case.levels.values():
            for control, cells in level.controls.items():
                whole, _, own = control.partition(".")
                if whole == name and surface.kernel_name(own) in ("left", "right", "up", "down"):
                    case.note(
                        "controls that the device does not have", case.place_of(cells),
                        f"never fires: `{own}` is the arrow key, and a {surface.kind} has none", "warning", f"`dial.{own}`",
                    )  # fmt: skip


def described(case: Case) -> None:
    """Controls that the thing does not have, by itself or by its description."""
    for name, controls in case.present.items():
        _lacks(case, name, controls, "the device that is plugged in")
    catalogue = Catalogue.usual(case.desk.folder)
    for name, links in case.desk.links.items():
        if links.description is None or name in case.present:
            continue
        try:
            description = catalogue.get(links.description)
        except DeskError:
            continue
        if description is None or not description.spots:
            continue
        # A description tells where things are pressed; whether there is a sensor inside it does not say.
        has = frozenset(spot.control for spot in description.spots) | HELD_BY_HAND
        _lacks(case, name, has, f"the description `{links.description}`")


def _lacks(case: Case, name: str, has: frozenset[str], says: str) -> None:
    """Notes each control that is bound on a surface of which only these, by the kernel's names, are there."""
    surface = case.plan.surfaces[name]
    for level in case.levels.values():
        for control, cells in level.controls.items():
            if not control.startswith(f"{name}."):
                continue
            for part in (cell for one in cells for cell in (one.members or (one.address,))):
                own = part.partition(".")[2].partition(".")[0]
                kernel = surface.kernel_name(own) or own
                kernel = "sensor" if kernel in HELD_BY_HAND else kernel
                burst = burst_of(kernel)
                if kernel not in has and not own.endswith("-touch") and (burst is None or burst[0] not in has):
                    case.note(
                        "controls that the device does not have", case.place_of(cells),
                        f"never fires: {says} knows no `{own}`", "warning",
                    )  # fmt: skip
                    break
