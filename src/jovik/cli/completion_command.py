"""`jovik completion`: what a shell needs to complete commands, options, drives, plans and steps."""

from __future__ import annotations

import click


@click.command()
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
def completion(shell: str) -> None:
    """Print the script that makes SHELL complete commands, options, drives, plans, loads and steps.

    \b
    bash: eval "$(jovik completion bash)"   in ~/.bashrc
    zsh:  eval "$(jovik completion zsh)"    in ~/.zshrc, after compinit
    fish: jovik completion fish > ~/.config/fish/completions/jovik.fish
    """
    from click.shell_completion import get_completion_class

    from jovik.cli import bash_completion, jovik

    bash_completion.install()
    found = get_completion_class(shell)
    assert found is not None
    click.echo(found(jovik, {}, "jovik", "_JOVIK_COMPLETE").source())
