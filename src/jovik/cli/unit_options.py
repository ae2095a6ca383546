"""Options of every command: `--units`, `--iops`, `--notes`, `--plain`.

They say how figures are shown, not how they are made.
"""

from __future__ import annotations

from typing import Any

import click

UNIT_NAMES = ("MB/s", "MiB/s", "GB/s")
"""See `jovik.base.rate_unit.RATE_UNITS`."""


def with_units(command: click.Command) -> click.Command:
    """Return the command, or each command of its group, with these options."""
    members = command.commands.values() if isinstance(command, click.Group) else [command]
    for one in members:
        if not any(p.name == "units" for p in one.params):
            one.params += [
                click.Option(
                    ["--units"],
                    type=click.Choice(UNIT_NAMES),
                    help="The unit of rates. Default: MB/s, or your setting (jovik config).",
                    expose_value=False,
                    callback=_units,
                ),
                click.Option(
                    ["--iops"],
                    type=click.Choice(["first", "second"]),
                    help="Whether IOPS come first or second in a table.",
                    expose_value=False,
                    callback=_iops,
                ),
                click.Option(
                    ["--notes"],
                    is_flag=True,
                    help="Show the notes below a table, instead of how many there are.",
                    expose_value=False,
                    callback=_notes,
                ),
                click.Option(
                    ["--plain"],
                    is_flag=True,
                    help="No bars in tables.",
                    expose_value=False,
                    callback=_plain,
                ),
            ]
    return command


def _setting(key: str) -> str | None:
    from jovik.base.settings import read_settings

    value = read_settings().get(key)
    return str(value) if value is not None else None


def _units(ctx: click.Context, param: click.Parameter, value: Any) -> None:
    from jovik.base.rate_unit import choose_rate_unit
    from jovik.base.settings import UNITS as KEY

    chosen = value or (None if ctx.resilient_parsing else _setting(KEY))
    if chosen is not None:
        choose_rate_unit(chosen)


def _notes(ctx: click.Context, param: click.Parameter, value: Any) -> None:
    from jovik.base.settings import NOTES as KEY
    from jovik.base.small_print import choose_notes

    chosen = "shown" if value else (None if ctx.resilient_parsing else _setting(KEY))
    if chosen is not None:
        choose_notes(chosen)


def _plain(ctx: click.Context, param: click.Parameter, value: Any) -> None:
    from jovik.base.small_print import choose_plain

    choose_plain(bool(value))


def _iops(ctx: click.Context, param: click.Parameter, value: Any) -> None:
    from jovik.base.rate_unit import choose_iops_first
    from jovik.base.settings import IOPS as KEY

    chosen = value or (None if ctx.resilient_parsing else _setting(KEY))
    if chosen is not None:
        choose_iops_first(chosen == "first")
