"""`jovik config`: a user's own defaults."""

from __future__ import annotations

import click

from jovik.cli.completion import settings
from jovik.cli.handled_by import handled_by
from jovik.cli.naming_group import NamingGroup
from jovik.cli.options import format_option


@click.group(cls=NamingGroup, invoke_without_command=True)
@click.pass_context
def config(ctx: click.Context) -> None:
    """Show and change the defaults of options: shelf, rig, passes, margin, theme.

    An option overrides JOVIK_SHELF, which overrides a setting. The file is TOML;
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
    """Show your settings and their file."""


@config.command()
@format_option()
@handled_by("config:keys")
def keys() -> None:
    """List the settings and their defaults."""


@config.command("set")
@click.argument("key", shell_complete=settings)
@click.argument("value")
@handled_by("config:set_command")
def set_command() -> None:
    """Set KEY, such as measure.rig, to VALUE, which is checked like the option's."""


@config.command()
@click.argument("key", shell_complete=settings)
@handled_by("config:unset")
def unset() -> None:
    """Set KEY back to its default."""
