"""The result of copying real files, and whether the source limited it."""

from __future__ import annotations

import math
import statistics
from collections.abc import Sequence
from dataclasses import dataclass

from jovik.analysis.comparability import is_plain_stream
from jovik.analysis.step_result import Limit, LimitSource, StepResult
from jovik.base.findings import CopyFinding
from jovik.base.quantities import significant
from jovik.base.trace import SLICE_NS, Trace

SYNC_SHOWN = 0.1
SOURCE_SHARE = 0.5
"""Above this share of the time spent reading the source, the source was measured."""


SLOW_SECOND_FRACTION = 0.5
"""A second in which less than this share of its best level moved is a slow one."""
BEST_SECONDS = 3
"""The best level of a copy is the highest rate that it kept up for so many seconds."""
COLD_DIFFERENCE = 0.1
"""From this fraction on, the first pass differs from those after it, and is reported alone."""


@dataclass(frozen=True)
class SequentialRate:
    """A drive's rate in order, bytes a second, and the phrase it was measured with."""

    rate_bytes_s: float
    phrase: str


def copy_finding(
    traces: Sequence[Trace], sequential: SequentialRate | None
) -> tuple[CopyFinding, list[str], list[Limit]]:
    """Return the result of a copy, with notes, and the source as a limit.

    Parameters
    ----------
    traces : passes of a copy
    sequential : SequentialRate or None
        The drive's sequential rate in the same direction, if it was measured in this run.
    """
    records = [t.copy for t in traces if t.copy is not None]
    first = records[0]
    each_s = [t.elapsed_ns / 1e9 for t in traces]
    cold = first_is_cold([1 / s for s in each_s if s > 0])
    seconds = each_s[0] if cold else sorted(each_s)[len(each_s) // 2]
    whole = sum(t.elapsed_ns for t in traces)
    sync_share = sum(r.sync_ns for r in records) / max(whole, 1)
    rate = first.bytes / seconds if seconds else 0.0
    by_second = [second for t in traces[: 1 if cold else None] for second in _by_second(t)]
    finding = CopyFinding(
        files=first.files,
        bytes=first.bytes,
        seconds=seconds,
        files_s=first.files / seconds if seconds else 0.0,
        sync_share=sync_share,
        of_sequential=rate / sequential.rate_bytes_s if sequential else None,
        sequential=sequential.phrase if sequential else None,
        slowest_second_bytes_s=min(by_second) if by_second else None,
        slow_share=_slow_share(by_second) if by_second else None,
    )
    notes = []
    if cold:
        later = statistics.median(each_s[1:])
        notes.append(
            f"the figure is of the first pass, as a user waits for it: later ones took "
            f"{significant(later)} s instead of {significant(seconds)} s"
        )
    if sync_share > SYNC_SHOWN:
        notes.append(f"the final sync took {100 * sync_share:.0f} % of the time")
    limits = []
    source = sum(r.source_ns for r in records)
    if whole and source > SOURCE_SHARE * whole:
        note = f"reading the source took {100 * source / whole:.0f} % of the time"
        read = first.bytes * len(traces) / source * 1e9
        limits.append(Limit(LimitSource.SOURCE, read, note))
    return finding, notes, limits


def first_is_cold(rates: Sequence[float]) -> bool:
    """Return True if the first of several passes differs from the others, which are alike."""
    if len(rates) < 2:
        return False
    return abs(math.log(rates[0] / statistics.median(rates[1:]))) > COLD_DIFFERENCE


def sequential_rate(
    results: Sequence[StepResult], *, inward: bool, filled: int | None
) -> SequentialRate | None:
    """Return the best plain sequential rate of a run in one direction."""
    rates = [
        SequentialRate(statistics.median(p.rate_bytes_s for p in r.passes), r.phrase)
        for r in results
        if is_plain_stream(r, 0 if inward else 100)
        and r.conditions.filled_percent == filled
        and r.passes
    ]
    return max(rates, default=None, key=lambda x: x.rate_bytes_s)


def _by_second(trace: Trace) -> list[float]:
    """Return the bytes moved in each whole second of a copy."""
    each = 10**9 // SLICE_NS
    moved = trace.slices[:, [0, 2]].sum(axis=1)
    whole = min(trace.elapsed_ns // SLICE_NS, len(moved)) // each
    return [float(x) for x in moved[: whole * each].reshape(-1, each).sum(axis=1)]


def _slow_share(by_second: Sequence[float]) -> float:
    width = min(BEST_SECONDS, len(by_second))
    best = max(min(by_second[n : n + width]) for n in range(len(by_second) - width + 1))
    return sum(x < SLOW_SECOND_FRACTION * best for x in by_second) / len(by_second)
