"""`fenko explain`: what a control would do and why; what a setting of the desk file does."""

from __future__ import annotations

import contextlib
from pathlib import Path

import click
from msgspec import structs

from fenko.cli.naming import meant
from fenko.cli.shared import (
    bold,
    desk_option,
    dim,
    fail_unknown,
    format_option,
    goes_with,
    note,
    open_desk,
    say,
    show_json,
    show_table,
)
from fenko.cli.timeline import describe
from fenko.client import NobodyThere, Refused, RunningDesk
from fenko.core.changes import Effect
from fenko.core.circumstances import Circumstances, Focus
from fenko.core.keys import MODIFIERS
from fenko.core.words import format_time
from fenko.desk.explaining import Explained, Scene, UnknownName, conditioned_words, explained
from fenko.desk.load import Desk

_WHICH = "?"  # no profile is called so


@click.command()
@click.argument("control", required=False, metavar="[CONTROL[.GESTURE]]")
@desk_option
@format_option("text", "json")
@click.option("--app", metavar="ID", default="", help="The program in front, as `fenko windows` prints it.")
@click.option("--title", metavar="TEXT", default="", help="With --app: the title of its window.")
@click.option(
    "--profile",
    metavar="[NAME]",
    is_flag=False,
    flag_value=_WHICH,
    help="The profile in force, whatever is in front; without a name, and without CONTROL: which profile comes, and why.",
)
@click.option("--running", metavar="PROGRAM", multiple=True, help="With --app or --profile alone: a program that runs.")
@click.option("--layer", "layers", metavar="NAME", multiple=True, help="A layer that is on; several, the newest last.")
@click.option("--keyboard", metavar="shift+ctrl", default="", help="Modifiers held on the ordinary keyboard.")
@click.option("--setting", metavar="NAME", help="Tell what a setting of the desk file does instead.")
@click.option("--settings", "all_settings", is_flag=True, help="List every setting of the desk file instead.")
def command(
    control: str | None,
    desk_folder: Path | None,
    form: str,
    app: str,
    title: str,
    profile: str | None,
    running: tuple[str, ...],
    layers: tuple[str, ...],
    keyboard: str,
    setting: str | None,
    all_settings: bool,
) -> None:
    """Tell what a control would do, and why: who owns it, what that hides, what it waits for, what is sent.

    CONTROL is SURFACE.CONTROL, such as pad.south, pad.stick-left.up or pad.north.hold; the control alone is enough where
    only one surface has a binding on such a one.
    """
    goes_with("--app", bool(app), title=title)
    if setting is not None or all_settings:
        _settings(setting, form)
        return
    goes_with("--app, or --profile alone", bool(app) or profile == _WHICH, running=running)
    if app:
        running = (*running, app)  # a program whose window is in front runs too
    if profile == _WHICH:
        if control is not None:
            raise click.UsageError("--profile without a name tells which profile comes, and takes no control")
        _choice(open_desk(desk_folder), Focus(app, title) if app else None, running, form)
        return
    if control is None:
        raise click.UsageError("name a control, or a setting with --setting")
    desk = open_desk(desk_folder)
    held = tuple(keyboard.split("+")) if keyboard else ()
    for modifier in held:
        if modifier not in MODIFIERS:
            fail_unknown(f"`{modifier}` is no modifier ({', '.join(MODIFIERS)})", modifier, MODIFIERS)
    try:
        scene = Scene(desk, Focus(app, title), profile, layers, held, running)
    except UnknownName as why:
        fail_unknown(str(why), why.name, why.known)
    cells, gesture = meant(desk, control)
    found = list(explained(scene, cells, gesture))
    if form == "json":
        show_json([structs.asdict(one) for one in found])
        return
    for number, one in enumerate(found):
        if number:
            say("")
        _show(one, conditioned_words(scene, one.control) if one.moves else "")


