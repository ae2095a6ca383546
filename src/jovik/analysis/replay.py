"""The result of a replay over its passes."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.statistics import interval
from jovik.base.findings import ReplayFinding, ReplayRound
from jovik.base.trace import ReplayRecord


def replay_finding(records: Sequence[ReplayRecord]) -> ReplayFinding:
    """Elapsed time and time waited for the drive, with intervals, beside the recorded ones."""
    first = records[0]
    return ReplayFinding(
        elapsed_s=interval([r.elapsed_ns / 1e9 for r in records]),
        waited_s=interval([r.waited_ns / 1e9 for r in records]),
        recorded_s=first.recorded_ns / 1e9,
        recorded_waited_s=first.recorded_waited_ns / 1e9,
        requests=first.requests,
        late=max(r.late / max(r.requests, 1) for r in records),
        rounds=tuple(
            ReplayRound(
                *(r.elapsed_ns, r.waited_ns, r.overhead_read_ns, r.overhead_write_ns, r.busy)
            )
            for r in records
        ),
    )
