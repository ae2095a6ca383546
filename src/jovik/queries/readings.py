"""What was noted of a drive by hand, and how it lies beside what others read and Jovik measured."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass

from jovik.base.step_result import StepResult
from jovik.sheets.reading import Note, Reading
from jovik.shelf.store import Shelf


@dataclass(frozen=True)
class ComparedReading:
    """A reading, its rank among comparable ones and what Jovik measured of the same."""

    reading: Reading
    place: int
    of: int
    measured: float | None


@dataclass(frozen=True)
class Noted:
    """Notes and readings of a drive, oldest first."""

    drive: str
    notes: tuple[Note, ...]
    readings: tuple[ComparedReading, ...]


def noted(shelf: Shelf, name: str) -> Noted:
    """Everything that was noted of a drive.

    Raises
    ------
    UnknownNameError
        No drive of that name.
    """
    drive = shelf.sheet(name).drive.name
    every, results = shelf.readings(), shelf.latest_results(drive, ladders=True)
    mine = tuple(_beside(r, every, results) for r in every if r.drive == drive)
    return Noted(drive, tuple(shelf.notes(drive)), mine)


def _beside(
    one: Reading, every: Sequence[Reading], results: Sequence[StepResult]
) -> ComparedReading:
    same = [r.value for r in every if r.comparable(one)]
    place = 1 + sum(v < one.value if one.lower_is_better else v > one.value for v in same)
    measured = None
    result = next((r for r in results if r.kind == one.phrase), None)
    if result is not None and one.unit in ("bytes/s", "IOPS"):
        measured = statistics.median(
            p.iops if one.unit == "IOPS" else p.rate_bytes_s for p in result.passes
        )
    return ComparedReading(one, place, len(same), measured)
