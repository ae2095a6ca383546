"""Empty against full: steps that were measured both ways, with the ratio."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from jovik.analysis.comparability import is_plain, long_write_of
from jovik.analysis.statistics import interval, ratio
from jovik.analysis.step_result import StepResult
from jovik.base.findings import LongWrite
from jovik.base.interval import Interval
from jovik.base.quantities import show_size

AGREEING_FRACTION = 0.10
"""An interval this close to 1 on both sides means no difference that matters."""


@dataclass(frozen=True)
class FillComparison:
    """One kind of step as it was before filling and at a fill level.

    `share` is full over empty with its interval.
    """

    kind: str
    filled_percent: int
    empty: Interval
    full: Interval
    share: Interval
    step_empty: StepResult
    step_full: StepResult

    @property
    def verdict(self) -> str:
        """Return the statement that the interval allows."""
        low, high = self.share.low, self.share.high
        if low is None or high is None:
            return "one pass is not enough"
        if low > 1 - AGREEING_FRACTION and high < 1 + AGREEING_FRACTION:
            return "no difference that matters"
        return "slower" if high < 1 else "faster" if low > 1 else "too close to call"


def empty_against_full(results: Sequence[StepResult]) -> list[FillComparison]:
    """Return every kind that was measured both ways, in the order of the results, in bytes/s.

    Parameters
    ----------
    results : sequence of StepResult
        Of one drive, at most one for each kind and fill level.
    """
    # A rung of a ladder may be of the same kind as a step of its own; that one has more passes.
    empties = {
        r.kind: r
        for r in sorted(results, key=lambda r: len(r.passes))
        if r.conditions.filled_percent is None
    }
    pairs = []
    for full in results:
        empty = empties.get(full.kind)
        level = full.conditions.filled_percent
        if level is None or empty is None:
            continue
        one, two = ([p.rate_bytes_s for p in r.passes] for r in (empty, full))
        if min(*one, *two) <= 0:
            continue
        pairs.append(
            FillComparison(
                full.kind, level, interval(one), interval(two), ratio(two, one), empty, full
            )
        )
    return pairs


@dataclass(frozen=True)
class CacheComparison:
    """Long writes on the empty and on the filled drive: the end of the cache, the rate after it.

    The amounts differ, since less is free on a drive that is nearly full.
    """

    filled_percent: int
    empty: LongWrite
    full: LongWrite

    @property
    def words(self) -> str:
        """Return the effect of filling on the cache, if both writes show its end."""
        one, two = self.empty.cliff, self.full.cliff
        if one is None or two is None:
            return ""
        share = two.at_bytes / one.at_bytes
        if one.low_bytes <= two.high_bytes and two.low_bytes <= one.high_bytes:
            return "the cache ends at the same place"
        return (
            f"filled to {self.filled_percent} % the cache ends after "
            f"{show_size(two.at_bytes)} instead of {show_size(one.at_bytes)}: "
            f"{100 * share:.0f} % of its size"
        )


def caches_against_full(results: Sequence[StepResult]) -> list[CacheComparison]:
    """Return the long write of the empty drive against each at a fill level, in order."""
    writes = [(r, w) for r in results if (w := long_write_of(r)) is not None and is_plain(r)]
    empty = next((w for r, w in writes if r.conditions.filled_percent is None), None)
    if empty is None:
        return []
    return [
        CacheComparison(r.conditions.filled_percent, empty, w)
        for r, w in writes
        if r.conditions.filled_percent is not None
    ]
