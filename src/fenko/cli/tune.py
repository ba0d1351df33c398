"""`fenko tune`: measures a device and the hand on it, and proposes the numbers that suit them."""

from __future__ import annotations

import contextlib
import re
import sys
import time
from collections.abc import Sequence
from math import inf
from pathlib import Path
from typing import TYPE_CHECKING

import click
from msgspec import structs

from fenko.cli.shared import (
    bold,
    desk_option,
    dim,
    fail,
    fail_unknown,
    format_option,
    note,
    open_desk,
    say,
    show_json,
    show_problems,
    show_table,
)
from fenko.cli.trial import kept, tried
from fenko.core.changes import Change
from fenko.core.plan import Surface
from fenko.core.words import reason
from fenko.desk.editing import Edit, EditError, NotWritten, alone, set_entry, write
from fenko.desk.load import Desk
from fenko.desk.locate import KeyPath
from fenko.desk.numbers import read_conditioning
from fenko.desk.problems import DeskError
from fenko.desk.sources import Sources
from fenko.desk.times import read_times
from fenko.devices.take import TakeError, read_take
from fenko.drawing import FORMATS
from fenko.system.talking import NobodyThere, Refused, Talk

if TYPE_CHECKING:
    from fenko.tuning.proposals import Proposal

FALSE_MOVES = 1.0
"""An hour, if nobody says otherwise."""


@click.command()
@click.argument("surface")
@desk_option
@format_option("table", "json")
@click.option("--take", "take_path", metavar="TAKE", type=click.Path(path_type=Path), help="Measure this take instead of asking for one.")  # fmt: skip
@click.option(
    "--out", metavar="FILE", type=click.Path(path_type=Path), help="Draw what was measured: .svg, .png or .pdf."
)
@click.option("--false-moves", metavar="N", type=click.FloatRange(0.001, 10_000), default=FALSE_MOVES, show_default=True, help="How often in an hour a control at rest may stray beyond its dead zone.")  # fmt: skip
@click.option("--pace", metavar="N", type=click.FloatRange(0.1, 10), default=1.0, show_default=True, help="How fast you are led through: 2 takes half the time.")  # fmt: skip
@click.option(
    "--try", "trying", is_flag=True, help="Try what is proposed in the desk that runs, for 30 s; Enter keeps it."
)
@click.option("--write", "wanted", is_flag=True, help="Write what is proposed into the desk, without asking.")
def command(
    surface: str,
    desk_folder: Path | None,
    form: str,
    take_path: Path | None,
    out: Path | None,
    false_moves: float,
    pace: float,
    trying: bool,
    wanted: bool,
) -> None:
    """Measure a surface and propose what suits it: where its sticks rest, dead zones, ranges, bounce, and how long this
    hand takes for a hold or a double press.

    Without --take you are led through it, in about a minute. Each number comes with its evidence. Nothing is written
    without your consent; comments and all else in the desk stay as they are.
    """
    if out is not None and out.suffix[1:].lower() not in FORMATS:
        fail(f"{out} should end in {', '.join(f'.{kind}' for kind in FORMATS)}", 2)
    desk = open_desk(desk_folder)
    if surface not in desk.plan.surfaces:
        fail_unknown(f"the desk has no surface `{surface}`", surface, desk.plan.surfaces)
    changes = _recorded(desk, surface, pace) if take_path is None else _of_take(desk, take_path)
    # Only now: what measures is heavy.
    from fenko.tuning.proposals import measure
    from fenko.tuning.tracks import tracks_of

    known = desk.plan.surfaces[surface]
    tracks = tracks_of(known, changes)
    if not (tracks.positions or tracks.buttons or tracks.turning):
        fail(f"nothing of `{surface}` moved in {take_path or 'that time'}, so nothing was measured")
    written = read_times(Sources(desk.folder), (), desk.sources.data["surface"][surface].get("timing"), checked=True)
    found = measure(known, structs.replace(desk.plan.timing, **written), tracks, false_moves)
    if out is not None:
        from fenko.tuning.picture import draw

        try:
            draw(out, f"{surface}: what was measured", _tuned(desk, known, found.proposals), tracks, found)
        except OSError as why:
            fail(f"{out} cannot be written: {reason(why)}")
    if form == "json":
        show_json({"proposals": [{**structs.asdict(one), "setting": f"surface.{surface}.{one.setting}"} for one in found.proposals],
                   "unknown": [structs.asdict(one) for one in found.skipped]})  # fmt: skip
    else:
        rows = [(one.setting, one.now, one.value.strip('"'), one.evidence) for one in found.proposals]
        if rows:
            show_table(("setting", "now", "proposed", "because"), rows)
        else:
            say(f"All that could be measured of {surface} is as it should be.")
        for one in found.skipped:
            say(dim(f"{one.what}: {one.why}"))
    if out is not None:
        note(f"{out} shows it")
    if found.proposals and trying:
        wanted = _liked(desk, surface, found.proposals)
        if not wanted:
            note("nothing was written")
            return
    if found.proposals and (
        wanted or (form == "table" and sys.stdin.isatty() and sys.stdout.isatty() and _agreed(desk))
    ):
        _write(desk, surface, found.proposals)


def _of_take(desk: Desk, path: Path) -> list[Change]:
    try:
        return read_take(path, desk.plan.surfaces).changes
    except TakeError as error:
        fail(str(error), 2)


