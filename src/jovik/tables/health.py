"""A drive's own log: one reading of it, or before and after a run."""

from __future__ import annotations

from typing import Any

from jovik.analysis.health import HealthReading, readings
from jovik.base.health import Health
from jovik.tables.table import Table


def health_table(title: str, found: list[HealthReading], below: str) -> Table:
    """Return every figure of a log with its reading."""
    return Table(
        title,
        ["what", "value", "reading", "why"],
        [(r.what, r.value, r.verdict, r.why) for r in found],
        right=(1,),
        notes=[below],
    )


def health_change_table(title: str, before: dict[str, Any], after: dict[str, Any] | None) -> Table:
    """Return the log before and after a run, as the shelf keeps both."""
    first = readings(_log(before))
    second = {r.what: r for r in readings(_log(after))} if after is not None else {}
    rows = []
    for r in first:
        last = second.pop(r.what, None)
        rows.append(
            (r.what, r.value, last.value if last else "-", (last or r).verdict, (last or r).why)
        )
    rows += [(r.what, "-", r.value, r.verdict, r.why) for r in second.values()]
    return Table(
        title,
        ["what", "before", "after", "reading", "why"],
        rows,
        right=(1, 2),
        notes=[f"from its {before.get('source', 'log')}"],
    )


def _log(kept: dict[str, Any]) -> Health:
    return Health(**{**kept, "warnings": tuple(kept.get("warnings", ()))})