def _show(one: Explained, conditioned: str = "") -> None:
    surface, _, control = one.control.partition(".")
    gesture = "" if one.gesture in ("", "turn") else f" {one.gesture}"
    say(f"{bold(f'{surface} {control}{gesture}')}  {dim(one.situation)}")
    _row("does", one.does)
    if one.where:
        _row("stands", f"{one.where}, {one.level}")
    for number, other in enumerate(one.hides):
        _row("" if number else "hides", f"{_in(other)}")
    for number, other in enumerate(one.otherwise):
        _row("" if number else "but", _in(other))
    if conditioned:
        _row("by", conditioned)
    for number, at in enumerate(one.moves):
        shown = f" ({at['shown']:g})" if at["shown"] != at["at"] * 100 else ""
        _row("" if number else "moves", f"at {at['at']:g}{shown} → {at['made']:g} → {at['comes to']}")
    if one.level and one.where and not one.moves:
        for number, line in enumerate(one.waits or ["for nothing"]):
            _row("" if number else "waits", line)
    phases = dict.fromkeys(entry["phase"] for entry in one.sends)
    for number, phase in enumerate(phases):
        moments: dict[float, list[Effect]] = {}
        for entry in one.sends:
            if entry["phase"] == phase:
                t, out, act, *values = (value for key, value in entry.items() if key != "phase")
                moments.setdefault(t, []).append((t, out, act, *values))
        shown = ", then ".join(
            (f"after {format_time(round(t, 4))} " if t > 0 else "") + describe(effects)
            for t, effects in moments.items()
        )
        _row("" if number else "sends", f"{phase}: {shown}")
    if one.where and not one.sends and not one.moves:
        _row("sends", "nothing")
    if one.lit:
        _row("lamp", one.lit)
    for number, what in enumerate(one.asks):
        _row("" if number else "asks", f"{what}: not done before you have agreed (`fenko trust`)")
    if one.note:
        _row("note", one.note)


def _in(other: dict[str, str]) -> str:
    gesture = "" if other["gesture"] == "press" else f"{other['gesture']}: "
    where = f" ({other['where']})" if other["where"] else ""
    return f"{gesture}{other['does']} in {other['level']}{where}"


def _row(title: str, text: str, width: int = 7) -> None:
    say(f"  {dim(f'{title:<{width}}')} {text}")


# --- Which profile comes ---


def _choice(desk: Desk, focus: Focus | None, running: tuple[str, ...], form: str) -> None:
    """For the window in front, as a running desk sees it, or for another one."""
    from fenko.cli.new import window_in_front
    from fenko.desk.choice import RULE, around_words, choices, circumstances_from

    hand = ""
    now = None
    if focus is None and not running:
        with contextlib.suppress(NobodyThere, Refused, KeyError, TypeError), RunningDesk() as other:
            status = other.status()
            if Path(other.folder).resolve() == desk.folder.resolve():
                now = circumstances_from(status)
                hand = status["profile"] if status["by"] == "hand" else ""
    if now is None:
        there = frozenset(desk.plan.surfaces)
        now = Circumstances(focus or window_in_front() or Focus(), frozenset(running), there)
    found = list(choices(desk, now))
    if form == "json":
        show_json({"in force by hand": hand or None, "profiles": [structs.asdict(one) for one in found]})
        return
    for field, text in around_words(now):
        _row(field, text, 9)
    say("")
    if hand:
        say(f"{bold(hand)} was chosen by hand and is in force; by itself would come:")
    show_table(("profile", "", "why", "stands"), [(one.profile, one.standing, one.why, one.where) for one in found])
    note(f"\n{RULE}")


# --- Settings ---


def _settings(name: str | None, form: str) -> None:
    from fenko.desk.settings import find_settings, settings

    found = settings() if name is None else find_settings(name)
    if not found:
        ends = [one.name.rpartition(".")[2] for one in settings()]
        fail_unknown(f"a desk file has no setting `{name}`", str(name), [*ends, *(one.name for one in settings())])
    if form == "json":
        show_json([structs.asdict(one) for one in found])
    elif name is None:
        show_table(("setting", "takes", "default"), [(one.name, one.takes, one.default) for one in found])
    else:
        alike: dict[tuple[str, str, str, str], list[str]] = {}
        for one in found:
            alike.setdefault((one.does, one.takes, one.range, one.default), []).append(one.name)
        for number, (rows, names) in enumerate(alike.items()):
            if number:
                say("")
            for one_name in names:
                say(bold(one_name))
            for title, text in zip(("does", "takes", "range", "default"), rows, strict=True):
                if text:
                    _row(title, text)
