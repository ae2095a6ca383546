"""`jovik compare`: changes between two selections, or over time."""

from __future__ import annotations

from pathlib import Path

import click

from jovik.cli.completion import selections
from jovik.cli.handled_by import handled_by
from jovik.cli.options import UnitParam, force_option, format_option, shelf_option


def _period(text: str) -> float:
    """``7d``, ``12h`` or ``30min`` in seconds."""
    from jovik.base.quantities import parse_time

    number = text.strip().removesuffix("d")
    if text.strip().endswith("d") and number.replace(".", "", 1).isdigit():
        seconds = float(number) * 86_400
    else:
        try:
            seconds = parse_time(text) / 1e9
        except ValueError:
            raise ValueError(f"'{text}' is not a time; write 7d, 12h or 30min") from None
    if seconds <= 0:
        raise ValueError(f"'{text}' is not a time; write 7d, 12h or 30min")
    return seconds


@click.command()
@click.argument("before", metavar="A", shell_complete=selections)
@click.argument("after", metavar="[B]", required=False, shell_complete=selections)
@click.option("--step", metavar="PHRASE", help="Only this step.")
@click.option(
    "--every",
    "over",
    type=UnitParam("TIME", _period),
    help="Show how A changed over time, grouped into periods of this length (1d, 7d, 12h).",
)
@click.option(
    "--out",
    type=click.Path(dir_okay=False, path_type=Path),
    help="With --every: draw a chart as well. The ending selects PNG, SVG or PDF.",
)
@force_option
@format_option("markdown")
@shelf_option
@handled_by("compare:compare")
def compare() -> None:
    """Compare A with B: conditions first, then steps, then findings.

    A and B are selections: a run (or 'last'), a drive, or a drive narrowed by @rig=, @sample=,
    @firmware=, @since= and @until=.

    \b
    jovik compare "Comet 2TB@rig=rear port" "Comet 2TB@rig=hub"
    jovik compare "Comet 2TB@until=2026-10-31" "Comet 2TB@since=2026-11-01"
    jovik compare "Comet 2TB@sample=sample 1" --every 7d --out ageing.png
    """
