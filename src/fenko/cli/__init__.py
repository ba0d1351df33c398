"""The command line. Every command lives in a file of its own and is loaded when it is called."""

from __future__ import annotations

import importlib
import sys
from collections.abc import Sequence

import click

from fenko import __version__

COMMANDS: dict[str, str] = {
    "new": "Make a first desk from what is plugged in.",
    "run": "Run the desk: surfaces in, shortcuts out.",
    "learn": "Press a control, perform the shortcut, and the desk knows it.",
    "try": "Run the desk with its outputs shown instead of sent, or caught in a window.",
    "check": "Say what is wrong with a desk, and where.",
    "shortcuts": "Search a program's commands, import them, see which are bound.",
    "explain": "Tell what a control would do and why, or what a setting does.",
    "rehearse": "Play a take through a desk and print what it would send.",
    "watch": "Watch every control as it moves, and record takes.",
    "devices": "List what is plugged in, with the links for the desk.",
    "ready": "Look whether this machine is ready, and what helps if not.",
    "sheet": "Draw a surface with all its controls, in the terminal or into a picture.",
    "windows": "List the windows and the program in front, as a profile names them.",
    "demo": "See Fenko at work on a made-up desk, without any device.",
}
"""Each command, which is a module of this package, with its line in `fenko --help`."""


class _Commands(click.Group):
    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        if name not in COMMANDS:
            return None
        command: click.Command = importlib.import_module(f"fenko.cli.{name}").command
        command.short_help = COMMANDS[name]
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        # The table, not the commands: help must not load them all.
        with formatter.section("Commands"):
            formatter.write_dl(list(COMMANDS.items()))

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in COMMANDS and not args[0].startswith("-"):
            from fenko.core.words import nearest

            hint = nearest(args[0], COMMANDS)
            ctx.fail(f"There is no command `{args[0]}`." + (f" Did you mean `{hint}`?" if hint else ""))
        return super().resolve_command(ctx, args)


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__, prog_name="fenko")
def cli() -> None:
    """Turn gamepads, keypads, dials and many-button mice into shortcut surfaces for the program in front.

    The desk is the folder named by --desk, else by FENKO_DESK, else `fenko` in your config folder.
    New here? `fenko demo` shows it at work.
    """


def main(arguments: Sequence[str] | None = None) -> None:
    """Runs the command line; exit status 0 done, 1 something was found or failed, 2 bad use or a bad desk."""
    try:
        cli.main(arguments, prog_name="fenko")
    except BrokenPipeError:
        # The reader of our output went away; there is nobody left to tell.
        sys.stderr.close()
        sys.exit(1)
