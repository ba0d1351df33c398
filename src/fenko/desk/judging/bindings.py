"""Judgements on bindings: what can never happen, what is said twice, what acts too early."""

from __future__ import annotations

from fenko.core.controls import BUTTON
from fenko.core.phrase import Phrase
from fenko.core.plan import Cell
from fenko.core.verbs.desk import Nothing
from fenko.core.verbs.keys import Keys, Lift, Press, Tap
from fenko.desk.judging.case import Case, own_name


def chords(case: Case) -> None:
    """Several at once that no hand can press together."""
    for level in case.levels.values():
        for control, cells in level.controls.items():
            for cell in cells if "+" in control else ():
                why = _impossible(case, cell)
                if why:
                    case.note("impossible chords", case.place_of([cell]), f"never fires: {why}", "warning")


def _impossible(case: Case, chord: Cell) -> str:
    for member in chord.members:
        surface, _, rest = member.partition(".")
        control, _, direction = rest.partition(".")
        shape = case.plan.surfaces[surface].shape(control) or BUTTON
        for ends in shape.axes.values():
            opposite = next((end for end in ends if end and end != direction), None) if direction in ends else None
            if opposite and f"{surface}.{control}.{opposite}" in chord.members:
                return f"`{control}` cannot be pushed {direction} and {opposite} at once"
        for diagonal, parts in shape.diagonals.items():
            if direction == diagonal and any(f"{surface}.{control}.{part}" in chord.members for part in parts):
                return f"`{control}.{diagonal}` takes the place of the directions beside it"
        if control.endswith("-touch"):
            touched = f"{surface}.{control.removesuffix('-touch')}"
            if {touched, f"{touched}-press"} & set(chord.members):
                return f"`{control}` is silent while the control itself is pressed"
    return ""


def repeated_below(case: Case) -> None:
    """What a level says again that lies under it anyway."""
    seen: set[tuple[str, str]] = set()
    for profile in case.plan.profiles.values():
        below: dict[str, tuple[Cell, ...]] = {}
        for level in profile.levels:
            for control, cells in level.controls.items():
                before = below.get(control)
                if before is not None and (level.name, control) not in seen and _same(before, cells):
                    seen.add((level.name, control))
                    case.note(
                        "bindings that say what lies below anyway", case.place_of(cells),
                        f"says the same as `{before[0].profile}`, which lies under it",
                    )  # fmt: skip
            below.update(level.controls)


def alike(case: Case) -> None:
    """Two controls of one surface that do the same in one level."""
    sort = "two controls that do the same"
    for bound in case.bound.values():
        first: dict[tuple[str, Phrase], Cell] = {}
        for cell, gesture, binding in bound:
            if binding.others:
                continue
            surface = cell.address.partition(".")[0]
            other = first.setdefault((surface, binding.phrase), cell)
            if other is cell or other.address == cell.address:
                continue
            if any(isinstance(step, Keys | Tap) for step in binding.phrase.steps) and not case.enough(sort):
                case.note(
                    sort, case.place(cell, gesture),
                    f"does the same as `{own_name(other.address)}`: {binding.words}",
                )  # fmt: skip


def press_and_more(case: Case) -> None:
    """Presses that act before it is known whether another gesture comes."""
    for cell in case.several:
        if cell.press is None or cell.press.phrase.steps == (Nothing(),):
            continue
        others = [gesture for gesture, _ in cell.gestures() if gesture in ("tap", "double", "triple")]
        if others:
            names = " and every ".join(f"`{gesture}`" for gesture in others)
            case.note(
                "presses that act before another gesture", case.place(cell, "press"),
                f"`press` acts at once, so it also comes before every {names} of `{own_name(cell.address)}`",
                expected="`tap` instead of `press`, if it should be one or the other",
            )  # fmt: skip


def macros(case: Case) -> None:
    """Lifts of what the action has not pressed."""
    for path, phrase in case.desk.phrases:
        if len(phrase.steps) == 1 and not isinstance(phrase.steps[0], Lift):
            continue
        down: set[str] = set()
        for step in phrase.steps:
            if isinstance(step, Press):
                down |= {*step.keys}
            elif isinstance(step, Lift):
                missing = [key for key in step.keys if key not in down]
                if missing:
                    case.note(
                        "lifts of what is not pressed", path, f"`lift {'+'.join(missing)}` lifts nothing: this "
                        "action has not pressed it", "warning", key=False,
                    )  # fmt: skip
                down -= {*step.keys}


def _same(one: tuple[Cell, ...], other: tuple[Cell, ...]) -> bool:
    """Whether two levels bind a control alike, also in label and looks."""
    return [(cell.address, cell.timing, list(cell.gestures())) for cell in one] == [
        (cell.address, cell.timing, list(cell.gestures())) for cell in other
    ]
