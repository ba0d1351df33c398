"""What the README and the docs show is so: every piece of a desk in them is loaded, every command in them is one, and their links lead somewhere."""

from __future__ import annotations

import re
import shlex
import shutil
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple

import click
import pytest

from fenko.cli import cli
from fenko.core.controls import KINDS
from fenko.data import DEMO
from fenko.desk.descriptions import load_description
from fenko.desk.load import load_desk

ROOT = Path(__file__).parent.parent
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").glob("**/*.md"))]
_BLOCK = re.compile(r"^([ ]*)```(\w+)\n(.*?)^\1```", re.MULTILINE | re.DOTALL)
_INLINE = re.compile(r"`(fenko [a-z-][^`]*)`")


class Snippet(NamedTuple):
    """One piece: its page and line, its language, its text."""

    page: Path
    line: int
    kind: str
    text: str

    @property
    def name(self) -> str:
        return f"{self.page.name}:{self.line}"


def snippets() -> Iterator[Snippet]:
    for page in PAGES:
        text = page.read_text()
        for found in _BLOCK.finditer(text):
            body = "\n".join(line.removeprefix(found[1]) for line in found[3].split("\n"))
            yield Snippet(page, text[: found.start()].count("\n") + 1, found[2], body)


def commands() -> Iterator[Snippet]:
    """Every command that stands in a page, in a block or in a line."""
    for one in snippets():
        if one.kind == "sh":
            for line in one.text.split("\n"):
                for part in re.split(r"&&|\|\||;|\|", line.partition(" #")[0]):
                    if part.strip().startswith(("fenko ", "sudo fenko ")):
                        yield Snippet(one.page, one.line, "sh", part.strip().removeprefix("sudo "))
    for page in PAGES:
        text = page.read_text()
        for found in _INLINE.finditer(_BLOCK.sub(lambda block: "\n" * block[0].count("\n"), text)):
            yield Snippet(page, text[: found.start()].count("\n") + 1, "line", found[1].replace("\n", " "))


def written(value: Any) -> str:
    """A value as TOML."""
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{_key(name)} = {written(one)}" for name, one in value.items()) + " }"
    if isinstance(value, list):
        return "[" + ", ".join(map(written, value)) + "]"
    if isinstance(value, str):
        return '"' + value.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n") + '"'
    return str(value).lower() if isinstance(value, bool) else str(value)


def _key(name: str) -> str:
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else written(name)


def _merged(below: dict[str, Any], above: dict[str, Any]) -> dict[str, Any]:
    found = dict(below)
    for name, value in above.items():
        known = found.get(name)
        found[name] = _merged(known, value) if isinstance(known, dict) and isinstance(value, dict) else value
    return found


def _bench(page: Path) -> dict[str, Any]:
    """What a piece stands on: the demo's desk, and the values that other pieces of its page have."""
    found: dict[str, Any] = {}
    for file in (DEMO / "desk.toml", *sorted((DEMO / "profiles").glob("*.toml"))):
        found = _merged(found, tomllib.loads(file.read_text()))
    del found["include"]
    for one in snippets():
        if one.page == page and one.kind == "toml":
            found = _merged(found, {"value": tomllib.loads(one.text).get("value", {})})
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
    desk = _merged(bench, data)
    (folder / "desk.toml").write_text(
        "\n".join(f"{_key(name)} = {written(value)}" for name, value in desk.items()) + "\n"
    )
    load_desk(folder)


@pytest.mark.parametrize("snippet", list(commands()), ids=lambda one: one.name)
def test_commands_are_what_they_say(snippet: Snippet) -> None:
    """The command, what is below it and every option are known; `…` and NAMES stand for whatever a person says there."""
    words = shlex.split(snippet.text.replace("…", " "))[1:]
    command: click.Command = cli
    ctx = click.Context(cli)
    while isinstance(command, click.Group) and words and not words[0].startswith("-"):
        found = command.get_command(ctx, words[0])
        assert found is not None, snippet
        command, words = found, words[1:]
    known = {
        name for param in command.get_params(click.Context(command)) for name in (*param.opts, *param.secondary_opts)
    }
    for word in words:
        if word.startswith("--"):
            assert word.partition("=")[0] in known, (snippet, word)


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
