"""Runs, one in a row."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.base.quantities import show_size
from jovik.queries.runs import ListedRun
from jovik.shelf.change_log import Excluded
from jovik.tables.table import Table

MOST_NAMED = 3
"""Runs that a line names before it counts the rest."""


def runs_table(found: Sequence[ListedRun]) -> Table:
    """Return every run with its figures, in the given order."""
    rows = [
        (
            x.record.id,
            x.record.started[:16].replace("T", " "),
            x.record.drive,
            (x.figures.sample if x.figures else None) or "-",
            x.record.rig,
            (x.figures.firmware if x.figures else None) or "-",
            x.record.plan,
            str(x.figures.steps if x.figures else 0),
            show_size(x.figures.written_bytes + x.record.laid_out_bytes) if x.figures else "0 B",
            x.record.state,
            _marks(x),
        )
        for x in found
    ]
    header = [
        "run",
        "begun (UTC)",
        "drive",
        "sample",
        "rig",
        "firmware",
        "plan",
        "steps",
        "written",
        "state",
        "marks",
    ]
    return Table(
        "Runs",
        header,
        rows,
        right=(7, 8),
        optional_columns=(1, 5, 8, 3, 7, 4),
        notes=[
            "jovik runs show RUN shows one; RUN may be abbreviated, or be 'last'"
            if rows
            else "no run is like that"
        ],
    )


def _marks(found: ListedRun) -> str:
    marks = ["imported"] if found.record.imported else []
    if found.record.excluded is not None:
        marks.append(f"excluded: {found.record.excluded}")
    if found.figures is not None and found.figures.excluded_steps:
        count = found.figures.excluded_steps
        marks.append(f"{count} {'step' if count == 1 else 'steps'} excluded")
    if found.figures is not None and found.figures.errors:
        marks.append(f"{found.figures.errors:,} errors")
    return ", ".join(marks)


def excluded_words(excluded: Sequence[Excluded]) -> list[str]:
    """Return a line for each reason that something was excluded for, with the runs it was."""
    by_why: dict[str, list[str]] = {}
    for x in excluded:
        at = f"run {x.run}" if x.step is None else f"step {x.step} of run {x.run}"
        by_why.setdefault(x.why, []).append(at)
    return [f"excluded ({why}): {_some(places)}" for why, places in by_why.items()]


def _some(places: Sequence[str]) -> str:
    return ", ".join(places[:MOST_NAMED]) + (
        f" and {len(places) - MOST_NAMED} more (jovik runs)" if places[MOST_NAMED:] else ""
    )
