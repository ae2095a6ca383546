"""Steps that should agree, and their disagreements."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass

from jovik.analysis.comparability import is_plain, is_plain_stream, long_write_of
from jovik.analysis.statistics import interval
from jovik.analysis.step_result import StepResult
from jovik.base.interval import Interval
from jovik.steps import CopyStep, IoStep

AGREEING_FRACTION = 0.10
"""Figures that differ by less than this agree, whatever their intervals."""
LARGE_FILE_BYTES = 10**9
COPY_ALIKE = 0.5
"""A copy goes through the operating system one request after the other.

Half of the stream is nothing strange.
"""


@dataclass(frozen=True)
class Disagreement:
    """Two rates in bytes/s that should agree and do not, with the likely reason."""

    what: str
    one: Interval
    two: Interval
    reason: str

    @property
    def ratio(self) -> float:
        """Return the first over the second."""
        return self.one.median / self.two.median if self.two.median else float("inf")


def disagreements(results: Sequence[StepResult]) -> list[Disagreement]:
    """Return every pair of figures of one drive that disagree.

    Parameters
    ----------
    results : sequence of StepResult
        Of one drive that was not filled on purpose, at most one of each kind.
    """
    streams = {share: _streams(results, share) for share in (0, 100)}
    notes = []
    for result in results:
        step = result.step
        if (written := long_write_of(result)) is not None and is_plain(result) and streams[0]:
            first = written.parts[0].rate_bytes_s
            reason = (
                "the short test met a partly full write cache; rest before it: rest until recovered"
                if streams[0].median < first.median
                else "the long write was slower from its start on: fresh space, heat, or a cache "
                "that the short test never left"
            )
            notes += _apart(
                "short and long sequential write", streams[0], first, reason, AGREEING_FRACTION
            )
        elif result.findings.scan is not None and streams[100]:
            # A stream lies at the beginning, where a spinning medium is fastest.
            first = Interval(result.findings.scan.first_bytes_s)
            reason = (
                "the file system placed the test file elsewhere on the medium, or the "
                "scan's short stretches end before the drive is up to speed"
            )
            notes += _apart(
                "stream and the scan's first zones", streams[100], first, reason, AGREEING_FRACTION
            )
        elif (
            isinstance(step, CopyStep)
            and step.files
            and step.file_bytes >= LARGE_FILE_BYTES
            and (stream := streams[0 if step.inward else 100])
        ):
            rate = result.rate
            reason = (
                "the write cache was spent, or the copy's source and the operating system's "
                "cache are slower than the drive"
            )
            notes += _apart(
                f"stream and a large file copied {'in' if step.inward else 'out'}",
                stream,
                rate,
                reason,
                COPY_ALIKE,
            )
    return notes


def _streams(results: Sequence[StepResult], share: int) -> Interval | None:
    """Return the best plain sequential figure of one direction."""
    best: Interval | None = None
    for result in results:
        step = result.step
        if (
            not isinstance(step, IoStep)
            or long_write_of(result) is not None
            or not result.passes
            or not is_plain_stream(result, share)
        ):
            continue
        rates = [p.rate_bytes_s for p in result.passes]
        if best is None or statistics.median(rates) > best.median:
            best = interval(rates)
    return best


def _apart(
    what: str, one: Interval, two: Interval, reason: str, alike: float
) -> list[Disagreement]:
    """Return a disagreement if intervals and figures lie further apart than is usual."""
    if not one.median or not two.median or 1 - alike <= one.median / two.median <= 1 / (1 - alike):
        return []
    lows, highs = (
        [x.least for x in (one, two)],
        [x.most for x in (one, two)],
    )
    return (
        [Disagreement(what, one, two, reason)] if lows[0] > highs[1] or lows[1] > highs[0] else []
    )
