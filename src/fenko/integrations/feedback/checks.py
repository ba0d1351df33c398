"""Checks of lamps that bindings light."""

from __future__ import annotations

from fenko.core.plan import control_of
from fenko.core.review import DeskReview
from fenko.integrations.feedback.spec import lamp_of


def check(case: DeskReview) -> None:
    """Report lamps that a surface has not."""
    for level in case.levels.values():
        for cell, gesture, binding in case.bound[level.name]:
            if binding.lit is None:
                continue
            surface, _, own = control_of(cell.address).partition(".")
            lamp = binding.lamp or case.plan.surfaces[surface].kernel_name(own) or own
            lacks = lamp_of(lamp, case.tables["surface"][surface])
            if lacks is not None:
                what = f"`{surface}` has no lamp `{lamp}`" if binding.lamp else f"`{own}` has no lamp of its own"
                case.note(
                    "lamps that are not there", (*case.place(cell, gesture), "lamp" if binding.lamp else "lit"), f"{what}, so none is lit", "warning",
                    f"{'' if binding.lamp else '`lamp` beside it: '}{lacks.expected}", key=False,
                )  # fmt: skip
