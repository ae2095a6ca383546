"""The extra wait of a read after a pause: power-saving links and drives must wake first."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from jovik.analysis.step_result import StepResult
from jovik.base.interval import Interval
from jovik.base.trace import Latencies
from jovik.steps import IoStep, parse

MEDIAN_ERRORS = 2.2414
"""Standard errors that hold each median at 97.5 %, so that both hold at 95 % (Bonferroni)."""
BUCKET_FRACTION = 0.01
MIN_IOS = 30
"""I/Os that a median needs to have an interval."""
LEAST_PAUSE_S = 0.01
"""A shorter one lets nothing fall asleep."""


@dataclass(frozen=True)
class WakeCost:
    """Two like steps of a run, one with pauses.

    Attributes
    ----------
    without, paced : StepResult
        Back to back, and with pauses.
    pause_s : float
        Between two I/Os of the paced one.
    longer_ns : Interval
        By how much its median latency is longer, nanoseconds.
    """

    without: StepResult
    paced: StepResult
    pause_s: float
    longer_ns: Interval

    @property
    def sure(self) -> bool:
        """Return True if it surely waits longer."""
        return self.longer_ns.above(0)


def wake_costs(results: Sequence[StepResult]) -> list[WakeCost]:
    """Return the cost of pauses for every step that a run made both ways."""
    return [c for paced in results for c in _of(paced, results)]


def _of(paced: StepResult, results: Sequence[StepResult]) -> Iterator[WakeCost]:
    step = parse(paced.phrase)
    if not isinstance(step, IoStep) or step.depth * step.workers != 1:
        return
    iops = step.rate_iops or (step.rate_bytes_s or 0) / step.block_bytes
    if not iops or 1 / iops < LEAST_PAUSE_S:
        return
    free = replace(step, rate_iops=None, rate_bytes_s=None)
    other = next((r for r in results if r.step.kind == free.kind), None)
    if other is None:
        return
    before, after = (_median_ns(Latencies.merged(r.latencies.values())) for r in (other, paced))
    if before is None or after is None:
        return
    assert before.low is not None and before.high is not None
    assert after.low is not None and after.high is not None
    longer = Interval(
        after.median - before.median, after.low - before.high, after.high - before.low
    )
    yield WakeCost(other, paced, 1 / iops, longer)


def _median_ns(found: Latencies | None) -> Interval | None:
    """Return the median by order statistics, at 97.5 %.

    The number of I/Os below the true median is binomial (Conover, Practical Nonparametric
    Statistics, 1999, section 3.2).
    """
    if not found or found.total < MIN_IOS:
        return None
    away = MEDIAN_ERRORS * 0.5 / math.sqrt(found.total)
    low, middle, high = (found.percentile_ns(0.5 + s * away) for s in (-1, 0, 1))
    # A percentile is the middle of its bucket, which is at most 1 % off.
    return Interval(middle, low * (1 - BUCKET_FRACTION), high * (1 + BUCKET_FRACTION))
