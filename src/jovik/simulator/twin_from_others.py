"""What results of other kinds than short steps determine of a twin.

Long writes, copies, flushes, drives that are filled or in their steady state, and latencies.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from jovik.analysis.comparability import long_write_of
from jovik.analysis.latency import percentile_ns
from jovik.analysis.statistics import interval
from jovik.analysis.step_result import StepResult
from jovik.base.interval import Interval
from jovik.base.io_session import Workload
from jovik.simulator.parameters import MOST_SHARE, Behaviour
from jovik.steps import IoStep

FROM_OTHERS = ("cache_size", "direct_write_rate", "drain_rate", "file_time")
"""What is of the class if no step determines it."""
NEAR = math.log(1.5)
"""A parameter within this of the class's is the class's, if no step determined it."""
FLUSH_ALONE = 0.1
"""A flush after a pass has that to write back, too: alone it may take so much of it.

An assumption: on one disk the two were 313 and 36 µs.
"""
LEAST_PASSES = 3
QUANTILE_99 = 2.326
"""Of the normal distribution: 99 % lie below."""
MOST_FLASH = 4.0
"""A drive's flash is at most so many times its capacity."""


@dataclass(frozen=True)
class Parameter:
    """One fitted parameter in the unit of `Behaviour`, and the phrases that determined it.

    Without any it is near `usual`, the class's, or hardly determined.
    """

    name: str
    value: Interval
    phrases: tuple[str, ...]
    usual: float | None = None

    @property
    def determined(self) -> bool:
        """Return True if steps determined it."""
        return bool(self.phrases)

    @property
    def of_class(self) -> bool:
        """Return True if it is the class's: no step moved it."""
        near = self.usual is None or abs(math.log(self.value.median / self.usual)) < NEAR
        return not self.determined and near


class _Found:
    """Values of parameters by name, each with the step behind it."""

    def __init__(self) -> None:
        self.values: dict[str, Any] = {}
        self.parameters: list[Parameter] = []

    def take(self, name: str, value: Interval, phrase: str) -> None:
        """Take a value, unless an earlier result determined the parameter."""
        if name not in self.values:
            self.values[name] = value.median
            self.parameters.append(Parameter(name, value, (phrase,)))


def from_other_results(
    results: Sequence[StepResult], behaviour: Behaviour
) -> tuple[dict[str, Any], list[Parameter]]:
    """Return what results determine besides the short steps, and those parameters.

    Parameters
    ----------
    results : sequence of StepResult
        Those that represent the drive, also of a filled one, with latencies if they are known.
    behaviour : Behaviour
        What the short steps determine.
    """
    found = _Found()
    plain = [r for r in results if r.conditions.filled_percent is None]
    for r in plain:
        _long_write(r, behaviour, found)
        _copy(r, behaviour, found)
    _flush(plain, behaviour, found)
    if behaviour.platter is None:
        _latencies(plain, found)
        _filled(results, found)
        _steady(plain, behaviour, found)
    if "direct_write_rate" not in found.values:
        # The class's rate after the cache is none of a drive that is slower than its class.
        found.values["direct_write_rate"] = min(behaviour.direct_write_rate, behaviour.write_rate)
    if behaviour.platter is None:
        known = {p.name for p in found.parameters}
        usual = behaviour.model_copy(update=found.values)
        found.parameters += [
            Parameter(n, Interval(float(getattr(usual, n))), ())
            for n in FROM_OTHERS
            if n not in known
        ]
    return found.values, found.parameters


def _long_write(r: StepResult, behaviour: Behaviour, found: _Found) -> None:
    written = long_write_of(r)
    if written is None:
        return
    cliff, sustained = written.cliff, written.sustained
    if cliff is not None:
        at = Interval(cliff.at_bytes, cliff.low_bytes, cliff.high_bytes)
        found.take("cache_size", at, r.phrase)
    # Without a cliff on most of the drive there is no cache to speak of.
    most = written.total_bytes > behaviour.capacity / 2
    if isinstance(sustained, Interval) and (cliff is not None or most):
        found.take("direct_write_rate", sustained, r.phrase)


def _copy(r: StepResult, behaviour: Behaviour, found: _Found) -> None:
    copy = r.findings.copy
    if long_write_of(r) is not None or copy is None or not copy.files or not copy.files_s:
        return
    size = sum(p.written_bytes for p in r.passes) / len(r.passes)
    each_s = 1 / copy.files_s - size / copy.files / behaviour.write_rate
    if each_s > 0:
        found.take("file_time", Interval(each_s * 1e9), r.phrase)


