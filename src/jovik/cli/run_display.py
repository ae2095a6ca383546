"""The choice of display: the live view if there is room for it, otherwise lines."""

from __future__ import annotations

import sys
from collections.abc import Sequence

from jovik.cli.line_progress import LineProgress
from jovik.cli.live_view import LEAST_COLUMNS, LEAST_ROWS, LiveView
from jovik.cli.progress_display import ProgressDisplay
from jovik.cli.terminal_table import console
from jovik.cli.unattended import WATCHED, JsonProgress, NoDisplay, Unattended
from jovik.queries.aims import aims_of
from jovik.runs.task import Task
from jovik.sheets.sheet import Sheet


def screen_for(
    title: str,
    tasks: Sequence[Task],
    times_ns: Sequence[int],
    budget_ns: int | None,
    sheet: Sheet | None = None,
    expected_bytes: int | None = None,
    unattended: Unattended = WATCHED,
) -> ProgressDisplay:
    """Return the live view if there is room for it, otherwise lines, unless nobody watches."""
    if unattended.progress is not None:
        return JsonProgress(tasks, times_ns, budget_ns, expected_bytes)
    if unattended.quiet:
        return NoDisplay()
    shown = console(err=True)
    if (
        sys.stderr.isatty()
        and shown.width >= LEAST_COLUMNS
        and shown.height >= LEAST_ROWS
        and not shown.is_dumb_terminal
    ):
        aims = aims_of(sheet, [t.step for t in tasks]) if sheet is not None else []
        return LiveView(title, tasks, times_ns, shown, budget_ns, aims, expected_bytes)
    return LineProgress(tasks)
