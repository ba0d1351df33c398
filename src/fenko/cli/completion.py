"""`fenko completion`: what a shell needs to complete our commands."""

from __future__ import annotations

import click

from fenko.cli.shared import say

SHELLS = ("bash", "zsh", "fish")


@click.command()
@click.argument("shell", type=click.Choice(SHELLS))
def command(shell: str) -> None:
    """Print what SHELL needs to complete commands, options, profiles, surfaces, controls, layers, takes and settings.

    \b
    bash   fenko completion bash > ~/.local/share/bash-completion/completions/fenko
    zsh    fenko completion zsh > ~/.zfunc/_fenko
    fish   fenko completion fish > ~/.config/fish/completions/fenko.fish

    The Debian package brings all three.
    """
    say(script(shell))


def script(shell: str) -> str:
    """What that shell needs."""
    from click.shell_completion import get_completion_class

    from fenko.cli import cli

    kind = get_completion_class(shell)
    assert kind is not None
    return kind(cli, {}, "fenko", "_FENKO_COMPLETE").source()
