"""`jovik completion`: the script for completing commands, options, drives, plans and steps."""

from __future__ import annotations

import click

from jovik.cli.handled_by import handled_by


@click.command()
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
@handled_by("completion:completion")
def completion() -> None:
    """Print the script that makes SHELL complete commands, options, drives, plans, loads and steps.

    \b
    bash: eval "$(jovik completion bash)"   in ~/.bashrc
    zsh:  eval "$(jovik completion zsh)"    in ~/.zshrc, after compinit
    fish: jovik completion fish > ~/.config/fish/completions/jovik.fish
    """
