"""`fenko machine`: List machines and how they stand, follow them, read what moves them, simulate one."""

from __future__ import annotations

import re
import sys
from collections.abc import Mapping
from math import inf
from pathlib import Path

import click
from msgspec import structs

from fenko.cli.shared import (
    check_ending,
    colour,
    desk_option,
    fail,
    fail_unknown,
    format_option,
    note,
    open_desk,
    say,
    show_json,
)
from fenko.core.words import parse_time, reason, shortened
from fenko.drawing import FORMATS
from fenko.integrations.machine.dialects import DIALECTS
from fenko.integrations.machine.planner import AxisLimits
from fenko.integrations.machine.simulated import FAULTS, Fault, SimulatedMachine

_AXIS = re.compile(r"([a-z])=(-?\d+(?:\.\d+)?):(-?\d+(?:\.\d+)?),(\d+(?:\.\d+)?),(\d+(?:\.\d+)?)")
_FAULT = re.compile(r"([a-z]+)@(\d+(?:\.\d+)?)(?::(\d+(?:\.\d+)?))?")
_USUAL = ("x=0:300,3000,500", "y=0:200,3000,500", "z=-80:0,1200,300")


@click.group(invoke_without_command=True)
@desk_option
@format_option("table", "json")
@click.pass_context
def command(context: click.Context, desk_folder: Path | None, form: str) -> None:
    """List the machines of the desk, and how each stands; follow them (`watch`), read a machine program (`read`), try things on a
    machine that is simulated (`simulate`)."""
    if context.invoked_subcommand is None:
        from fenko.integrations.machine.ui.state import listed

        listed(open_desk(desk_folder), form)


@command.command(short_help="Follow the machines of the running desk.")
@click.argument("name", required=False)
@format_option("text", "json")
def watch(name: str | None, form: str) -> None:
    """Follow the machines of the running desk, or one: state, places of work and machine, the chosen axis, step size, speed.

    On a terminal until q or Ctrl-C; elsewhere a line for each change.
    """
    from fenko.integrations.machine.ui.state import followed

    followed(name, form)


_axis_option = click.option(
    "--axis", "axes", metavar="NAME=FROM:TO,SPEED,ACCELERATION", multiple=True,
    help="An axis: its travel in mm, its fastest speed in mm a minute, its acceleration in mm/s². May be said again.",
)  # fmt: skip


@command.command(short_help="Tell what a machine program does, and what is wrong with it.")
@click.argument("program", metavar="FILE|TEXT")
@_axis_option
@click.option("--safe-height", metavar="MM", type=float, help="The height (z) above which it may go sideways fast.")
@format_option("text", "json")
def read(program: str, axes: tuple[str, ...], safe_height: float | None, form: str) -> None:
    """Tell what each line of a machine program does, without any machine, and what is wrong with it.

    Letters, commands and numbers are read as RS-274 has them; what is not known is refused. Places are taken for those of the
    machine until the program says that they are others (`G92`, `G54` …).

    \b
    fenko machine read "G90 G0 X20 Y30"
    fenko machine read part.nc --safe-height -5
    """
    from fenko.integrations.machine.explained import Machine, explained

    lines = _lines(program)
    told = list(explained(lines, Machine(dict(_axis(text) for text in axes or _USUAL), safe_height)))
    if form == "json":
        show_json([structs.asdict(one) for one in told])
    else:
        for number, one in enumerate(told, 1):
            if one.text.strip():
                say(f"{number:4}  {shortened(one.text, 40):40}  {one.words}")
            for error, column in one.errors:
                say(colour(f"      {number}:{column}: error: {error}", "bright_red"))
            for warning in one.warnings:
                say(colour(f"      {number}: warning: {warning}", "bright_yellow"))
    if any(one.errors for one in told):
        sys.exit(2)
    sys.exit(1 if any(one.warnings for one in told) else 0)


def _lines(program: str) -> list[str]:
    """The lines of a file, or of the text itself."""
    path = Path(program)
    try:
        if path.is_file():
            return path.read_text(errors="replace").splitlines()
    except OSError as why:
        fail(f"{program} cannot be read: {reason(why)}")
    except ValueError:
        pass  # what cannot be the name of a file
    if re.fullmatch(r"[\w./-]+\.\w+", program) and not re.match(r"[GMgm]\d", program):
        fail(f"there is no file {program}", 2)
    return program.splitlines() or [""]


