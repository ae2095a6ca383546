"""Carry out `jovik compare`."""

from __future__ import annotations

from pathlib import Path

from jovik.base.errors import UsageError
from jovik.charts.canvas import Canvas, check_file
from jovik.cli.echo import echo
from jovik.cli.output import emit_csv, emit_json
from jovik.cli.terminal_table import show_table, show_verdict
from jovik.queries.comparison import compared, history_of
from jovik.shelf.sqlite import where_from
from jovik.shelf.store import Shelf
from jovik.tables.comparison import (
    comparison_json,
    comparison_table,
    history_json,
    history_table,
    verdict_lines,
)


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
    """Say what changed from A to B: conditions first, then steps, then findings."""
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
    if out is None:
        found = history_of(shelf, words, over, step)
    else:
        # Drawing loads more than all the rest.
        from jovik.charts import image
        from jovik.charts.history import history_chart

        check_file(out, force=force)
        found = history_of(shelf, words, over, step)
        image.draw(history_chart(found), out, Canvas(), force=force)
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
