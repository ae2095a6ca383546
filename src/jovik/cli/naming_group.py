"""A group of commands that speaks of an unknown member as of any unknown name."""

from __future__ import annotations

import click


class NamingGroup(click.Group):
    """A group whose unknown members are refused with the nearest names."""

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Return Click's member, or suggest the nearest names."""
        from jovik.base.errors import UnknownNameError

        if args and args[0] not in self.commands and not args[0].startswith("-"):
            of = ctx.command_path
            raise UnknownNameError(f"command of {of}", args[0], self.commands, f"see {of} --help")
        return super().resolve_command(ctx, args)


class BareMemberGroup(NamingGroup):
    """A group whose bare form is one of its members, `bare`."""

    bare: str

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Insert the default member's name before a word that is no member."""
        asks = {"-h", "--help"} & set(args[:1])
        if not asks and (not args or args[0] not in self.commands):
            args = [self.bare, *args]
        return super().parse_args(ctx, args)
