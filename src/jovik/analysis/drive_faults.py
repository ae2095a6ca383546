"""Everything that makes a drive known for its faults: lost data, failed I/Os, disconnections."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from jovik.analysis.disconnection import disconnected_by, disconnection_words
from jovik.analysis.lost_data import lost_by, lost_words
from jovik.analysis.step_result import StepResult
from jovik.base.fault_errors import ENVIRONMENT
from jovik.base.findings import Disconnection, FailedIos, FailedRange, LostData
from jovik.base.trace import FailedPlace, Trace

DriveFault = LostData | FailedIos | Disconnection


def failed_ios(traces: Sequence[Trace]) -> FailedIos | None:
    """Return the I/Os that the drive failed in the passes of a step, or None.

    A refusal by the system, such as for want of space, is no fault of the drive.
    """
    faults = [(t, t.first_fault) for t in traces if t.first_fault is not None]
    own = [(t, f) for t, f in faults if f.errno not in ENVIRONMENT]
    if not own:
        return None
    count = sum(t.errors - (t.stamps.bad if t.stamps else 0) for t, _ in own)
    return FailedIos(max(count, 1), ranges_of(p for _, f in own for p in f.places))


def ranges_of(places: Iterable[FailedPlace]) -> tuple[FailedRange, ...]:
    """Return failed blocks as ranges, in order of direction and address."""
    ranges: list[FailedRange] = []
    for p in sorted(places, key=lambda p: (p.direction, p.offset_bytes, p.length_bytes)):
        last = ranges[-1] if ranges else None
        end = p.offset_bytes + p.length_bytes
        if last and last.direction == p.direction and p.offset_bytes <= last.end_byte:
            ranges[-1] = FailedRange(last.first_byte, max(end, last.end_byte), p.direction)
        else:
            ranges.append(FailedRange(p.offset_bytes, end, p.direction))
    return tuple(ranges)


def failed_by(results: Sequence[StepResult]) -> FailedIos | None:
    """Return all I/Os that a drive failed, or None. A disconnection is a fault of its own."""
    failed = [
        r.findings.failed
        for r in results
        if r.findings.failed is not None and r.findings.disconnected is None
    ]
    if not failed:
        return None
    places = [
        FailedPlace(x.first_byte, x.end_byte - x.first_byte, x.direction)
        for f in failed
        for x in f.ranges
    ]
    return FailedIos(sum(f.count for f in failed), ranges_of(places))


def faults_of(results: Sequence[StepResult]) -> tuple[DriveFault, ...]:
    """Return the faults of a drive that its results show, the gravest first."""
    found = (lost_by(results), disconnected_by(results), failed_by(results))
    return tuple(x for x in found if x is not None)


def fault_words(fault: DriveFault, capacity_bytes: int | None = None) -> str:
    """Return a sentence without its subject, the drive."""
    if isinstance(fault, LostData):
        return lost_words(fault, capacity_bytes)
    if isinstance(fault, Disconnection):
        return disconnection_words(fault)
    where = ""
    if fault.ranges:
        count = len(fault.ranges)
        first = min(x.first_byte for x in fault.ranges)
        where = f" at {count} place{'s' if count > 1 else ''}, the first at byte {first:,}"
    what = " and ".join(f"{d}s" for d in dict.fromkeys(x.direction for x in fault.ranges))
    one = fault.count == 1
    return f"failed {fault.count:,} {(what[:-1] if one else what) or 'I/O'}{where}"
