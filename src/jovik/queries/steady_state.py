"""Steady states on a shelf: rounds, saturation, and demand."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jovik.analysis.comparability import steady_step
from jovik.analysis.demand import DemandPoint, demand_points
from jovik.analysis.step_result import StepResult
from jovik.base.errors import UsageError
from jovik.base.trace import SLICE_NS, Latencies, Trace
from jovik.queries.evidence import evidence
from jovik.shelf.store import Shelf
from jovik.steps import IoStep, parse

MINUTE_NS = 60 * 10**9


@dataclass(frozen=True)
class Rounds:
    """A step and its figure in each round: I/Os a second, or the mean latency in nanoseconds."""

    result: StepResult
    figures: tuple[float, ...]
    latency: bool


@dataclass(frozen=True)
class Saturation:
    """A long random write: I/Os a second of each minute, over the spans written.

    What is left at the end counts where it is half a minute; `at_spans` is the middle of each.
    """

    result: StepResult
    at_spans: tuple[float, ...]
    iops: tuple[float, ...]


def rounds_of(shelf: Shelf, drive: str) -> list[Rounds]:
    """Return the rounds of the newest steady steps of a drive that decided when it was steady.

    Raises
    ------
    UsageError
        It has none, with the plan that would give some.
    """
    steady = [r for r in _newest(shelf, drive) if r.findings.steady is not None]
    if not steady:
        raise UsageError(
            f"{drive} was not measured until steady",
            f'do it: jovik measure TARGET --drive "{drive}" --plan steady-iops',
        )
    run = steady[-1].run
    own = [r for r in steady if r.run == run]
    tracked = {p for r in own if r.findings.steady for p in r.findings.steady.tracked}
    rounds = []
    for r in own:
        if r.phrase in tracked and r.findings.steady is not None:
            latency = r.findings.steady.figure == "latency"
            traces = shelf.runs.traces(r.run, r.phrase)
            rounds.append(Rounds(r, tuple(_figure(t, latency) for t in traces), latency))
    return rounds


def saturation_of(shelf: Shelf, drive: str) -> Saturation:
    """Return the newest long random write of a drive over several spans.

    Raises
    ------
    UsageError
        It has none.
    """
    points = [
        r
        for r in evidence(shelf, drive).results
        if isinstance(s := parse(r.kind), IoStep) and s.amount_spans and s.writes
    ]
    if not points:
        raise UsageError(
            f"{drive} has no long random write over several spans",
            f'do it: jovik measure TARGET --drive "{drive}" --plan saturation',
        )
    result = points[-1]
    trace = shelf.runs.traces(result.run, result.phrase)[-1]
    return Saturation(result, *minutes_of(trace, max(result.conditions.span_bytes, 1)))


def minutes_of(trace: Trace, span_bytes: int) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """Return, for each minute, the middle of its spans written, and I/Os a second.

    What is left at the end is left out where it is less than half a minute: its last slice ends
    before its time is over, which would look like a fall.
    """
    each = MINUTE_NS // SLICE_NS
    written, ios = trace.slices[:, 2], trace.slices[:, 3]
    at, rates = [], []
    before = 0.0
    for begin in range(0, len(written), each):
        part = slice(begin, begin + each)
        if begin and len(written[part]) < each // 2:
            break
        moved = float(written[part].sum())
        seconds = len(written[part]) * SLICE_NS / 1e9
        at.append((before + moved / 2) / span_bytes)
        rates.append(float(ios[part].sum()) / seconds)
        before += moved
    return tuple(at), tuple(rates)


def demand_of(shelf: Shelf, drive: str) -> list[DemandPoint]:
    """Steady steps of a drive that differ in depth and workers only, fewest in flight first.

    Raises
    ------
    UsageError
        There are not two of them.
    """
    points = demand_points(_newest(shelf, drive))
    if len(points) < 2:
        raise UsageError(
            f"{drive} has no steady steps that differ in depth or workers only",
            f'do it: jovik measure TARGET --drive "{drive}" --plan demand',
        )
    return points


def _newest(shelf: Shelf, drive: str) -> list[StepResult]:
    every = evidence(shelf, drive, with_latencies=True).results
    return [r for r in every if steady_step(r)]


def _figure(trace: Trace, latency: bool) -> float:
    if not latency:
        return float(trace.iops)
    whole = Latencies.merged(trace.latencies.values())
    return whole.sum_ns / whole.total if whole is not None and whole.total else float(np.nan)
