"""`jovik config`: a person's own defaults."""

from __future__ import annotations

import click

from jovik.cli.completion import settings
from jovik.cli.handled_by import handled_by
from jovik.cli.naming_group import NamingGroup
from jovik.cli.options import format_option


@click.group(cls=NamingGroup, invoke_without_command=True)
@click.pass_context
def config(ctx: click.Context) -> None:
    """Set what options are unless given: the shelf, the rig, passes, a margin, a theme.

    What is typed comes before what JOVIK_SHELF says, and that before a setting. The file is TOML;
    JOVIK_CONFIG names another one.

    \b
    jovik config
    jovik config set shelf /srv/lab/shelf.db
    jovik config set measure.rig "bench, rear port"
    jovik config unset measure.rig
    """
    if ctx.invoked_subcommand is None:
        ctx.invoke(show)


@config.command()
@format_option()
@handled_by("config:show")
def show() -> None:
    """Show what is set, and in which file."""


@config.command()
@format_option()
@handled_by("config:keys")
def keys() -> None:
    """Show what can be set, and what it is without."""


@config.command("set")
@click.argument("key", shell_complete=settings)
@click.argument("value")
@handled_by("config:set_command")
def set_command() -> None:
    """Set KEY, such as measure.rig, to VALUE; it is checked as the option would check it."""


@config.command()
@click.argument("key", shell_complete=settings)
@handled_by("config:unset")
def unset() -> None:
    """Take KEY away, so that it is again what it is without."""
