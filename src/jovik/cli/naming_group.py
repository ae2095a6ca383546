"""A group of commands that speaks of an unknown member as of any unknown name."""

from __future__ import annotations

import click


class NamingGroup(click.Group):
    """A group whose unknown members are refused with the nearest names."""

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """As Click's, with the nearest names where there is no such member."""
        from jovik.base.errors import UnknownNameError

        if args and args[0] not in self.commands and not args[0].startswith("-"):
            of = ctx.command_path
            raise UnknownNameError(f"command of {of}", args[0], self.commands, f"see {of} --help")
        return super().resolve_command(ctx, args)
