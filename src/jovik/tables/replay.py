"""Replays: how long a recorded program would have taken here, beside what it took there."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.base.step_result import StepResult
from jovik.steps import parse
from jovik.tables.table import Table
from jovik.tables.upgrade import seconds_words


def replays_table(results: Sequence[StepResult]) -> Table:
    """A row for each replay; without rows where there was none."""
    rows = []
    late = 0.0
    for number, r in enumerate(results, 1):
        found = r.findings.replay
        if found is None:
            continue
        late = max(late, found.late)
        rows.append(
            (
                str(number),
                parse(r.kind).label,
                seconds_words(found.elapsed_s),
                seconds_words(found.waited_s),
                f"{found.recorded_s:.3g} s",
                f"{found.recorded_waited_s:.3g} s",
            )
        )
    notes = ["waited: while at least one request was on its way to the drive or back"]
    if late:
        share = f"{100 * late:.1f} %"
        notes.append(f"up to {share} of the requests came more than 1 ms after their time")
    return Table(
        "Recorded programs",
        ["", "what", "here", "waited here", "when recorded", "waited then"],
        rows,
        right=(0, 2, 3, 4, 5),
        notes=notes if rows else [],
    )
