"""Carry out `jovik completion`."""

from __future__ import annotations

import click
from click.shell_completion import get_completion_class

from jovik.cli import jovik, shell_completion


def completion(shell: str) -> None:
    """Print the script that makes SHELL complete what you type."""
    shell_completion.install()
    completion_class = get_completion_class(shell)
    assert completion_class is not None
    click.echo(completion_class(jovik, {}, "jovik", "_JOVIK_COMPLETE").source())
