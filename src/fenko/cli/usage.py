"""`fenko usage`: what the journal says of a desk."""

from __future__ import annotations

import time
from collections.abc import Sequence
from contextlib import closing
from math import isnan
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from msgspec import structs

from fenko.cli.shared import (
    bold,
    check_ending,
    colour,
    days_said,
    desk_option,
    dim,
    fail,
    fail_unknown,
    format_option,
    goes_with,
    note,
    open_desk,
    say,
    show_json,
    show_table,
)
from fenko.core.words import format_time, reason
from fenko.desk.load import Desk, load_desk
from fenko.drawing import FORMATS
from fenko.system.journal import Binding, Journal, JournalError, journal_file

if TYPE_CHECKING:
    from fenko.studies.tally import Tally
    from fenko.studies.usage import Usage, Used

_ROWS, _LINES = 10, 5
"""Of bindings that are used, and of each finding, without --all."""


@click.command()
@desk_option
@format_option("table", "json")
@click.option("--since", metavar="TIME", help="Only the last so many, such as 30 days.")
@click.option("--program", metavar="NAME", help="Only with this program in front.")
@click.option("--profile", metavar="NAME", help="Only what this profile and its layers bind.")
@click.option("--all", "every", is_flag=True, help=f"All bindings, and not only the {_ROWS} that are used most.")
@click.option("--map", "map_file", metavar="FILE", type=click.Path(path_type=Path), help="Draw a surface, what is used most the darkest: .svg, .png or .pdf.")  # fmt: skip
@click.option("--surface", metavar="NAME", help="With --map: which surface; else the one that is used most.")
@click.option("--timeline", metavar="FILE", type=click.Path(path_type=Path), help="Draw the weeks one after the other: .svg, .png or .pdf.")  # fmt: skip
@click.option("--example", is_flag=True, help="Show a made-up year at the demo desk.")
def command(
    desk_folder: Path | None,
    form: str,
    since: str | None,
    program: str | None,
    profile: str | None,
    every: bool,
    map_file: Path | None,
    surface: str | None,
    timeline: Path | None,
    example: bool,
) -> None:
    """Tell what the journal says: what is used how often and how fast, what never is, what is undone right after, how long holds and
    doubles take against the desk's times, which layers are searched.

    What is said to be missed, to be used more and more, or to be searched is so with 1 false finding in 100. `fenko journal on` has a
    journal kept. What follows from it: `fenko arrange` and `fenko tune SURFACE --journal`.
    """
    for path in (map_file, timeline):
        check_ending(path, FORMATS)
    goes_with("--map", map_file is not None, surface=surface)
    days = days_said(since) if since is not None else 0.0
    desk = _desk(desk_folder, example)
    for wanted, what, known in ((profile, "profile", desk.plan.profiles), (surface, "surface", desk.plan.surfaces)):
        if wanted is not None and wanted not in known:
            fail_unknown(f"the desk has no {what} `{wanted}`", wanted, known)
    from fenko.studies.usage import usage_of

    counted, bindings, names = counted_of(desk, example, days, program)
    usage = usage_of(desk.plan, counted, bindings, names)
    if not usage.uses:
        fail("the journal says nothing of that time" + (f" with `{program}` in front" if program else ""))
    shown = _of_profile(desk, usage, profile)
    if form == "json":
        show_json(_plain(structs.asdict(shown) | {"program": program or "", "profile": profile or ""}))
    else:
        _show(shown, every)
    try:
        if map_file is not None:
            _draw_map(desk, usage, profile, surface, map_file)
        if timeline is not None:
            from fenko.showing.usage_pictures import draw_timeline

            draw_timeline(timeline, f"{desk.name}: {shown.uses:,} uses", shown, counted, bindings)
            note(f"{timeline} shows the weeks")
    except OSError as why:
        fail(f"{why.filename or map_file or timeline} cannot be written: {reason(why)}")


def _desk(folder: Path | None, example: bool) -> Desk:
    if not example:
        return open_desk(folder)
    if folder is not None:
        raise click.UsageError("--example has a desk of its own")
    return example_desk()


