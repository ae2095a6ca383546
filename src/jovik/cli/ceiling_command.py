"""`jovik ceiling`: the tester's own limits, without a drive."""

from __future__ import annotations

import click

from jovik.base.quantities import parse_time
from jovik.cli.handled_by import answered_by
from jovik.cli.options import UnitParam, format_option


@click.command()
@click.option(
    "--engine",
    type=click.Choice(["auto", "io_uring", "blocking"]),
    default="auto",
    show_default=True,
    help="One I/O engine. Default: every engine that works here.",
)
@click.option(
    "--duration",
    "time_ns",
    type=UnitParam("TIME", parse_time),
    default="300ms",
    show_default=True,
    help="How long each figure is measured.",
)
@format_option()
@answered_by("ceiling:ceiling")
def ceiling() -> None:
    """Measure this machine's own limits, without a drive.

    The measuring loops run with nothing behind them (no-op requests on a ring, writes to the null
    device) and with a file in memory behind them. A result above 70 % of its ceiling is marked as
    limited by the tester.

    \b
    jovik ceiling
    jovik ceiling --engine io_uring --duration 2s
    """
