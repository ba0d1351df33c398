"""What the README and the docs show is so: every piece of a desk in them is loaded, every command in them is one, and their links lead somewhere."""

from __future__ import annotations

import re
import shutil
import tomllib
from pathlib import Path
from typing import Any

import click
import pytest

from fenko.cli import cli
from fenko.core.controls import KINDS
from fenko.data import DEMO
from fenko.desk.descriptions import load_description
from fenko.desk.load import load_desk
from pages import PAGES, ROOT, Command, Snippet, desk_of, fenko_words, inline, merged, snippets, typed, write_desk

COMMANDS = [*(command for one in snippets() for command in typed(one)), *inline()]


def _bench(page: Path) -> dict[str, Any]:
    """What a piece stands on: the demo's desk, and the values that other pieces of its page have."""
    found = desk_of(DEMO)
    for one in snippets([page]):
        if one.kind == "toml":
            found = merged(found, {"value": tomllib.loads(one.text).get("value", {})})
    return found


@pytest.mark.parametrize("snippet", [one for one in snippets() if one.kind == "toml"], ids=lambda one: one.name)
def test_pieces_of_desks_are_good(snippet: Snippet, tmp_path: Path) -> None:
    data = tomllib.loads(snippet.text)
    if "project" in data:
        return  # of a Python package, which brings an output
    if "description" in data and "controls" in data:
        (tmp_path / "thing.toml").write_text(snippet.text)
        load_description(tmp_path / "thing.toml")
        return
    folder = tmp_path / "desk"
    shutil.copytree(DEMO, folder)
    shutil.copytree(DEMO / "stings", folder / "claps")
    if data.keys() & KINDS["gamepad"]:
        data = {"profile": {"piece": {"when": {"app": "piece"}, "on": {"pad": data}}}}  # of what stands under a surface
    bench = _bench(snippet.page)
    if "include" in data:
        del bench["profile"]
    for name in data.get("surface", {}):
        # Another thing of that name than the demo's.
        bench["surface"].pop(name, None)
        for profile in bench.get("profile", {}).values():
            profile.get("on", {}).pop(name, None)
    write_desk(folder, merged(bench, data))
    load_desk(folder)


@pytest.mark.parametrize("command", COMMANDS, ids=lambda one: f"{one.page.name}:{one.line}")
def test_commands_are_what_they_say(command: Command) -> None:
    """The command, what is below it and every option are known; `…` and NAMES stand for whatever a person says there."""
    for words in fenko_words(command):
        found: click.Command = cli
        ctx = click.Context(cli)
        while isinstance(found, click.Group) and words and not words[0].startswith("-"):
            below = found.get_command(ctx, words[0])
            assert below is not None, command
            found, words = below, words[1:]
        known = {
            name for param in found.get_params(click.Context(found)) for name in (*param.opts, *param.secondary_opts)
        }
        for word in words:
            if word.startswith("--"):
                assert word.partition("=")[0] in known, (command, word)


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_tests_that_are_named_are_there(page: Path) -> None:
    for file, name in re.findall(r"`(test_\w+\.py)(?:::(test_\w+))?`", page.read_text()):
        found = [place for place in (ROOT / "tests" / file, ROOT / "tests/kernel" / file) if place.exists()]
        assert found and any(re.search(rf"^def {name}", place.read_text(), re.MULTILINE) for place in found), (
            file,
            name,
        )


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_links_lead_somewhere(page: Path) -> None:
    text = page.read_text()
    for target in re.findall(r"\]\(([^)\s]+)\)", text):
        if target.startswith(("http://", "https://", "mailto:")):
            continue
        path, _, part = target.partition("#")
        there = (page.parent / path).resolve() if path else page
        assert there.exists(), target
        if part:
            heads = re.findall(r"^#+ (.*)$", there.read_text(), re.MULTILINE)
            slugs = [re.sub(r"[^\w\- ]", "", head.lower()).replace(" ", "-") for head in heads]
            assert part in slugs, (target, slugs)
