"""Writes the man pages: one for each command, and one for desk files, all from the commands' own help and the registrations.

usage: python tools/manual.py FOLDER
"""

from __future__ import annotations

import re
import sys
from collections.abc import Iterator
from pathlib import Path

import click

sys.path.insert(0, str(Path(__file__).parent.parent / "src"))

from fenko import __version__
from fenko.cli import COMMANDS, cli
from fenko.core.verbs import VERBS
from fenko.desk.settings import settings
from fenko.integrations import load

load()
_EXIT = (
    ("0", "Done."),
    ("1", "Something was found, or failed."),
    ("2", "Bad use, or a desk with mistakes."),
)


def escaped(text: str) -> str:
    """A text that says the same to a formatter of manuals."""
    text = (
        text.replace("\\", "\\e")
        .replace("-", "\\-")
        .replace("…", "\\[u2026]")
        .replace("“", "\\[lq]")
        .replace("”", "\\[rq]")
    )
    text = re.sub(r"`([^`]*)`", r"\\fB\1\\fR", text)
    return re.sub(r"^([.'])", r"\\&\1", text, flags=re.MULTILINE)


def header(name: str, section: int, about: str) -> str:
    """How every page begins."""
    title = escaped(name.upper())
    return f'.TH "{title}" {section} "" "Fenko {__version__}" "Fenko"\n.SH NAME\n{escaped(name)} \\- {escaped(about)}\n'


def paragraphs(command: click.Command) -> Iterator[tuple[bool, str]]:
    """What a command's help says, each paragraph with whether its lines are to be left alone (click's \\b)."""
    for part in re.split(r"\n\s*\n", (command.help or "").strip()):
        lines = part.split("\n")
        if lines[0].strip() == "\b":
            yield True, "\n".join(line.rstrip() for line in lines[1:])
        else:
            yield False, " ".join(line.strip() for line in lines)


def described(command: click.Command) -> Iterator[str]:
    """Its paragraphs."""
    for alone, text in paragraphs(command):
        yield f".PP\n.nf\n{escaped(text)}\n.fi\n" if alone else f".PP\n{escaped(text)}\n"


def options_of(command: click.Command, ctx: click.Context) -> list[tuple[str, str]]:
    """Its options and arguments that say what they do."""
    records = (param.get_help_record(ctx) for param in command.get_params(ctx))
    return [record for record in records if record is not None and record[1]]


def page(command: click.Command, words: tuple[str, ...], about: str) -> str:
    """The page of one command."""
    ctx = click.Context(command, info_name=" ".join(words))
    usage = " ".join(command.collect_usage_pieces(ctx))
    parts = [header("-".join(words), 1, about), f".SH SYNOPSIS\n\\fB{escaped(' '.join(words))}\\fR {escaped(usage)}\n"]
    parts.append(".SH DESCRIPTION\n" + "".join(described(command)))
    options = options_of(command, ctx)
    if options:
        parts.append(
            ".SH OPTIONS\n" + "".join(f".TP\n\\fB{escaped(names)}\\fR\n{escaped(does)}\n" for names, does in options)
        )
    below = commands_of(command)
    if below:
        rows = "".join(f".TP\n\\fB{escaped(name)}\\fR\n{escaped(text)}\n" for name, text, _ in below)
        parts.append(f".SH COMMANDS\n{rows}")
    parts.append(".SH EXIT STATUS\n" + "".join(f".TP\n{code}\n{escaped(does)}\n" for code, does in _EXIT))
    if len(words) == 1:
        parts.append(
            ".SH ENVIRONMENT\n.TP\nFENKO_DESK\nThe desk's folder, where \\-\\-desk is not given.\n.TP\nNO_COLOR\nNothing is coloured.\n"
        )
        parts.append(
            ".SH FILES\n.TP\n~/.config/fenko\nThe desk, where no other is named.\n.TP\n~/.local/state/fenko\nWhat Fenko keeps: earlier versions of files, values, journals.\n"
        )
    see = ["fenko-desk(5)", *(["fenko(1)"] if len(words) > 1 else [])]
    parts.append(f".SH SEE ALSO\n{escaped(', '.join(see))}\n")
    return "".join(parts)


def commands_of(command: click.Command) -> list[tuple[str, str, click.Command]]:
    """What is below a command: its name, a line about it, and itself."""
    if not isinstance(command, click.Group):
        return []
    ctx = click.Context(command)
    found = []
    for name in command.list_commands(ctx):
        one = command.get_command(ctx, name)
        assert one is not None
        found.append((name, one.get_short_help_str(100) if command is not cli else COMMANDS[name], one))
    return found


def desk_page() -> str:
    """The page about desk files: every setting and every verb."""
    parts = [header("fenko-desk", 5, "the files of a Fenko desk"), ".SH DESCRIPTION\n"]
    parts.append(
        ".PP\nA desk is a folder with a \\fBdesk.toml\\fR and whatever that includes. It says what each control of each surface does in each program.\n"
    )
    parts.append(".SH SETTINGS\n")
    for one in settings():
        extra = "".join(
            f" {word}: {escaped(text)}." for word, text in (("Within", one.range), ("Default", one.default)) if text
        )
        parts.append(f".TP\n\\fB{escaped(one.name)}\\fR ({escaped(one.takes)})\n{escaped(one.does)}{extra}\n")
    parts.append(".SH PHRASES\n.PP\nWhat a binding does, in words; several with \\fBthen\\fR between.\n")
    for verb in VERBS.values():
        parts.append(f".TP\n\\fB{escaped(verb.example)}\\fR\n{escaped(verb.help)}\n")
    parts.append(".SH SEE ALSO\nfenko(1), fenko\\-check(1), fenko\\-explain(1)\n")
    return "".join(parts)


def write(folder: Path) -> list[Path]:
    """Writes all pages."""
    written = []

    def one(name: str, section: int, text: str) -> None:
        path = folder / f"man{section}" / f"{name}.{section}"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
        written.append(path)

    def all_of(command: click.Command, words: tuple[str, ...], about: str) -> None:
        one("-".join(words), 1, page(command, words, about))
        for name, text, below in commands_of(command):
            all_of(below, (*words, name), text.rstrip("."))

    all_of(cli, ("fenko",), "shortcut surfaces for the program in front")
    one("fenko-desk", 5, desk_page())
    return written


if __name__ == "__main__":
    print(f"{len(write(Path(sys.argv[1])))} pages")
