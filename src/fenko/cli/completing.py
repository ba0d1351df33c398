"""What a shell may complete: names of a desk's profiles, surfaces, controls, layers and programs, takes, and settings. Loaded only when a
shell asks."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import click
from click.shell_completion import CompletionItem

from fenko.desk.descriptions import user_folder
from fenko.desk.load import Desk, load_desk
from fenko.desk.problems import DeskError
from fenko.desk.sources import Sources
from fenko.desk.tables import table_of

Complete = Callable[[click.Context, click.Parameter, str], list[CompletionItem]]


def attach(command: click.Command) -> None:
    """Gives every parameter of a command, and of those below it, what completes it."""
    for param in command.params:
        found = BY_NAME.get(param.name or "")
        if found is not None:
            param._custom_shell_complete = found
    if isinstance(command, click.Group):
        for one in command.commands.values():
            attach(one)


def _folder(ctx: click.Context) -> Path:
    named = ctx.params.get("desk_folder") or os.environ.get("FENKO_DESK")
    return Path(named) if named else user_folder()


def _desk(ctx: click.Context) -> Desk | None:
    try:
        return load_desk(_folder(ctx))
    except (DeskError, OSError):
        return None


def _data(ctx: click.Context) -> dict[str, Any]:
    """What a desk's files say, good or not."""
    sources = Sources(_folder(ctx))
    sources.read()
    return sources.data


def _among(names: Iterable[str], incomplete: str) -> list[CompletionItem]:
    return [CompletionItem(name) for name in dict.fromkeys(names) if name.startswith(incomplete)]


def _tables(name: str) -> Complete:
    """The names of the desk's tables of one sort."""

    def complete(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        return _among(table_of(_data(ctx), name), incomplete)

    return complete


def _switches(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    return _among([*table_of(_data(ctx), "profile"), "next", "previous", "auto"], incomplete)


def _profile_or_asked(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    if ctx.info_name == "switch":
        return _switches(ctx, param, incomplete)
    return _among(table_of(_data(ctx), "profile"), incomplete)


def _layers(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    profiles = table_of(_data(ctx), "profile")
    return _among((layer for name in profiles for layer in table_of(profiles[name], "layer")), incomplete)


def _controls(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """SURFACE.CONTROL: all that the surfaces have; of a desk with mistakes, those that are bound."""
    desk = _desk(ctx)
    if desk is not None:
        from fenko.showing.shown import Surfaces

        shown = Surfaces(desk)
        return _among((f"{name}.{control}" for name, one in desk.plan.surfaces.items() for control in shown.controls(one)), incomplete)  # fmt: skip
    profiles = table_of(_data(ctx), "profile")
    on = (table_of(profiles[name], "on") for name in profiles)
    return _among((f"{surface}.{control}" for one in on for surface in one for control in table_of(one, surface)), incomplete)  # fmt: skip


def _takes(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Takes of the desk, by the path that leads there from here; else any file."""
    found = (os.path.relpath(path) for path in sorted(_folder(ctx).glob("**/*.jsonl")))
    return _among(found, incomplete) or [CompletionItem(incomplete, type="file")]


def _settings(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    from fenko.desk.settings import settings

    names = table_of(_data(ctx), "surface")
    found = []
    for one in settings():
        if one.name.startswith("surface.NAME."):
            found += [one.name.replace("NAME", name, 1) for name in names]
        elif "NAME" not in one.name:
            found.append(one.name)
    return _among(found, incomplete)


def _history(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    from fenko.system.files import real_path
    from fenko.system.history import files_below

    folder = _folder(ctx)
    return _among((str(one.relative_to(real_path(folder))) for one in files_below(folder)), incomplete)


BY_NAME: dict[str, Complete] = {
    "profile": _profile_or_asked, "names": _tables("profile"), "surface": _tables("surface"), "surfaces": _tables("surface"),
    "labelled": _tables("surface"), "layer": _layers, "layers": _layers, "control": _controls, "kept": _controls, "app": _tables("app"),
    "take": _takes, "take_path": _takes, "setting": _settings, "file": _history,
}  # fmt: skip
"""What completes each parameter, by its name in our commands."""
