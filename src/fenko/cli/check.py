"""`fenko check`: what is wrong with a desk, and where."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from fenko.cli.shared import (
    desk_option,
    desk_path,
    dim,
    format_option,
    say,
    say_what_was_brought,
    show_json,
    show_problems,
    show_table,
)
from fenko.core.plan import BASE
from fenko.desk.explaining import all_delays
from fenko.desk.judging import judge
from fenko.desk.load import Desk, load_desk
from fenko.desk.problems import DeskError, Problem
from fenko.system.things import list_nodes


@click.command()
@desk_option
@format_option("text", "json")
@click.option("--strict", is_flag=True, help="Hints count too: exit status 1 if there are any.")
@click.option("--delays", is_flag=True, help="List every binding that waits, how long, and what for, and end.")
@click.option("--schema", is_flag=True, help="Print a JSON Schema of the desk file, for editors, and end.")
def command(desk_folder: Path | None, form: str, strict: bool, delays: bool, schema: bool) -> None:
    """Say what is wrong with a desk, and where: file, line, column, what was expected.

    An error keeps the desk from working, or is an expectation of its own that fails; a warning is something that will
    not do what it says; a hint may be on purpose. Exit status: 0 all is well, 1 it works but an error or a warning was
    found, 2 it cannot be used.
    """
    if schema:
        from fenko.desk.schema import desk_schema

        show_json(desk_schema())
        return
    say_what_was_brought()
    try:
        desk = load_desk(desk_path(desk_folder))
    except DeskError as error:
        _show(error.problems, form, None)
        sys.exit(2)
    if delays:
        _show_delays(desk, form)
        return
    problems = sorted([*_layout_problems(desk), *judge(desk, _present(desk))])
    _show(problems, form, desk)
    sys.exit(1 if any(strict or problem.severity != "hint" for problem in problems) else 0)


def _present(desk: Desk) -> dict[str, frozenset[str]]:
    """The controls of the surfaces that are plugged in."""
    nodes = list_nodes()
    found = {
        name: frozenset(
            control for node in nodes for control in node.controls if any(node.matches(link) for link in links.links)
        )
        for name, links in desk.links.items()
    }
    return {name: controls for name, controls in found.items() if controls}


def _show_delays(desk: Desk, form: str) -> None:
    rows = all_delays(desk)
    if form == "json":
        show_json(rows)
    elif not rows:
        say("Every binding acts at once.")
    else:
        show_table(
            ("binding", "profile", "waits", "because", "stands in"),
            [
                (
                    f"{row['control'].replace('.', ' ', 1)} {row['gesture']}", row["level"],
                    f"{row['ms']:g} ms after the {row['after']}", row["because"], row["where"],
                )
                for row in rows
            ],
        )  # fmt: skip
        say(dim("All others act at once; a tap acts at its release."))


def _layout_problems(desk: Desk) -> list[Problem]:
    """What the kernel's virtual keyboard cannot make with the keyboard layout in force."""
    from fenko.outputs.layout import is_known, kernel_layout, missing_in

    if desk.keys in ("x11", "wayland"):
        return []  # the desktop's layout decides, whatever it is when the desk runs
    layout = kernel_layout(desk.layout)
    before = len(desk.sources.problems)
    if desk.layout and not is_known(desk.layout):
        message = f"this machine knows no keyboard layout `{desk.layout}`; {layout.name} would be taken"
        desk.sources.add(("output", "layout"), message, expected="such as us, de or fr(oss)", severity="warning")
    # The same phrase stands in many places, and is one object.
    phrases = {id(phrase): phrase for _, phrase in desk.phrases}
    missing = {one: found for one, phrase in phrases.items() if (found := list(missing_in(layout, phrase)))}
    if missing and desk.keys == "auto":
        from fenko.live.desktop_ready import takes_keys

        missing = {} if takes_keys() else missing
    for path, phrase in desk.phrases:
        for what in missing.get(id(phrase), ()):
            desk.sources.add(
                path,
                f"{what} through the kernel with layout {layout.name}",
                expected='keys of the layout, or `[output] keys = "x11"` or `"wayland"`',
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
        say(_summary(desk, problems))
        waits = all_delays(desk)
        if waits:
            longest = max(row["ms"] for row in waits)
            say(
                dim(
                    f"{len(waits)} of these {'waits' if len(waits) == 1 else 'wait'}, {longest:g} ms at most; --delays lists them."
                )
            )
    elif problems:
        files = len({problem.file for problem in problems})
        say(f"\n{_count(len(problems), 'error')} in {_count(files, 'file')}; this desk cannot be used yet.")


def _summary(desk: Desk, problems: list[Problem]) -> str:
    plan = desk.plan
    cells = [cell for level in plan.levels.values() for owned in level.controls.values() for cell in owned]
    bindings = sum(1 for cell in cells for _ in cell.gestures())
    profiles = sum(1 for name in plan.profiles if name != BASE)
    expected = len(desk.expectations)
    parts = (
        _count(len(plan.surfaces), "surface"),
        f"{_count(profiles, 'profile')} over base",
        _count(bindings, "binding"),
        *([_count(expected, "expectation")] if expected else []),
    )
    failed = sum(problem.severity == "error" for problem in problems)
    others = len(problems) - failed
    known = f"; {_count(others, 'thing')} to know" if others else ""
    if failed:
        verdict = f"does not do what it expects of itself ({_count(failed, 'failure')}){known}"
    else:
        verdict = f"works{known}" if others else "is in order"
    return f"{desk.name} {verdict}: {', '.join(parts)}."


def _count(number: int, what: str) -> str:
    return f"{number} {what}" + ("" if number == 1 else "s")
