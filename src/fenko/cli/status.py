"""`fenko status`: what the running desk is doing, and what it has said lately."""

from __future__ import annotations

import time
from typing import Any

import click

from fenko.cli.running import running_desk
from fenko.cli.shared import bold, dim, format_option, say, say_json, show_json
from fenko.core.circumstances import FOCUS_FIELDS
from fenko.core.words import shortened

_LAST = 8  # of what it has said


@click.command()
@format_option("text", "json")
@click.option("--follow", is_flag=True, help="Print each change as it comes, until Ctrl-C; with json a line each.")
def command(form: str, follow: bool) -> None:
    """Print which desk runs, which profile is in force and why, what is held, which surfaces are there, and what it has said
    lately.

    Exit status 1 if no desk runs.
    """
    with running_desk() as desk:
        if follow:
            _follow(desk.follow("status"), form)
        elif form == "json":
            show_json(desk.status())
        else:
            _show(desk.status())


def _show(now: dict[str, Any]) -> None:
    since = time.strftime("%H:%M, %d %B", time.localtime(now["since"]))
    say(f"{bold(now['desk'])}  {dim(now['folder'])}")
    _row("runs", f"since {since}, process {now['process']}" + (", paused" if now["paused"] else ""))
    _row("profile", f"{now['profile']} ({_why(now)})")
    _row("layers", ", ".join(now["layers"]))
    _row("in front", _window(now["in front"]))
    if "owner" in now["in front"]:
        _row("", f"a dialog of {_window(now['in front']['owner'])}")
    _row("running", ", ".join(now["running"]))
    _row("holds", ", ".join(now["held"]))
    for number, (name, one) in enumerate(now["surfaces"].items()):
        _row(
            "" if number else "surfaces",
            f"{name}, {one['kind']}: {'here' if one['there'] else 'not here'}{_left_out(one)}",
        )
    for number, (name, why) in enumerate(now["outputs"].items()):
        _row("" if number else "outputs", f"{name}, {why}" if why else name)
    _row("journal", now["journal"])
    for number, one in enumerate(now["said"][-_LAST:]):
        at = time.strftime("%H:%M:%S", time.localtime(one["at"]))
        _row("" if number else "said", f"{dim(at)} {one['text']}")


def _why(now: dict[str, Any]) -> str:
    return f"by hand, until {now['by hand until']}" if now["by"] == "hand" else "by itself"


def _window(window: dict[str, Any]) -> str:
    name = window["app"] or window["program"]
    title = f' "{shortened(window["title"])}"' if window["title"] else ""
    return f"{name}{title}".strip() or "nothing"


def _row(title: str, text: str) -> None:
    if text:
        say(f"  {dim(f'{title:<8}')}  {text}")


def _follow(told: Any, form: str) -> None:
    before: dict[str, Any] = {}
    try:
        for now in told:
            if form == "json":
                say_json(now)
            else:
                for line in _changes(before, now):
                    say(line)
            before = now
    except KeyboardInterrupt:
        return


def _changes(before: dict[str, Any], now: dict[str, Any]) -> list[str]:
    """What is different now, a line each."""
    lines = []
    if now["profile"] != before.get("profile") or now["by"] != before.get("by"):
        lines.append(f"profile {now['profile']} ({_why(now)})")
    if now["layers"] != before.get("layers", []):
        lines.append(f"layers {', '.join(now['layers']) or 'none'}")
    if now["paused"] != before.get("paused", False):
        lines.append("paused" if now["paused"] else "running again")
    if any(now["in front"].get(name) != before.get("in front", {}).get(name) for name in FOCUS_FIELDS):
        lines.append(f"in front {_window(now['in front'])}")
    if now["running"] != before.get("running", []):
        lines.append(f"running {', '.join(now['running']) or 'none of those asked for'}")
    lines += [
        f"surface {name} {'here' if one['there'] else 'not here'}"
        for name, one in now["surfaces"].items()
        if one != before.get("surfaces", {}).get(name)
    ]
    known = [(one["at"], one["text"]) for one in before.get("said", [])]
    lines += [f"said: {one['text']}" for one in now["said"] if before and (one["at"], one["text"]) not in known]
    return lines


def _left_out(surface: dict[str, Any]) -> str:
    """How many presses of a surface elsewhere came too late."""
    number = surface.get("left out", 0)
    return f"; {number} press{'es' if number != 1 else ''} came too late and began nothing" if number else ""
