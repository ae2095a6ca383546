"""The addresses at which a drive failed reads or writes."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.drive_faults import failed_by
from jovik.analysis.step_result import StepResult
from jovik.base.quantities import show_size
from jovik.base.trace import MOST_PLACES
from jovik.tables.table import Table

SECTOR = 512
MOST_ROWS = 40


def failed_table(results: Sequence[StepResult]) -> Table:
    """Return a row for each range of blocks that failed in any step of a run."""
    found = failed_by(results)
    ranges = found.ranges if found is not None else ()
    rows = [
        (
            x.direction,
            f"{x.first_byte:,}",
            f"{x.end_byte - 1:,}",
            show_size(x.end_byte - x.first_byte),
            f"{x.first_byte // SECTOR:,}",
        )
        for x in ranges[:MOST_ROWS]
    ]
    more = len(ranges) - len(rows)
    notes = [
        "counted from the start of the device, or of the test file in a folder; a pass keeps the "
        f"first {MOST_PLACES} blocks that each of its threads met"
    ]
    return Table(
        "Addresses that failed",
        ["", "first byte", "last byte", "size", "first sector of 512 B"],
        rows,
        right=(1, 2, 3, 4),
        optional_columns=(4,),
        notes=[*([f"and {more} more"] if more else []), *notes],
    )
