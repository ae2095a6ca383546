"""More and more requests at once on a drive in use: the gain and the wait."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from jovik.analysis.comparability import steady_step
from jovik.analysis.latency import percentile_ns
from jovik.analysis.step_result import StepResult
from jovik.base.interval import Interval
from jovik.base.trace import Latencies
from jovik.steps import IoStep, parse

RARE_PERCENTILE = 0.99999
"""The share of I/Os that the slowest one in 100,000 is beyond."""
NEAR_MAXIMUM = 0.95
"""A load this close to the maximum counts as the maximum."""
FEWEST_POINTS = 5
"""Fewer loads draw no curve: they are steps of a plan for something else."""


@dataclass(frozen=True)
class DemandPoint:
    """A step that is steady at so many I/Os in flight.

    `rare_ns` is what the slowest of 100,000 takes at least, None if too few tell it.
    """

    in_flight: int
    iops: Interval
    rare_ns: float | None
    result: StepResult


def demand_points(results: Sequence[StepResult]) -> list[DemandPoint]:
    """Steady steps that differ in depth and workers only, fewest in flight first.

    Of several such groups the one with most points; latencies have to be with the results.
    """
    groups: dict[IoStep, list[StepResult]] = {}
    for r in results:
        step = parse(r.kind)
        if steady_step(r) and r.passes and isinstance(step, IoStep):
            groups.setdefault(replace(step, depth=1, workers=1), []).append(r)
    best = max(groups.values(), key=len, default=[])
    return sorted((_point(r) for r in best), key=lambda p: (p.in_flight, p.iops.median))


def _point(r: StepResult) -> DemandPoint:
    step = parse(r.kind)
    assert isinstance(step, IoStep)
    whole = Latencies.merged(r.latencies.values())
    rare = percentile_ns(whole, RARE_PERCENTILE) if whole is not None else None
    return DemandPoint(step.depth * step.workers, r.iops, rare, r)


def enough_of(points: Sequence[DemandPoint]) -> DemandPoint:
    """Return the first load at `NEAR_MAXIMUM` of the maximum: beyond it, requests only wait."""
    most = max(p.iops.median for p in points)
    return next(p for p in points if p.iops.median >= NEAR_MAXIMUM * most)
