"""`fenko tune`: measures a device and the hand on it, and proposes the numbers that suit them."""

from __future__ import annotations

import contextlib
import re
import time
from collections.abc import Sequence
from math import inf
from pathlib import Path
from typing import TYPE_CHECKING

import click
from msgspec import structs

from fenko.cli.shared import (
    agreed,
    bold,
    check_ending,
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
from fenko.core.plan import Surface, Timing
from fenko.core.words import format_time, reason
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
    from fenko.tuning.proposals import Measured, Proposal

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
    "--journal",
    "from_journal",
    is_flag=True,
    help="Take the times of this hand from the journal (`hold`, `double`, `chord`).",
)
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
    from_journal: bool,
    trying: bool,
    wanted: bool,
) -> None:
    """Measure a surface and propose what suits it: where its sticks rest, dead zones, ranges, bounce, and how long this
    hand takes for a hold or a double press.

    Without --take you are led through it, in about a minute. Each number comes with its evidence. With --journal it is what your hand
    did at work that counts, and other times are weighed by how much they would have judged otherwise. Nothing is written
    without your consent; comments and all else in the desk stay as they are.
    """
    if from_journal and (take_path is not None or out is not None):
        raise click.UsageError("--journal goes with neither --take nor --out")
    check_ending(out, FORMATS)
    desk = open_desk(desk_folder)
    if surface not in desk.plan.surfaces:
        fail_unknown(f"the desk has no surface `{surface}`", surface, desk.plan.surfaces)
    if from_journal:
        _tune_from_journal(desk, surface, form, trying, wanted)
        return
    changes = _recorded(desk, surface, pace) if take_path is None else _of_take(desk, take_path)
    # Only now: what measures is heavy.
    from fenko.tuning.proposals import measure
    from fenko.tuning.tracks import tracks_of

    known = desk.plan.surfaces[surface]
    tracks = tracks_of(known, changes)
    if not (tracks.positions or tracks.buttons or tracks.turning):
        fail(f"nothing of `{surface}` moved in {take_path or 'that time'}, so nothing was measured")
    found = measure(known, _timing(desk, surface), tracks, false_moves)
    if out is not None:
        from fenko.tuning.picture import draw

        try:
            draw(out, f"{surface}: what was measured", _tuned(desk, known, found.proposals), tracks, found)
        except OSError as why:
            fail(f"{out} cannot be written: {reason(why)}")
    _show(surface, found, form)
    if out is not None:
        note(f"{out} shows it")
    _act(desk, surface, found, form, trying, wanted)


def _timing(desk: Desk, surface: str) -> Timing:
    """The times that hold for a surface."""
    written = read_times(Sources(desk.folder), (), desk.sources.data["surface"][surface].get("timing"), checked=True)
    return structs.replace(desk.plan.timing, **written)


def _tune_from_journal(desk: Desk, surface: str, form: str, trying: bool, wanted: bool) -> None:
    from fenko.cli.usage import counted_of
    from fenko.studies.usage import times_of
    from fenko.tuning.proposals import choices, measure_times

    counted, bindings, _ = counted_of(desk, example=False)
    timing = _timing(desk, surface)
    times = times_of(desk.plan, counted, bindings, surface)
    if not times:
        fail(
            f"the journal has no times of `{surface}`: no press there is judged by `hold`, `double` or `chord`, or none has come yet"
        )
    found, weighed = measure_times(times, timing), choices(times, timing)
    _show(surface, found, form, [structs.asdict(one) for one in weighed])
    if form == "table":
        say(bold("\nWhat other times would have judged otherwise than those in force"))
        show_table(
            ("setting", "time", "otherwise", "of"),
            [(one.setting, format_time(one.seconds), f"{one.otherwise:.1%}" if one.otherwise else dim("in force") if one.seconds == getattr(timing, one.setting.partition(".")[2]) else "none", f"{one.times:,}") for one in weighed],
        )  # fmt: skip
    _act(desk, surface, found, form, trying, wanted)


def _show(surface: str, found: Measured, form: str, weighed: Sequence[dict[str, object]] = ()) -> None:
    if form == "json":
        show_json({"proposals": [{**structs.asdict(one), "setting": f"surface.{surface}.{one.setting}"} for one in found.proposals],
                   "unknown": [structs.asdict(one) for one in found.skipped], **({"choices": weighed} if weighed else {})})  # fmt: skip
        return
    rows = [(one.setting, one.now, one.value.strip('"'), one.evidence) for one in found.proposals]
    if rows:
        show_table(("setting", "now", "proposed", "because"), rows)
    else:
        say(f"All that could be measured of {surface} is as it should be.")
    for one in found.skipped:
        say(dim(f"{one.what}: {one.why}"))


def _act(desk: Desk, surface: str, found: Measured, form: str, trying: bool, wanted: bool) -> None:
    """Tries or writes what is proposed, where somebody wants that."""
    if found.proposals and trying:
        wanted = _liked(desk, surface, found.proposals)
        if not wanted:
            note("nothing was written")
            return
    if found.proposals and (wanted or (form == "table" and agreed(f"Write this into {desk.name}?"))):
        _write(desk, surface, found.proposals)


def _of_take(desk: Desk, path: Path) -> list[Change]:
    try:
        return read_take(path, desk.plan.surfaces).changes
    except TakeError as error:
        fail(str(error), 2)


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