def _agreed(desk: Desk) -> bool:
    try:
        return click.confirm(f"Write this into {desk.name}?", default=False, err=True)
    except click.Abort:
        note("")
        return False


_TRIAL = 30.0
"""Seconds."""


def _liked(desk: Desk, surface: str, proposals: Sequence[Proposal]) -> bool:
    """Whether a person wants to keep what they have tried."""
    try:
        with contextlib.closing(Talk()) as talk:
            if Path(talk.desk["folder"]).resolve() != desk.folder.resolve():
                fail(f"the desk that runs is another one: {talk.desk['folder']}")
            tried(talk, {f"surface.{surface}.{one.setting}": one.value for one in proposals}, _TRIAL)
            if not kept(talk, "what is proposed holds", _TRIAL):
                return False
            list(talk.ask("keep"))
            return True
    except (NobodyThere, Refused) as why:
        fail(str(why))


# --- What is proposed, in the desk ---


def _tuned(desk: Desk, surface: Surface, proposals: Sequence[Proposal]) -> Surface:
    """The surface as it would be with all that is proposed."""
    import copy
    import tomllib

    from fenko.core.words import parse_time

    tables = copy.deepcopy(desk.sources.data["surface"][surface.name].get("control", {}))
    debounce = surface.debounce
    for one in proposals:
        value = tomllib.loads(f"value = {one.value}")["value"]
        if one.path[0] == "control":
            tables.setdefault(one.path[1], {})[one.path[2]] = value
        elif one.path == ("debounce",):
            debounce = parse_time(value)
    made = read_conditioning(Sources(desk.folder), surface, tables)
    return structs.replace(surface, conditioning=made, debounce=debounce)


def _write(desk: Desk, surface: str, proposals: Sequence[Proposal]) -> None:
    """Writes each value with a comment that says where it comes from; of a table in one line, without."""
    day = time.strftime("%Y-%m-%d")
    written: set[Path] = set()
    try:
        with alone(desk.folder):
            for one in proposals:
                path: KeyPath = ("surface", surface, *one.path)
                try:
                    edit = set_entry(desk.folder, path, f"{one.value} # measured {day}: {one.evidence}")
                except EditError:
                    edit = set_entry(desk.folder, path, one.value)
                write(_newest_alone(edit))
                written.add(edit.path)
    except DeskError as error:
        show_problems(error.problems, err=True)
        fail("the desk would have faults with this, so the rest was not written", 2)
    except NotWritten as why:
        fail(str(why))
    except EditError as why:
        fail(str(why), 2)
    note(f"{len(proposals)} settings are in {', '.join(str(path) for path in sorted(written))}")


_TWICE = re.compile(rb"(# measured [^#\r\n]*?) *# measured [^#\r\n]*")


def _newest_alone(edit: Edit) -> Edit:
    """The edit without what was measured there before."""
    lines = edit.after.split(b"\n")
    lines[edit.line - 1] = _TWICE.sub(rb"\1", lines[edit.line - 1])
    return structs.replace(edit, after=b"\n".join(lines))


# --- Asking for a take ---


def _recorded(desk: Desk, surface: str, pace: float) -> list[Change]:
    """Leads a person through what has to be seen, and returns all that the device said."""
    from fenko.live.loop import Loop
    from fenko.live.registry import DeskRegistry
    from fenko.live.surfaces import Surfaces

    changes: list[Change] = []
    with Loop() as loop:
        surfaces = Surfaces(
            DeskRegistry(desk, share=True, wanted=(surface,)), loop, changes.extend, lambda raw: None, note, raw=True
        )
        surfaces.start()
        try:
            present = surfaces.present(surface)
            if not present:
                fail(f"`{surface}` is not here; plug it in, or measure a take with --take")
            shapes = [known.shape(control) for known, controls in present for control in controls]
            steps = _steps({shape.name for shape in shapes if shape is not None})
            timer = loop.timer(lambda now: _next())
            ended = False

            def _next() -> None:
                nonlocal ended
                if not steps:
                    ended = True
                    loop.stop()
                    return
                what, seconds = steps.pop(0)
                seconds /= pace
                note(f"{bold(what, err=True)}  ({seconds:g} s)")
                timer.set_in(seconds)

            _next()
            loop.run()
            timer.set(inf)
        finally:
            surfaces.close()
    if not ended:
        fail("ended before it was measured; nothing was written")
    return changes


def _steps(shapes: set[str]) -> list[tuple[str, float]]:
    """What a person is asked to do, and for how many seconds."""
    steps = [("Hands off: leave it alone.", 5.0)]
    if shapes & {"stick", "ring"}:
        steps.append(("Move each stick or ring round its edge, slowly, and let go of it; several times.", 20.0))
    if shapes & {"trigger"}:
        steps.append(("Push each trigger all the way, and let go; several times.", 10.0))
    if shapes & {"button"}:
        steps += [("Press some buttons quickly, ten times each; now and then one twice in a row.", 15.0),
                  ("Press some buttons and hold them, as long as you would for a hold; eight times.", 15.0)]  # fmt: skip
    if shapes & {"dial", "wheel"}:
        steps.append(("Turn the dial slowly, then fast, both ways.", 10.0))
    steps.append(("Hands off again.", 5.0))
    return steps
