"""`fenko devices`: what is plugged in."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import click

from fenko.cli.shared import fail, format_option, note, say, show_json, show_table
from fenko.core.changes import Change
from fenko.core.remedies import input_denied
from fenko.devices.node import OpenNode
from fenko.devices.things import SYSFS, Thing, list_things
from fenko.live.loop import Loop
from fenko.live.registry import EveryThing
from fenko.live.surfaces import Surfaces


@click.command()
@format_option("table", "json")
@click.option("--press", is_flag=True, help="Ask for a press on the thing that you mean, and tell which one it is.")
def command(form: str, press: bool) -> None:
    """List what is plugged in: name, link for the desk, kind, event nodes, and why something cannot be read."""
    if press:
        _tell_pressed(form)
        return
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


_FAR = 0.7  # how far an axis has to be pushed to count as meant


def _tell_pressed(form: str) -> None:
    """Waits for one press, turn or push on anything, and tells what it was and how a desk names it."""
    note("Press something on the thing that you mean (Ctrl-C ends).")
    told: list[tuple[Thing, OpenNode, str]] = []
    with Loop() as loop:
        started = False

        def feed(changes: Sequence[Change]) -> None:
            for _, address, value in changes:
                meant = started and "." in address and ".motion" not in address and abs(value) >= _FAR
                source = surfaces.source(address) if meant else None
                thing = _thing_of(source) if source else None
                if source and thing and not told:
                    told.append((thing, source, address.partition(".")[2]))
                    loop.stop()

        surfaces = Surfaces(EveryThing(keyboards=True), loop, feed, lambda raw: None, lambda line: None)
        surfaces.start()
        started = True
        loop.run()
        surfaces.close()
    if not told:
        fail("nothing was pressed")
    thing, source, control = told[0]
    if form == "json":
        show_json(_as_json(thing) | {"pressed": {"control": control, "node": source.node.path}})
        return
    parts = f", {len(thing.nodes)} nodes that are one thing" if len(thing.nodes) > 1 else ""
    say(f"{thing.name}: {control}")
    say(f"a {thing.kind}{parts}; the press came from {source.node.path} ({source.node.name})")
    say(f"\nFor the desk:\n\n    [surface.{source.surface.name}]")
    say(f'    kind = "{thing.kind}"\n    links = ["{thing.link}"]')
    if thing.link.startswith(("usb", "bluetooth")):
        other = "radio" if thing.link.startswith("usb") else "cable"
        say(f"\nIf it also works by {other}, ask again that way and put its second link into the same list.")


def _thing_of(source: OpenNode) -> Thing | None:
    return next((thing for thing in list_things() if any(node.path == source.node.path for node in thing.nodes)), None)