def _flush(results: Sequence[StepResult], behaviour: Behaviour, found: _Found) -> None:
    flush = min(_flushes(results), key=lambda x: x[0].median, default=None)
    durable = any(isinstance(r.step, IoStep) and r.step.durable for r in results)
    # A spinning drive waits a turn for a durable write, which says nothing about its flush.
    if flush is None or flush[0].median <= 0 or (durable and not behaviour.platter):
        return
    value, phrase = flush
    low = (value.low if value.low is not None else value.median) * FLUSH_ALONE
    found.take("flush_time", Interval(value.median, max(low, 0.0), value.high), phrase)


def _flushes(results: Sequence[StepResult]) -> Iterator[tuple[Interval, str]]:
    """Yield how long the flush after a pass of writes took, nanoseconds, with the step.

    The shortest is nearest to a flush alone: others have more to write back.
    """
    for r in results:
        if isinstance(r.step, IoStep) and not r.step.read_percent and not r.step.has_amount:
            each = [
                p.elapsed_ns * (p.rate_bytes_s / p.flushed_rate_bytes_s - 1)
                for p in r.passes
                if p.flushed_rate_bytes_s > 0
            ]
            if len(each) >= LEAST_PASSES:
                yield interval(each), r.step.canonical


def _latencies(results: Sequence[StepResult], found: _Found) -> None:
    """Take how far single random accesses spread: of a lognormal one, p99 over p50 tells.

    Where a control group lets some through at once and has others wait, the spread is its own.
    """
    for r in results:
        step = r.step
        if not isinstance(step, IoStep) or not step.random or step.steady or step.durable:
            continue
        held = any(limit.what.of_group for limit in r.limits)
        if step.depth * step.workers > 1 or r.latencies is None or held:
            continue
        for direction, share, name in (
            ("read", 100, "latency_spread"),
            ("write", 0, "write_latency_spread"),
        ):
            latencies = r.latencies.get(direction)
            if latencies is None or step.read_percent != share:
                continue
            half, most = (percentile_ns(latencies, q) for q in (0.5, 0.99))
            if half and most and most > half:
                spread = min(math.log(most / half) / QUANTILE_99, MOST_SHARE)
                found.take(name, Interval(spread), r.phrase)


def _filled(results: Sequence[StepResult], found: _Found) -> None:
    """Take what is left of the sustained rate on a filled drive, as a line from empty to full."""
    empty = found.values.get("direct_write_rate")
    if empty is None:
        return

    def left_at(level: int, rate: float) -> float:
        # The line begins at the empty drive: one level does not tell where the fall begins.
        left: float = 1 - (1 - rate / empty) * 100 / level
        return min(max(left, 0.01), 1.0)

    for r in sorted(results, key=lambda r: -(r.conditions.filled_percent or 0)):
        level, written = r.conditions.filled_percent, long_write_of(r)
        sustained = written.sustained if written is not None and written.cliff else None
        if not level or not isinstance(sustained, Interval):
            continue
        rates = (sustained.median, sustained.least, sustained.most)
        left = Interval(*(left_at(level, rate) for rate in rates))
        if left.median < 1:
            found.take("full_share", left, r.phrase)
            found.values["full_from"] = 0.0


def _steady(results: Sequence[StepResult], behaviour: Behaviour, found: _Found) -> None:
    """Take all flash from the steady state of random writes, by Desnoyers's formula."""
    if "direct_write_rate" not in found.values:
        return
    known = behaviour.model_copy(update={"direct_write_rate": found.values["direct_write_rate"]})
    for r in results:
        step, steady = r.step, r.findings.steady
        if not isinstance(step, IoStep) or not step.random or step.read_percent:
            continue
        if steady is None or not steady.steady or not r.rate.known:
            continue
        work, valid = step.workload(0), float(r.conditions.span_bytes)
        ends = [
            _flash_for(known, work, valid, rate / work.block_bytes)
            for rate in (r.rate.median, r.rate.least, r.rate.most)
        ]
        if all(ends):
            found.take("flash_size", Interval(*(float(x or 0) for x in ends)), r.phrase)


def _flash_for(known: Behaviour, work: Workload, valid: float, iops: float) -> float | None:
    """Return the flash with which a drive comes out at a steady rate, or None if none does."""
    low, high = valid * 1.001, valid * MOST_FLASH

    def reached(flash: float) -> float:
        return known.model_copy(update={"flash_size": flash}).steady_iops(work, valid)

    if not reached(low) < iops < reached(high):
        return None
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (middle, high) if reached(middle) < iops else (low, middle)
    return high
