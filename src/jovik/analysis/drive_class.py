"""A drive within its class: each class of step beside the usual range, and one overall figure.

The overall figure is the geometric mean of what the drive does over what is usual, times 100.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from jovik.analysis.comparability import is_plain, long_write_of, rate_of, settled
from jovik.analysis.run_effect import PRIOR_ALONE, RunEffect, weighted
from jovik.analysis.statistics import ratio_interval
from jovik.analysis.step_result import LimitSource, StepResult
from jovik.base.interval import Interval
from jovik.steps import IoStep, parse

LEAST_STREAM_BYTES = 128 * 2**10
DEEP_DEPTHS = (16, 64)
"""Requests in flight that are compared with the figure at depth 32."""
SMALL_BYTES = 4096
SUSTAINED_WRITE = "sustained write"


class Standing(StrEnum):
    """The position of a figure, as far as its interval determines it."""

    BELOW = "below what is usual"
    WITHIN = "usual"
    ABOVE = "above what is usual"
    UNSURE = "at the edge of what is usual"


@dataclass(frozen=True)
class Usual:
    """The range that is usual of a class of step, in bytes a second or I/Os a second."""

    what: str
    low: float
    usual: float
    high: float
    is_iops: bool


@dataclass(frozen=True)
class ClassFigure:
    """A class of step: the drive's result, its figure in the unit of the range, and the range."""

    usual: Usual
    result: StepResult
    value: Interval

    @property
    def standing(self) -> Standing:
        """Return the position by the interval, or by the figure of a single pass."""
        low, high = self.value.least, self.value.most
        if high < self.usual.low:
            return Standing.BELOW
        if low > self.usual.high:
            return Standing.ABOVE
        inside = low >= self.usual.low and high <= self.usual.high
        return Standing.WITHIN if inside else Standing.UNSURE


def class_of_step(result: StepResult) -> str | None:
    """Return the class of step that a result is of, as classes of drives name it.

    None for the rest.
    """
    step = parse(result.kind)
    if not isinstance(step, IoStep) or not is_plain(result):
        return None
    if result.conditions.filled_percent is not None or step.read_percent not in (0, 100):
        return None
    if long_write_of(result) is not None:
        return SUSTAINED_WRITE if not step.random else None
    return _class_of_access(step)


def class_of_phrase(step: IoStep) -> str | None:
    """Return the class that a plain access is meant for, before it was run."""
    if step.fresh or step.long_timed:
        return SUSTAINED_WRITE if not (step.random or step.read_percent) else None
    return _class_of_access(step)


def _class_of_access(step: IoStep) -> str | None:
    if step.read_percent not in (0, 100):
        return None
    direction = "read" if step.read_percent else "write"
    if not step.random:
        return f"sequential {direction}" if step.block_bytes >= LEAST_STREAM_BYTES else None
    if step.block_bytes != SMALL_BYTES:
        return None
    in_flight = step.depth * step.workers
    if in_flight == 1:
        return f"random {direction} 4KiB"
    return (
        f"random {direction} 4KiB depth 32"
        if DEEP_DEPTHS[0] <= in_flight <= DEEP_DEPTHS[1]
        else None
    )


def class_figures(results: Sequence[StepResult], ranges: Mapping[str, Usual]) -> list[ClassFigure]:
    """Return the drive's figure for each measured class of step, in the order of `ranges`.

    What something other than the drive bounded to less than is usual is no figure of the drive. Of
    several the one with most in flight counts, and then the one with the largest block: a rule,
    since the best of several would flatter.
    """
    chosen: dict[str, tuple[tuple[int, int], StepResult]] = {}
    for r in results:
        what = class_of_step(r)
        if what is None or what not in ranges or not _good(r) or _held(r, ranges[what]):
            continue
        step = parse(r.kind)
        assert isinstance(step, IoStep)
        weight = (-abs(step.depth * step.workers - 32) if step.random else 0, 0)
        if not step.random:
            weight = (step.depth * step.workers, step.block_bytes)
        if what not in chosen or weight >= chosen[what][0]:
            chosen[what] = (weight, r)
    figures = []
    for what, usual in ranges.items():
        if what in chosen:
            r = chosen[what][1]
            scale = _per_io(r) if usual.is_iops else 1.0
            figures.append(ClassFigure(usual, r, rate_of(r).scaled(scale)))
    return figures


def _held(r: StepResult, usual: Usual) -> bool:
    """Return True if the link, the tester or another limit kept it below the usual range."""
    low = usual.low / (_per_io(r) if usual.is_iops else 1.0)
    return any(x.what is not LimitSource.HEAT and x.rate_bytes_s < low for x in r.limits)


def _good(r: StepResult) -> bool:
    moved = bool(r.passes) and all(p.rate_bytes_s > 0 for p in r.passes)
    return settled(r) and moved and not r.findings.write_cache_full


def _per_io(r: StepResult) -> float:
    step = parse(r.kind)
    assert isinstance(step, IoStep)
    return 1 / step.block_bytes


def class_index(figures: Sequence[ClassFigure], effect: RunEffect = PRIOR_ALONE) -> Interval | None:
    """Return the overall figure, where 100 is usual, or None without any step."""
    if not figures:
        return None
    share = 1 / len(figures)
    base = math.fsum(
        share * math.log(f.usual.usual / (_per_io(f.result) if f.usual.is_iops else 1.0))
        for f in figures
    )
    whole = weighted([(share, f.result) for f in figures], effect)
    return ratio_interval(whole).scaled(100 * math.exp(-base))
