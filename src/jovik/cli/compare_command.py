"""`jovik compare`: what changed between two of anything, or over time."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from jovik.cli.completion import selections
from jovik.cli.echo import echo
from jovik.cli.options import UnitParam, force_option, format_option, shelf_option

if TYPE_CHECKING:
    from jovik.shelf.store import Shelf


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
        raise ValueError(f"'{text}' is no time; write 7d, 12h or 30min")
    return seconds


@click.command()
@click.argument("before", metavar="A", shell_complete=selections)
@click.argument("after", metavar="[B]", required=False, shell_complete=selections)
@click.option("--step", metavar="PHRASE", help="Only this step.")
@click.option(
    "--over",
    type=UnitParam("TIME", _period),
    help="A alone over time, stretches of so long taken together: 1d, 7d, 12h.",
)
@click.option(
    "--out",
    type=click.Path(dir_okay=False, path_type=Path),
    help="With --over: draw it too; the ending (png, svg, pdf) says the form.",
)
@force_option
@format_option()
@shelf_option
def compare(
    before: str,
    after: str | None,
    step: str | None,
    over: float | None,
    out: Path | None,
    force: bool,
    form: str,
    shelf_at: str | None,
) -> None:
    """Say what changed from A to B: conditions first, then steps, then findings.

    A and B are selections: a run (or 'last'), a drive, or a drive narrowed by @rig=, @sample=,
    @firmware=, @since= and @until=.

    \b
    jovik compare "Comet 2TB@rig=rear port" "Comet 2TB@rig=hub"
    jovik compare "Comet 2TB@until=2026-10-31" "Comet 2TB@since=2026-11-01"
    jovik compare "Comet 2TB@sample=unit 1" --over 7d --out ageing.png
    """
    from jovik.base.errors import UsageError
    from jovik.cli.output import emit_csv, emit_json, show_table, show_verdict
    from jovik.queries.comparison import compared
    from jovik.shelf.sqlite import where_from
    from jovik.shelf.store import Shelf
    from jovik.tables.comparison import comparison_json, comparison_table, verdict_lines

    if (after is None) == (over is None):
        raise UsageError(
            "two selections are compared, or one over time",
            "jovik compare A B, or jovik compare A --over 7d",
        )
    if out is not None and over is None:
        raise UsageError("--out draws what goes over time", "add --over 7d")
    with Shelf(where_from(shelf_at)) as shelf:
        if after is None:
            assert over is not None
            _history(shelf, before, over, step, out, form, force=force)
            return
        found = compared(shelf, before, after, step)
    if form == "json":
        emit_json(comparison_json(found), "comparison")
    elif form == "csv":
        rows = comparison_json(found)["steps"]
        emit_csv(
            ["kind", "before_bytes_s", "after_bytes_s", "times", "low", "high", "direction"],
            [
                (
                    r["kind"],
                    r["before_bytes_s"]["median"],
                    r["after_bytes_s"]["median"],
                    *r["times"].values(),
                    r["direction"],
                )
                for r in rows
            ],
        )
    else:
        show_verdict(verdict_lines(found))
        show_table(comparison_table(found))


def _history(
    shelf: Shelf,
    words: str,
    over: float,
    step: str | None,
    out: Path | None,
    form: str,
    *,
    force: bool,
) -> None:
    from jovik.cli.output import emit_csv, emit_json, show_table
    from jovik.queries.comparison import history_of
    from jovik.tables.comparison import history_json, history_table

    if out is None:
        found = history_of(shelf, words, over, step)
    else:
        from jovik.charts.history import draw_history
        from jovik.charts.style import drawing_to

        with drawing_to(out, force=force):
            found = history_of(shelf, words, over, step)
            draw_history(found, out)
        echo(f"drew {out}", err=form != "table")
    if form == "json":
        emit_json(history_json(found), "history")
    elif form == "csv":
        points = history_json(found)["points"]
        emit_csv(
            ["kind", "started", "firmware", "rig", "rate_bytes_s", "times", "low", "high"],
            [
                (
                    p["kind"],
                    p["started"],
                    p["firmware"],
                    p["rig"],
                    p["rate_bytes_s"]["median"],
                    *p["times"].values(),
                )
                for p in points
            ],
        )
    else:
        show_table(history_table(found))
