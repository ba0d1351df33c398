"""`fenko devices`: what is plugged in."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import click

from fenko.cli.describe import FarPressed, describe_thing, known_as, links_of, wait_for_press
from fenko.cli.shared import (
    desk_option,
    desk_path,
    fail,
    format_option,
    note,
    say,
    show_json,
    show_problems,
    show_table,
)
from fenko.core.links import LinkedDevice, linked_device, linked_devices, matches
from fenko.core.remedies import input_denied
from fenko.core.words import slug_of
from fenko.data import DEVICES
from fenko.desk.descriptions import Catalogue
from fenko.desk.writing import quoted
from fenko.system.person import group_member
from fenko.system.things import SYSFS, Thing, list_things


@click.command()
@desk_option
@format_option("table", "json")
@click.option("--press", is_flag=True, help="Ask for a press on the thing that you mean, and tell which one it is.")
@click.option("--describe", is_flag=True, help="Write a description of a thing: press its controls one by one.")
@click.option(
    "--link", metavar="LINK",
    help="With --press or --describe: a board, `serial DEVICE` or `tcp HOST:PORT`, or one MIDI controller, `midi PORT`.",
)  # fmt: skip
@click.option("--out", metavar="FILE", type=click.Path(path_type=Path), help="With --describe: the file to write.")
@click.option("--network", is_flag=True, help="List what others lend and tell the local network of (mDNS), instead.")
@click.option("--known", is_flag=True, help="List the descriptions at hand instead: yours and those of Fenko.")
def command(
    desk_folder: Path | None,
    form: str,
    press: bool,
    describe: bool,
    link: str | None,
    out: Path | None,
    network: bool,
    known: bool,
) -> None:
    """List what is plugged in: name, link for the desk, kind, event nodes, and why something cannot be read.

    MIDI controllers and serial lines, at which boards may be, are listed too. A board is only asked what it is when you
    name its line with --link.
    """
    if press + describe + known + network > 1:
        raise click.UsageError("--press, --describe, --network and --known are different questions.")
    if out is not None and not describe:
        raise click.UsageError("--out goes with --describe.")
    if link is not None and not (press or describe):
        raise click.UsageError("--link goes with --press and --describe.")
    try:
        far = linked_device(link) if link is not None else None
    except ValueError as why:
        raise click.BadParameter(str(why), param_hint="--link") from None
    folder = desk_path(desk_folder)
    catalogue = Catalogue.usual(folder if folder.is_dir() else None)
    if describe:
        describe_thing(out, far)
        return
    if press:
        _tell_pressed(form, catalogue, far)
        return
    if known:
        _list_known(form, catalogue)
        return
    if network:
        _list_lent(form)
        return
    things, others = list_things(), linked_devices()
    if form == "json":
        show_json(
            [*(_as_json(thing, catalogue) for thing in things), *(_far_as_json(one, catalogue) for one in others)]
        )
        return
    if not things and not others:
        note(
            "No input devices are here." if SYSFS.is_dir() else f"This system has no kernel input ({SYSFS} is missing)."
        )
        return
    found = [(thing, known_as(thing, catalogue)) for thing in things]
    rows = [
        (
            thing.name,
            thing.link,
            described[1].kind if described else thing.kind,
            described[0] if described else "",
            " ".join(node.path.rpartition("/")[2] for node in thing.nodes),
            thing.problem or "",
        )
        for thing, described in found
    ]
    rows += [(one.name, one.link, one.kind, _described(one, catalogue) or "", "", one.problem or "") for one in others]
    show_table(("name", "link", "kind", "description", "nodes", "problem"), rows)
    show_problems(catalogue.problems, err=True)
    denied = [thing for thing in things if thing.problem and "may not be read" in thing.problem]
    if denied:
        note(f"\nTo be allowed to read {denied[0].name}, for good (`fenko ready` says it for all that you need):")
        first = denied[0].nodes[0]
        for line in input_denied([(first.vendor, first.product)], group_member()).commands():
            note(f"    {line}")


def _list_lent(form: str) -> None:
    """What others lend on the local network."""
    from fenko.live.announcing import LOOKS_FOR, NoNetwork, looked_for

    if sys.stderr.isatty():
        note(f"Asking the network for {LOOKS_FOR:g} s …")
    try:
        found = looked_for()
    except NoNetwork as why:
        fail(str(why))
    if form == "json":
        show_json(
            [{"name": one.title, "link": f"mqtt {one.topic}", "kind": one.kind, "broker": one.broker} for one in found]
        )
    elif found:
        show_table(
            ("name", "link", "kind", "broker"),
            [(one.title, f"mqtt {one.topic}", one.kind, one.broker) for one in found],
        )
    else:
        note("Nobody tells of a surface that is lent (`fenko lend … --announce`).")


def _list_known(form: str, catalogue: Catalogue) -> None:
    """The descriptions, with the files that they are in."""
    paths, descriptions = dict(catalogue.paths()), catalogue.all()
    if form == "json":
        show_json(
            [
                {"description": name, "name": one.name, "kind": one.kind, "links": one.links, "file": str(paths[name])}
                for name, one in descriptions.items()
            ]
        )
    else:
        rows = [
            (name, one.name, one.kind, ", ".join(one.links), _place(paths[name])) for name, one in descriptions.items()
        ]
        show_table(("description", "name", "kind", "links", "from"), rows)
    show_problems(catalogue.problems, err=True)
    if catalogue.problems:
        sys.exit(1)


def _place(path: Path) -> str:
    return "Fenko" if path.parent == DEVICES else str(path)


def _as_json(thing: Thing, catalogue: Catalogue) -> dict[str, Any]:
    known = known_as(thing, catalogue)
    return {
        "name": thing.name,
        "link": thing.link,
        "kind": known[1].kind if known else thing.kind,
        "description": known[0] if known else None,
        "nodes": [{"path": node.path, "name": node.name, "controls": node.controls} for node in thing.nodes],
        "problem": thing.problem,
    }


def _described(thing: LinkedDevice, catalogue: Catalogue) -> str | None:
    """The description of something that is no kernel device, by its link."""
    found = catalogue.matching(lambda link: matches(link, thing))
    return found[0] if found else None


def _far_as_json(thing: LinkedDevice, catalogue: Catalogue) -> dict[str, Any]:
    return {
        "name": thing.name, "link": thing.link, "kind": thing.kind, "description": _described(thing, catalogue), "nodes": [],
        "problem": thing.problem,
    }  # fmt: skip


def _tell_far(form: str, catalogue: Catalogue, found: FarPressed) -> None:
    """Tells which MIDI controller or board was pressed."""
    thing, known = found.thing, _described(found.thing, catalogue)
    if form == "json":
        show_json(_far_as_json(thing, catalogue) | {"pressed": {"control": found.control, "sort": found.sort}})
        return
    say(f"{thing.name}: {found.control}")
    say(f"\nFor the desk:\n\n    [surface.{thing.slug}]")
    say(f'    kind = "{thing.kind}"')
    if known:
        say(f'    description = "{known}"')
    say(f"    links = [{quoted(thing.link)}]")
    if thing.kind == "board" and not known:
        note(f"\nWhat is on it, `fenko devices --describe --link {quoted(thing.link)}` asks it, for the desk.")
    if found.sort:
        say(f'\n    [surface.{thing.slug}.control.{found.control}]\n    sort = "{found.sort}"')


def _tell_pressed(form: str, catalogue: Catalogue, far: LinkedDevice | None) -> None:
    """Tells which thing was pressed and how a desk names it."""
    found = wait_for_press(far)
    if isinstance(found, FarPressed):
        _tell_far(form, catalogue, found)
        return
    known = known_as(found.thing, catalogue)
    if form == "json":
        show_json(_as_json(found.thing, catalogue) | {"pressed": {"control": found.control, "node": found.node.path}})
        return
    thing = found.thing
    kind = known[1].kind if known else thing.kind
    parts = f", {len(thing.nodes)} nodes that are one thing" if len(thing.nodes) > 1 else ""
    say(f"{thing.name}: {found.control}")
    say(f"a {kind}{parts}; the press came from {found.node.path} ({found.node.name})")
    say(f"\nFor the desk:\n\n    [surface.{slug_of(thing.name)}]")
    say(f'    kind = "{kind}"')
    if known:
        say(f'    description = "{known[0]}"')
    links = links_of(thing, known[1] if known else None)
    say(f"    links = [{', '.join(quoted(link) for link in links)}]")
    if thing.link.startswith(("usb", "bluetooth")) and len(links) == 1:
        other = "radio" if thing.link.startswith("usb") else "cable"
        say(f"\nIf it also works by {other}, ask again that way and put its second link into the same list.")
