"""`fenko devices`: what is plugged in."""

from __future__ import annotations

from typing import Any

import click

from fenko.cli.shared import format_option, note, show_json, show_table
from fenko.core.remedies import input_denied
from fenko.devices.things import SYSFS, Thing, list_things


@click.command()
@format_option("table", "json")
def command(form: str) -> None:
    """List what is plugged in: name, link for the desk, kind, event nodes, and why something cannot be read."""
    things = list_things()
    if form == "json":
        show_json([_as_json(thing) for thing in things])
        return
    if not things:
        note(
            "No input devices are here." if SYSFS.is_dir() else f"This system has no kernel input ({SYSFS} is missing)."
        )
        return
    rows = [
        (
            thing.name,
            thing.link,
            thing.kind,
            " ".join(node.path.rpartition("/")[2] for node in thing.nodes),
            thing.problem or "",
        )
        for thing in things
    ]
    show_table(("name", "link", "kind", "nodes", "problem"), rows)
    denied = [thing for thing in things if thing.problem and "may not be read" in thing.problem]
    if denied:
        note(f"\nTo be allowed to read {denied[0].name}, for good:")
        for line in input_denied(denied[0].nodes[0].vendor, denied[0].nodes[0].product):
            note(f"    {line}")


def _as_json(thing: Thing) -> dict[str, Any]:
    return {
        "name": thing.name,
        "link": thing.link,
        "kind": thing.kind,
        "nodes": [{"path": node.path, "name": node.name, "controls": node.controls} for node in thing.nodes],
        "problem": thing.problem,
    }
