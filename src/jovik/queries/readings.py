"""Notes on a drive, compared with others and with Jovik's measurements."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass, replace

from jovik.analysis.statistics import interval
from jovik.analysis.step_result import StepResult
from jovik.base.errors import UsageError
from jovik.base.interval import Interval
from jovik.queries.evidence import evidence
from jovik.sheets.reading import Note, Reading
from jovik.shelf.store import Shelf


@dataclass(frozen=True)
class ComparedReading:
    """Readings by one method, in the reading's unit.

    `reading` holds the median, `value` its interval too, `each` the readings themselves, oldest
    first. `place` is among other drives, by the same method; `measured` what Jovik measured of the
    same.
    """

    reading: Reading
    value: Interval
    each: tuple[Reading, ...]
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
    """Return everything that was noted of a drive.

    Raises
    ------
    UnknownNameError
        No drive of that name.
    """
    drive = shelf.sheets.get(name).drive.name
    every, results = shelf.notes.readings(), evidence(shelf, drive).results
    groups = tuple(
        _beside(g, every, results) for g in alike([r for r in every if r.drive == drive])
    )
    return Noted(drive, tuple(shelf.notes.of(drive)), groups)


def noted_in_order(shelf: Shelf, name: str) -> list[Note | Reading]:
    """Return every note and reading of a drive, oldest first, as `note --list` numbers them.

    Raises
    ------
    UnknownNameError
        No drive of that name.
    """
    drive = shelf.sheets.get(name).drive.name
    every: list[Note | Reading] = [*shelf.notes.of(drive), *shelf.notes.readings(drive)]
    return sorted(every, key=lambda n: n.written)


def remove_noted(shelf: Shelf, name: str, number: int) -> Note | Reading:
    """Remove the note or reading of that number, and return it.

    Raises
    ------
    UsageError
        There is none of that number.
    """
    every = noted_in_order(shelf, name)
    if not 1 <= number <= len(every):
        numbers = f"1 to {len(every)}" if every else "none"
        raise UsageError(
            f"there is no note {number}", f"{numbers} are there: jovik note DRIVE --list"
        )
    gone = every[number - 1]
    before = sum(n == gone for n in every[: number - 1])
    shelf.corrections.remove_noted(shelf.sheets.get(name).drive.name, gone, before)
    return gone


def alike(readings: Sequence[Reading]) -> list[list[Reading]]:
    """Return readings of one drive, those of the same quantity by the same method together."""
    groups: list[list[Reading]] = []
    for one in readings:
        group = next((g for g in groups if g[0].comparable(one)), None)
        if group is None:
            groups.append([one])
        else:
            group.append(one)
    return groups


def joined(readings: Sequence[Reading]) -> Reading:
    """Repeated readings as one: their median, with the newest's words."""
    return replace(readings[-1], value=statistics.median(r.value for r in readings))


def value_of(readings: Sequence[Reading]) -> Interval:
    """Return the median of repeated readings and its 95 % interval. One reading has none."""
    values = [r.value for r in readings]
    if min(values) <= 0:
        return Interval(statistics.median(values))
    return interval(values)


def _beside(
    group: Sequence[Reading], every: Sequence[Reading], results: Sequence[StepResult]
) -> ComparedReading:
    one = joined(group)
    drives = dict.fromkeys(r.drive for r in every)
    same = [
        joined(alike_group).value
        for d in drives
        for alike_group in alike([r for r in every if r.drive == d])
        if alike_group[0].comparable(one)
    ]
    rank = 1 + sum(v < one.value if one.lower_is_better else v > one.value for v in same)
    measured = None
    result = next((r for r in results if r.kind == one.phrase), None)
    if result is not None and one.unit in ("bytes/s", "IOPS"):
        measured = statistics.median(
            p.iops if one.unit == "IOPS" else p.rate_bytes_s for p in result.passes
        )
    return ComparedReading(one, value_of(group), tuple(group), rank, len(same), measured)