def example_desk() -> Desk:
    """The desk of a made-up workshop."""
    from fenko.data import DEMO

    return load_desk(Path(str(DEMO)))


def counted_of(
    desk: Desk, example: bool, days: float = 0.0, program: str | None = None
) -> tuple[Tally, dict[int, Binding], dict[int, str]]:
    """The journal of a desk, or a made-up one, counted: of the last so many days, or all; with its bindings and names. Ends where there
    is none."""
    from fenko.studies.tally import read_uses, tally

    if example:
        from fenko.studies.made_up import made_up_year

        year = made_up_year(desk.plan)
        bindings, names = dict(enumerate(year.bindings, 1)), {0: "", **dict(enumerate(year.programs, 1))}
        since = year.ends - days * 86_400 if days else 0.0
        return tally(read_uses(year.batches), bindings, since, _program(program, names)), bindings, names
    try:
        with closing(Journal(journal_file(desk.folder))) as journal:
            bindings, names = journal.bindings(), journal.names()
            since = time.time() - days * 86_400 if days else 0.0
            return tally(read_uses(journal.batches(since)), bindings, since, _program(program, names)), bindings, names
    except JournalError as why:
        fail(f"{why}; `fenko journal on` has one kept, and `fenko usage --example` shows what that tells")


def _program(wanted: str | None, names: dict[int, str]) -> int | None:
    if wanted is None:
        return None
    found = next((number for number, name in names.items() if name == wanted), None)
    if found is None:
        fail_unknown(f"nothing was done with `{wanted}` in front", wanted, names.values())
    return found


def _of_profile(desk: Desk, usage: Usage, profile: str | None) -> Usage:
    """What is said of one profile and its layers."""
    from fenko.studies.usage import programs_of

    if profile is None:
        return usage
    own = desk.plan.profiles[profile]
    levels = {own.levels[-1].name} | {level.name for layer in own.layers.values() for level in layer.levels}
    used = [one for one in usage.used if one.level in levels]
    return structs.replace(
        usage,
        uses=sum(one.uses for one in used),
        programs=programs_of(used),
        used=used,
        unused=[one for one in usage.unused if one.level in levels],
        judged=[one for one in usage.judged if one.level in levels],
        layers=[one for one in usage.layers if one.level in levels],
    )


