"""Whether two results may be compared, and the figure that each is compared by."""

from __future__ import annotations

import math
import statistics
from collections.abc import Sequence
from dataclasses import replace
from functools import lru_cache

from jovik.analysis.statistics import LogFigure, student_quantile
from jovik.analysis.step_result import StepResult
from jovik.base.findings import LongWrite, RateDrop
from jovik.base.interval import Interval
from jovik.steps import CopyStep, IoStep, ScanStep, parse


def differences(one: StepResult, two: StepResult) -> list[str]:
    """Return the reasons why two results of one kind cannot be compared, in words.

    Empty when nothing does.

    An amount that is a share of what is free is another one on every drive, and meant to be; so is
    the span of a scan over all of it.
    """
    step = parse(one.kind)
    whole_drive = isinstance(step, ScanStep) and step.span_bytes is None
    if whole_drive or (isinstance(step, IoStep) and step.sized_by_target):
        return replace(one.conditions, span_bytes=0).differences(
            replace(two.conditions, span_bytes=0)
        )
    return one.conditions.differences(two.conditions)


def is_plain(result: StepResult) -> bool:
    """Return True if its figure is the drive's under no special condition.

    Durable, paced, compressible or verifying I/O is another test than the plain one, and never
    stands for it in a claim, in a ranking by use, or as the base of a share.
    """
    step = parse(result.kind)
    return step.ranked and (not isinstance(step, IoStep) or step.plain)


def is_plain_stream(result: StepResult, read_percent: int) -> bool:
    """Return True if it is a plain sequential test, 100 for reads or 0 for writes."""
    step = parse(result.kind)
    return (
        isinstance(step, IoStep)
        and step.plain
        and not step.random
        and step.read_percent == read_percent
    )


LONG_WRITE_S = 30.0
"""A write shorter than this, without a cliff or a decline, is a short test."""


def series_to_show(result: StepResult) -> LongWrite | None:
    """Return the finding of a long write, or of a copy that fell, or None for any other step."""
    written = result.findings.long_write
    if isinstance(result.step, CopyStep) and written is not None and written.cliff is not None:
        return written
    return long_write_of(result)


def long_write_of(result: StepResult) -> LongWrite | None:
    """Return the finding of a long write, or None for any other step.

    Its length and its shape decide, never the words of its phrase: a single pass that lasted long
    enough to sustain a rate, or that fell on the way.
    """
    step = parse(result.kind)
    written = result.findings.long_write
    if not isinstance(step, IoStep) or step.read_percent or written is None:
        return None
    if not (step.has_amount or step.long_timed or step.until_stopped):
        return None
    # Fresh space is fresh once; random writes over an amount may have been repeated, and then the
    # passes are the figure.
    if not (step.fresh or len(result.passes) == 1):
        return None
    fell = written.cliff is not None or written.slope is not None
    return written if fell or written.seconds >= LONG_WRITE_S else None


def crossed_cliff(result: StepResult) -> RateDrop | None:
    """Return the cliff inside a timed write, whose mean is then a mean of two rates, or None."""
    written = result.findings.long_write
    if not isinstance(result.step, IoStep):
        return None
    # Rounds until steady begin long before anything is steady, and their window is the figure.
    if steady_step(result) or long_write_of(result) is not None:
        return None
    return written.cliff if written is not None else result.findings.end_drop


def steady_step(result: StepResult) -> bool:
    """Return True if it was repeated in rounds until steady: another test than a short one."""
    step = parse(result.kind)
    return isinstance(step, IoStep) and bool(step.steady)


SUSTAINED_FREEDOM = 19
"""Degrees of freedom taken to be behind the interval within one long write."""


def settled(result: StepResult) -> bool:
    """Return True if a result has a figure to be compared by.

    A long write that was not steady at its end, or not for long, has none: if it was cut off
    decides what its last piece looks like. Nor have rounds that were to be steady and were not, or
    a timed write across a cliff, which is two figures.
    """
    if steady_step(result):
        steady = result.findings.steady
        return steady is not None and steady.steady
    if crossed_cliff(result) is not None:
        return False
    written = long_write_of(result)
    return written is None or isinstance(written.sustained, Interval)


def figure_of(result: StepResult) -> LogFigure:
    """Return the figure a result is compared by.

    Its passes, or of a long write what it sustains, which is what it was made for.
    """
    scan = result.findings.scan
    if scan is not None and scan.mean_low_bytes_s and scan.mean_high_bytes_s:
        reach = math.log(scan.mean_high_bytes_s / scan.mean_low_bytes_s) / 2
        freedom = scan.zones * 2 / 3
        spread = reach / student_quantile(freedom)
        return LogFigure(math.log(rate_of(result).median), spread * spread, freedom)
    if _cold(result):
        return _of_passes((result.passes[0].rate_bytes_s,))
    if long_write_of(result) is None:
        return _of_passes(tuple(p.rate_bytes_s for p in result.passes))
    rate = rate_of(result)
    if rate.low is None or rate.high is None or rate.low <= 0:
        return LogFigure(math.log(rate.median), math.nan, 0.0)
    spread = (math.log(rate.high) - math.log(rate.low)) / 2 / student_quantile(SUSTAINED_FREEDOM)
    return LogFigure(math.log(rate.median), spread * spread, float(SUSTAINED_FREEDOM))


@lru_cache(maxsize=16_384)
def _of_passes(rates: tuple[float, ...]) -> LogFigure:
    """Return a ranking asks for the figure of each result several times."""
    return LogFigure.of(rates)


def copy_cliff(result: StepResult) -> RateDrop | None:
    """Return where a copy onto the drive fell, or None."""
    written = result.findings.long_write
    return written.cliff if written is not None and result.findings.copy is not None else None


def rate_of(result: StepResult) -> Interval:
    """Return the same in bytes a second with its interval.

    Of what is not settled the whole write's.
    """
    written = long_write_of(result)
    if written is not None and isinstance(written.sustained, Interval):
        return written.sustained
    if _cold(result):
        return Interval(result.passes[0].rate_bytes_s)
    scan = result.findings.scan
    if scan is not None and scan.mean_bytes_s:
        return Interval(scan.mean_bytes_s, scan.mean_low_bytes_s, scan.mean_high_bytes_s)
    return result.rate


def _cold(result: StepResult) -> bool:
    """Return True if only the first pass of a copy found everything as a user does."""
    copy, passes = result.findings.copy, result.passes
    if copy is None or len(passes) < 2 or not passes[0].elapsed_ns:
        return False
    median_s = statistics.median(p.elapsed_ns for p in passes) / 1e9
    return abs(copy.seconds - passes[0].elapsed_ns / 1e9) < abs(copy.seconds - median_s)


UNLIKE_PASSES = 1.5
"""From this ratio of the fastest to the slowest pass on, Jovik reports that they differ."""


def passes_differ(rates: Sequence[float]) -> bool:
    """Return True if the passes of a step differ by more than noise does.

    Something changed between them.
    """
    return len(rates) > 1 and min(rates) > 0 and max(rates) / min(rates) >= UNLIKE_PASSES
