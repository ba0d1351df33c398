"""Writes the pages of the reference that follow from the code: every command with its options, every setting of a desk.

usage: python tools/reference.py [FOLDER]     (docs/reference)
"""

from __future__ import annotations

import sys
from pathlib import Path

import click

sys.path.insert(0, str(Path(__file__).parent.parent / "src"))
sys.path.insert(0, str(Path(__file__).parent))

from manual import commands_of, options_of, paragraphs

from fenko.cli import cli
from fenko.desk.settings import settings
from fenko.integrations import load

load()
ROOT = Path(__file__).parent.parent


def commands() -> str:
    """All commands."""
    parts = [
        "# Commands\n\nAs `fenko COMMAND --help` and the manual pages tell it. Exit status: 0 done, 1 something was found or failed, 2 bad use or a bad desk.\n"
    ]

    def one(command: click.Command, words: tuple[str, ...]) -> None:
        ctx = click.Context(command, info_name=" ".join(words))
        parts.append(f"\n{'#' * len(words)} {' '.join(words)}\n\n```text\n{command.get_usage(ctx)}\n```\n")
        parts.extend(f"\n```text\n{text}\n```\n" if alone else f"\n{text}\n" for alone, text in paragraphs(command))
        rows = options_of(command, ctx)
        if rows:
            parts.append("\n" + "".join(f"- `{names}`: {_line(does)}\n" for names, does in rows))
        for name, _, below in commands_of(command):
            one(below, (*words, name))

    for name, _, command in commands_of(cli):
        one(command, ("fenko", name))
    return "".join(parts)


def settings_page() -> str:
    """All settings of desk files."""
    parts = [
        "# Settings\n\nEvery setting of a desk file, as `fenko explain --setting NAME` tells it. NAME stands for a name that you choose.\n\n"
    ]
    for one in settings():
        said = f"{_line(one.does)}{f' ({one.range})' if one.range else ''}"
        default = f" Default: `{one.default}`." if one.default else ""
        parts.append(f"- `{one.name}`, {_line(one.takes)}: {said}{default}\n")
    return "".join(parts)


def _line(text: str) -> str:
    return " ".join(text.split())


def write(folder: Path) -> None:
    """Writes the pages."""
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "commands.md").write_text(commands())
    (folder / "settings.md").write_text(settings_page())


if __name__ == "__main__":
    write(Path(sys.argv[1]) if len(sys.argv) > 1 else ROOT / "docs/reference")