@command.command(short_help="Run a machine that is simulated.")
@click.option(
    "--port", type=click.IntRange(0, 65535), help="A TCP port of this computer (0: a free one), not a terminal."
)
@click.option(
    "--dialect", type=click.Choice(list(DIALECTS)), default="grbl", show_default=True, help="How it is talked to."
)
@_axis_option
@click.option("--homed", is_flag=True, help="It knows where it is from the start, and need not be homed.")
@click.option(
    "--fault",
    "faults",
    metavar="KIND@SECOND[:SECONDS]",
    multiple=True,
    help=f"Something goes wrong: {', '.join(FAULTS)}.",
)
@click.option("--for", "lasts", metavar="TIME", help="How long it runs, such as 30s. Default: until Ctrl-C.")
@click.option("--out", metavar="FILE", type=click.Path(path_type=Path), help="Draw what it did: .svg, .png or .pdf.")
@format_option("text", "json")
def simulate(
    port: int | None,
    dialect: str,
    axes: tuple[str, ...],
    homed: bool,
    faults: tuple[str, ...],
    lasts: str | None,
    out: Path | None,
    form: str,
) -> None:
    """Run a machine that is simulated: controller, queue, acceleration, travel, homing, alarms.

    It prints where other programs find it, and behaves there as a controller of that dialect: `grbl` takes lines of G-code and
    single characters between (`?`, `!`, `~`, jog cancel, reset) and jogs with `$J=`; `lines` knows lines and `ok`.

    \b
    fenko machine simulate --homed --out path.png
    fenko machine simulate --port 7700 --fault silence@10:2 --fault alarm@20
    """
    from fenko.integrations.machine.serving import End, serve

    limits = dict(_axis(text) for text in axes or _USUAL)
    wrong = sorted((_fault(text) for text in faults), key=lambda fault: fault.at)
    seconds = inf
    if lasts is not None:
        try:
            seconds = parse_time(lasts)
        except ValueError as why:
            raise click.BadParameter(str(why), param_hint="--for") from None
    check_ending(out, FORMATS)
    machine = SimulatedMachine(limits, dialect, homing=not homed, faults=wrong)
    try:
        end = End(port)
    except OSError as why:
        fail(f"port {port} cannot be had: {reason(why)}")
    say(end.name)
    note(f"a simulated machine that talks {dialect}; Ctrl-C ends it")
    try:
        serve(machine, end, seconds, lambda state: note(f"{machine.now:8.2f} s  {state.lower()}"))
    except KeyboardInterrupt:
        note("")
    finally:
        end.close()
    _account(machine, form)
    _draw(out, f"A simulated machine, {machine.now:.1f} s", machine, limits)


@command.command(short_help="Play a take through a desk on a simulated machine.")
@click.argument("take", type=click.Path(path_type=Path))
@desk_option
@click.option("--machine", "name", metavar="NAME", help="Which one, if the desk has several.")
@click.option("--out", metavar="FILE", type=click.Path(path_type=Path), help="Draw what it did: .svg, .png or .pdf.")
@format_option("text", "json")
def rehearse(take: Path, desk_folder: Path | None, name: str | None, out: Path | None, form: str) -> None:
    """Play a take through a desk on a machine that is simulated, in no time, and tell what it did.

    \b
    fenko machine rehearse evening.jsonl --desk my-desk --out path.png
    """
    from fenko.core.rehearsal import rehearse as played
    from fenko.devices.take import TakeError, read_take
    from fenko.integrations.machine.rehearsed import Rehearsal
    from fenko.integrations.machine.ui.state import machines_of

    desk = open_desk(desk_folder)
    machines = machines_of(desk)
    if not machines:
        fail("the desk has no machine", 2)
    if name is None and len(machines) > 1:
        fail(f"the desk has several machines: --machine {' or '.join(machines)}", 2)
    name = name or next(iter(machines))
    if name not in machines:
        fail_unknown(f"the desk has no machine `{name}`", name, machines)
    check_ending(out, FORMATS)
    try:
        changes = read_take(take, desk.plan.surfaces).changes
    except TakeError as error:
        fail(str(error), 2)
    rehearsal = Rehearsal(machines[name], desk.sources.data)
    for effects in played(desk.plan, changes):
        rehearsal.take(effects)
    rehearsal.finish()
    for at, text in rehearsal.notes:
        note(f"{at:8.2f} s  {text}")
    _account(rehearsal.machine, form)
    _draw(out, f"{name}: {take.stem}", rehearsal.machine, machines[name].axes)


def _draw(out: Path | None, title: str, machine: SimulatedMachine, axes: Mapping[str, AxisLimits]) -> None:
    if out is None:
        return
    from fenko.integrations.machine.ui.picture import draw

    try:
        draw(out, title, machine.trace, axes)
    except OSError as why:
        fail(f"{out} cannot be written: {reason(why)}")
    note(f"{out} shows what it did")


def _axis(text: str) -> tuple[str, AxisLimits]:
    found = _AXIS.fullmatch(text)
    if found is None:
        raise click.BadParameter(f"`{text}` is no axis; write it like {_USUAL[0]}", param_hint="--axis")
    name, least, most, fastest, acceleration = found[1], *map(float, found.groups()[1:])
    if name not in "xyzabc" or least >= most or not fastest or not acceleration:
        raise click.BadParameter(
            f"`{text}`: x, y, z, a, b or c, a travel from less to more, speeds above 0", param_hint="--axis"
        )
    return name, AxisLimits(least, most, fastest / 60, acceleration)


def _fault(text: str) -> Fault:
    found = _FAULT.fullmatch(text)
    if found is None or found[1] not in FAULTS:
        raise click.BadParameter(
            f"`{text}` is no fault: {', '.join(FAULTS)}, such as silence@10:2", param_hint="--fault"
        )
    return Fault(float(found[2]), found[1], float(found[3] or 0.5))


def _account(machine: SimulatedMachine, form: str) -> None:
    """What it did, in a few numbers."""
    fastest = max((point.speed for point in machine.trace), default=0.0)
    place = {axis: round(value, 3) for axis, value in machine.planner.position.items()}
    if form == "json":
        show_json({
            "seconds": round(machine.now, 3), "state": machine.state, "position": place, "lines": len(machine.heard),
            "way": round(machine.way, 3), "fastest": round(fastest * 60, 1),
            "rested": max((point.at for point in machine.trace if point.speed), default=0.0),
        })  # fmt: skip
        return
    at = "  ".join(f"{axis} {value:g}" for axis, value in place.items())
    note(
        f"it went {machine.way:.1f} mm, {fastest * 60:.0f} mm a minute at most, took {len(machine.heard)} lines, and is at {at}"
    )
