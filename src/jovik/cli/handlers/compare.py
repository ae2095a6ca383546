"""Carry out `jovik compare`."""

from __future__ import annotations

from pathlib import Path

from jovik.answers import compare as answers
from jovik.base.errors import UsageError
from jovik.base.settings import where_from
from jovik.charts.canvas import Canvas, check_file
from jovik.cli.echo import echo
from jovik.cli.output import show
from jovik.shelf.store import Shelf


def compare(
    before: str,
    after: str | None,
    step: str | None,
    over: float | None,
    out: Path | None,
    force: bool,
    form: str,
    shelf_at: str | None,
) -> int:
    """Compare two selections, or one over time."""
    if (after is None) == (over is None):
        raise UsageError(
            "two selections are compared, or one over time",
            "jovik compare A B, or jovik compare A --every 7d",
        )
    if out is not None and over is None:
        raise UsageError("--out draws a history", "add --every 7d")
    with Shelf(where_from(shelf_at)) as shelf:
        if after is not None:
            return show(answers.compare(shelf, before, after, step), form)
        assert over is not None
        if out is not None:
            check_file(out, force=force)
        history = answers.history(shelf, before, over, step)
    if out is not None:
        # Drawing loads more than all the rest.
        from jovik.charts import image
        from jovik.charts.history import history_chart

        image.draw(history_chart(history.found), out, Canvas(), force=force)
        echo(f"drew {out}", err=form != "table")
    return show(history, form)