def _plain(value: Any) -> Any:
    """The same as data that JSON has words for."""
    if isinstance(value, float):
        return None if isnan(value) else round(value, 5)
    if isinstance(value, dict):
        return {key: _plain(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(one) for one in value]
    return _plain(structs.asdict(value)) if hasattr(value, "__struct_fields__") else value


def _day(second: int) -> str:
    return time.strftime("%Y-%m-%d", time.localtime(second))


def _show(usage: Usage, every: bool) -> None:
    say(
        f"{bold(f'{usage.uses:,} uses')} on {usage.days} days, {_day(usage.first)} to {_day(usage.last)}: "
        f"{len(usage.used)} bindings used, {len(usage.unused)} not."
    )
    say("In front: " + ", ".join(f"{name or 'nothing'} {times:,}" for name, times in usage.programs.items()) + "\n")
    rows = usage.used if every else usage.used[:_ROWS]
    show_table(
        ("control", "", "in", "does", "uses", "a day", "after", "undone", ""), [_row(one, usage.days) for one in rows]
    )
    if len(rows) < len(usage.used):
        say(dim(f"and {len(usage.used) - len(rows)} more, with --all"))
    _section("Undone right after, more than anything else", [_missed(one) for one in usage.used if one.missed])
    drifting = sorted((one for one in usage.used if one.later != 1.0), key=lambda one: -one.later)
    _section("Used more and more, or less and less", [_drifting(one) for one in drifting])
    certain = [one for one in usage.unused if one.certain]
    fewest = max((one.below for one in certain), default=0.0)
    title = f"Never used, though their profiles are (fewer than {fewest:.2%} of uses, 95 % sure)"
    _section(title, [_place(one.level, one.control, one.gesture, one.does) for one in certain], every)
    open_ = [one for one in usage.unused if not one.certain]
    if open_:
        say(dim(f"\n{len(open_)} more were not used, of profiles of which too little is known."))
    if usage.judged:
        say(bold("\nHow long presses take, against the times of the desk"))
        show_table(
            ("control", "", "in", "judged by", "times", "from", "middle", "to", "close to it"),
            [
                (one.control, one.which, one.level, format_time(round(one.threshold, 3)), f"{one.times:,}", *(_ms(each) for each in (one.low, one.middle, one.high)), f"{one.near:.1%}")
                for one in sorted(usage.judged, key=lambda one: -one.near)[: None if every else _LINES]
            ],
        )  # fmt: skip
        say(
            dim(
                "from, to: nine of ten lie between; close to it: within a fifth of it, where hands err. `fenko tune SURFACE --journal` weighs others."
            )
        )
    if usage.layers:
        say(bold("\nLayers, and how often one was on for nothing"))
        show_table(
            ("layer", "on", "for nothing", ""),
            [
                (one.level, f"{one.on:,}", f"{one.empty / one.on:.0%} ({one.between[0]:.0%} to {one.between[1]:.0%})",
                 colour("searched", "bright_yellow") if one.searched else "")
                for one in sorted(usage.layers, key=lambda one: -one.empty / one.on)[: None if every else _LINES]
            ],
        )  # fmt: skip


def _ms(seconds: float) -> str:
    return "" if isnan(seconds) else f"{seconds:.1f} s" if seconds >= 1 else f"{seconds * 1000:.0f} ms"


def _row(one: Used, days: int) -> tuple[str, ...]:
    share = one.undone / one.presses if one.presses else 0.0
    marks = [colour("missed", "bright_red")] * one.missed + [f"× {one.later:.2g} by now"] * (one.later != 1.0)
    marks += [dim("not on the desk any more")] * (not one.there)
    return (
        one.control, "" if one.gesture in ("press", "turn") else one.gesture, one.level, one.does, f"{one.uses:,}", f"{one.uses / max(days, 1):.1f}",
        _ms(one.pace), f"{share:.1%}" if one.undone else "", ", ".join(marks),
    )  # fmt: skip


def _place(level: str, control: str, gesture: str, does: str) -> str:
    how = "" if gesture in ("press", "turn") else f" {gesture}"
    return f"{control}{how}: {does} ({level})"


def _missed(one: Used) -> str:
    low, high = one.undone_between
    wanted = f"; {one.instead} was meant" if one.instead else ""
    return f"{_place(one.level, one.control, one.gesture, one.does)}: {one.undone / one.presses:.0%} ({low:.0%} to {high:.0%}){wanted}"


def _drifting(one: Used) -> str:
    return (
        f"{_place(one.level, one.control, one.gesture, one.does)}: × {one.later:.2g} from the first third to the last"
    )


def _section(title: str, lines: Sequence[str], every: bool = True) -> None:
    if not lines:
        return
    say(bold(f"\n{title}"))
    for line in lines if every else lines[:_LINES]:
        say(f"  {line}")
    if not every and len(lines) > _LINES:
        say(dim(f"  and {len(lines) - _LINES} more, with --all"))


def _draw_map(desk: Desk, usage: Usage, profile: str | None, surface: str | None, path: Path) -> None:
    from fenko.showing.sheets import write
    from fenko.showing.usage_pictures import map_pages

    by_surface: dict[tuple[str, str], int] = {}
    for one in usage.used:
        name = one.level.partition("/")[0]
        if name in desk.plan.profiles and (profile in (None, name)) and one.control:
            key = (name, one.control.partition(".")[0])
            by_surface[key] = by_surface.get(key, 0) + one.uses
    wanted = {key: times for key, times in by_surface.items() if surface in (None, key[1])}
    if not wanted:
        fail("nothing of that was used, so there is nothing to draw")
    name, most = max(wanted, key=lambda key: wanted[key])
    write(path, list(map_pages(desk, usage, name, [surface or most])), f"{desk.name}: what is used")
    note(f"{path} shows {surface or most} in {name}")
