"""The command line. Every command lives in a file of its own and is loaded when it is called."""

from __future__ import annotations

import contextlib
import importlib
import os
import signal
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from fenko import __version__

if TYPE_CHECKING:
    from click.shell_completion import CompletionItem

_FIRST = {
    "new": "Make a first desk from what is plugged in.",
    "run": "Run the desk: surfaces in, shortcuts out.",
    "learn": "Press a control, perform the shortcut, and the desk knows it.",
    "try": "Run the desk with its outputs shown instead of sent, or caught in a window.",
    "check": "Say what is wrong with a desk, and where.",
    "shortcuts": "Search a program's commands, import them, see which are bound.",
    "trust": "Show what a desk starts, opens and requests, and agree to it.",
    "explain": "Tell what a control would do and why, or what a setting does.",
    "rehearse": "Play a take through a desk and print what it would send.",
    "watch": "Watch every control as it moves, and record takes.",
    "status": "Print what the desk that runs is doing, and what it has said lately.",
    "legend": "Show what each control does now, where it sits.",
    "switch": "Put a profile of the running desk in force.",
    "pause": "Have the running desk rest; other programs get its surfaces.",
    "resume": "Have it go on.",
    "reload": "Have it read its files again, and say what is wrong with them.",
    "stop": "End the desk that runs.",
    "service": "Start the desk with the session, and keep it running.",
    "values": "Print the values of the desk that runs, and where its controls are.",
    "set": "Try another setting in the desk that runs, for a while.",
    "history": "List earlier versions of the desk's files, compare them, put one back.",
    "journal": "Have it remembered what is used, or not; nothing is, unless you say so.",
    "usage": "Tell what is used, how fast, what never is, and what is missed.",
    "arrange": "Compute on which buttons a profile's bindings would sit better.",
    "tune": "Measure a surface, and propose dead zones, ranges and times that suit it.",
    "devices": "List what is plugged in, with the links for the desk.",
    "ready": "Look whether this machine is ready, and what helps if not.",
    "sheet": "Print what each control does, labels for keys, what a surface has.",
}
_LAST = {
    "windows": "List the windows and the program in front, as a profile names them.",
    "report": "Print what a report of a mistake needs, without anything private.",
    "completion": "Print what a shell needs to complete all this.",
    "demo": "See Fenko at work on a made-up desk, without any device.",
}


def _of_integrations() -> dict[str, tuple[str, str]]:
    """The commands that integrations bring, by name: the module and its line in `fenko --help`. A module in the folder `ui` of an
    integration is a command if its docstring begins with the command's name; none is loaded for that."""
    found = {}
    folder = os.path.join(os.path.dirname(os.path.dirname(__file__)), "integrations")
    for integration in sorted(os.listdir(folder)):
        ui = os.path.join(folder, integration, "ui")
        for file in sorted(os.listdir(ui)) if os.path.isdir(ui) else ():
            if not file.endswith(".py"):
                continue
            with open(os.path.join(ui, file), encoding="utf-8") as source:
                begins, _, text = source.readline().strip().strip('"').partition("`: ")
            if text and begins.startswith("`fenko "):
                module = f"fenko.integrations.{integration}.ui.{file.removesuffix('.py')}"
                found[begins.removeprefix("`fenko ")] = module, text
    return found


_INTEGRATIONS = _of_integrations()
COMMANDS: dict[str, str] = _FIRST | {name: text for name, (_, text) in _INTEGRATIONS.items()} | _LAST
"""Each command with its line in `fenko --help`."""


class _Commands(click.Group):
    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        if name not in COMMANDS:
            return None
        module, _ = _INTEGRATIONS.get(name, (f"fenko.cli.{name}", ""))
        command: click.Command = importlib.import_module(module).command
        command.short_help = COMMANDS[name]
        if "_FENKO_COMPLETE" in os.environ:
            importlib.import_module("fenko.cli.completing").attach(command)
        return command

    def shell_complete(self, ctx: click.Context, incomplete: str) -> list[CompletionItem]:
        # The table again.
        from click.shell_completion import CompletionItem

        if not incomplete[:1].isalnum() and incomplete:
            return super().shell_complete(ctx, incomplete)
        return [CompletionItem(name, help=text) for name, text in COMMANDS.items() if name.startswith(incomplete)]

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
    status: str | int | None = 0
    try:
        signal.signal(signal.SIGINT, signal.default_int_handler)
        cli.main(arguments, prog_name="fenko")
    except KeyboardInterrupt:
        status = 1
    except RuntimeError as why:
        # What Python makes of a Ctrl-C while a class is being made, such as one of a module that is being loaded.
        status = 1 if isinstance(why.__cause__, KeyboardInterrupt) else _unexpected(why)
    except SystemExit as end:
        status = end.code
    except OSError as why:
        status = _cannot_write(why) if _of_output(why) else _unexpected(why)
    except Exception as why:  # reported with its place
        status = _unexpected(why)
    finally:
        signal.signal(signal.SIGINT, signal.SIG_DFL)
    try:
        sys.stdout.flush()
    except (OSError, ValueError) as why:
        status = _cannot_write(why)
    sys.exit(status)


def _of_output(why: OSError) -> bool:
    """Whether this came of printing a result."""
    trace = why.__traceback__
    while trace is not None and trace.tb_frame.f_code.co_name not in ("echo", "flush"):
        trace = trace.tb_next
    return trace is not None


def _unexpected(why: Exception) -> int:
    """An error of which nobody took care: what and where."""
    from fenko.system.trouble import described

    if sys.flags.dev_mode:
        raise why
    with contextlib.suppress(OSError, ValueError):
        sys.stderr.write(f"fenko: unexpected error: {described(why)}\n")
    return 1


def _quietly() -> int:
    """The reader of our output went away; there is nobody left to tell."""
    forget_output()
    return 1


def _cannot_write(why: Exception) -> int:
    """The output takes no more."""
    if isinstance(why, BrokenPipeError):
        return _quietly()
    forget_output()
    with contextlib.suppress(OSError, ValueError):
        sys.stderr.write(f"fenko: the output: {(getattr(why, 'strerror', None) or str(why)).lower()}\n")
    return 1


def forget_output() -> None:
    """What could not be written is not tried again at the end."""
    with contextlib.suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
