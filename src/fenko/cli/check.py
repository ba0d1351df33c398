"""`fenko check`: what is wrong with a desk, and where."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from fenko.cli.shared import desk_option, desk_path, format_option, say, show_json, show_problems
from fenko.core.plan import BASE
from fenko.desk.load import Desk, load_desk
from fenko.desk.problems import DeskError, Problem


@click.command()
@desk_option
@format_option("text", "json")
@click.option("--schema", is_flag=True, help="Print a JSON Schema of the desk file, for editors, and end.")
def command(desk_folder: Path | None, form: str, schema: bool) -> None:
    """Say what is wrong with a desk, and where: file, line, column, what was expected.

    Exit status: 0 all is well, 1 it works but something was found, 2 it cannot be used.
    """
    if schema:
        from fenko.desk.schema import desk_schema

        show_json(desk_schema())
        return
    try:
        desk = load_desk(desk_path(desk_folder))
    except DeskError as error:
        _show(error.problems, form, None)
        sys.exit(2)
    problems = _layout_problems(desk)
    _show(problems, form, desk)
    sys.exit(1 if any(problem.severity != "hint" for problem in problems) else 0)


def _layout_problems(desk: Desk) -> list[Problem]:
    """What the kernel's virtual keyboard cannot make with the keyboard layout in force."""
    from fenko.outputs.layout import kernel_layout, missing_in

    layout = kernel_layout(desk.layout)
    before = len(desk.sources.problems)
    for path, phrase in desk.phrases:
        for what in missing_in(layout, phrase):
            desk.sources.add(
                path,
                f"{what} through the kernel with layout {layout.name}",
                expected='keys of the layout, or `[output] keys = "x11"`',
                severity="warning" if desk.keys == "kernel" else "hint",
            )
    return sorted(set(desk.sources.problems[before:]))


def _show(problems: list[Problem], form: str, desk: Desk | None) -> None:
    if form == "json":
        show_json({"usable": desk is not None, "problems": [problem.as_json() for problem in problems]})
        return
    show_problems(problems, err=False)
    if desk is not None:
        if problems:
            say("")
        say(_summary(desk, len(problems)))
    elif problems:
        files = len({problem.file for problem in problems})
        say(f"\n{_count(len(problems), 'error')} in {_count(files, 'file')}; this desk cannot be used yet.")


def _summary(desk: Desk, found: int) -> str:
    plan = desk.plan
    levels = {
        level.name: level
        for profile in plan.profiles.values()
        for level in (*profile.levels, *(level for layer in profile.layers.values() for level in layer.levels))
    }
    cells = [cell for level in levels.values() for owned in level.controls.values() for cell in owned]
    bindings = sum(1 for cell in cells for _ in cell.gestures())
    profiles = sum(1 for name in plan.profiles if name != BASE)
    parts = (
        _count(len(plan.surfaces), "surface"),
        f"{_count(profiles, 'profile')} over base",
        _count(bindings, "binding"),
    )
    verdict = "is in order" if not found else f"works; {_count(found, 'thing')} to know"
    return f"{desk.name} {verdict}: {', '.join(parts)}."


def _count(number: int, what: str) -> str:
    return f"{number} {what}" + ("" if number == 1 else "s")
