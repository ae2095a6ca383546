"""The uses of a drive.

How many streams of a load it carries, with what headroom, and limiting factor.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from jovik.analysis.comparability import long_write_of, rate_of, settled
from jovik.analysis.latency import percentile_ns
from jovik.analysis.step_result import StepResult
from jovik.base.interval import Interval
from jovik.base.quantities import spell_size
from jovik.sheets.load import Load
from jovik.steps import IoStep

LATENCY_SHARE = 0.99
"""So many of a load's accesses have to come in time."""
DAYS_A_YEAR = 365.25
LONG_DEPTH = 8
"""The depth of a long write that is suggested, at most."""


@dataclass(frozen=True)
class AvailableRate:
    """The rate of the drive in one direction, bytes a second.

    The figure, which step it is from, and whether it is more than a lower bound.
    """

    rate_bytes_s: Interval
    source: str
    sure: bool
    result: StepResult
    short_test: bool = False


@dataclass(frozen=True)
class Suitability:
    """One load on one drive.

    `headroom` is what the drive gives over what one stream needs, None if a figure is missing;
    `streams` is its whole part at the lower end of the interval. `ends` names the limiting factor.
    `years` is the endurance rating at this load, by one stream.
    """

    load: Load
    headroom: float | None
    streams: int
    ends: str
    years: float | None
    missing: str = ""
    supplies: tuple[AvailableRate, ...] = ()

    @property
    def carried(self) -> bool:
        """Return True if the drive carries it at all."""
        return self.streams >= 1


def fit(
    load: Load, results: Sequence[StepResult], endurance_bytes: int | None = None
) -> Suitability:
    """Return how a drive fits a load.

    Parameters
    ----------
    results : sequence of StepResult
        Of one drive at one fill level, with latencies.
    endurance_bytes : int, optional
        The maker's endurance rating.
    """
    supplies: list[AvailableRate] = []
    rooms: list[tuple[float, str]] = []
    for need, share, word in ((load.read_bytes_s, 100, "read"), (load.write_bytes_s, 0, "write")):
        if not need:
            continue
        supply = _supply(load, results, share)
        if supply is None:
            return Suitability(load, None, 0, "", None, _phrase(load, share))
        supplies.append(supply)
        low = (
            supply.rate_bytes_s.low
            if supply.rate_bytes_s.low is not None
            else supply.rate_bytes_s.median
        )
        rooms.append((low / need, f"{word} rate{supply.source}"))
    # Reads and writes share the drive: each stream takes its part of the time for both.
    headroom = 1 / sum(1 / room for room, _ in rooms)
    ends = min(rooms)[1]
    if headroom < 1 and not all(s.sure for s in supplies):
        # Smaller blocks than the load's are a lower bound: enough for a yes, never for a no.
        return Suitability(load, None, 0, "", None, _phrase(load, 100 if load.read_bytes_s else 0))
    latency = _latency(load, supplies)
    if latency.unknown:
        return Suitability(load, None, 0, "", None, _phrase(load, 100 if load.read_bytes_s else 0))
    if latency.late:
        headroom, ends = 0.0, latency.late
    years = None
    if endurance_bytes and load.write_bytes_s and load.hours_a_day:
        years = endurance_bytes / (load.write_bytes_s * load.hours_a_day * 3600) / DAYS_A_YEAR
    streams = math.floor(headroom) if load.many else min(math.floor(headroom), 1)
    return Suitability(load, headroom, streams, ends, years, supplies=tuple(supplies))


def _supply(load: Load, results: Sequence[StepResult], share: int) -> AvailableRate | None:
    """Return the figure that best describes a load, of no more depth than the load has.

    After the cliff for long writes, the nearest block and depth for all else. None if nothing was
    measured at or below its depth.
    """
    usable = [r for r in results if _describes(load, r, share)]
    for result in usable:
        written = long_write_of(result)
        if written is not None:
            source = " after the cliff" if written.cliff else " of a long write"
            return AvailableRate(rate_of(result), source, True, result)
    best: tuple[tuple[float, float], AvailableRate] | None = None
    for result in usable:
        step = result.step
        assert isinstance(step, IoStep)
        in_flight = step.depth * step.workers
        # How far the step is from what the load does, in doublings of block and depth.
        away = abs(math.log2(step.block_bytes / load.block_bytes)) + math.log2(
            load.depth / in_flight
        )
        if load.random and step.block_bytes < load.block_bytes:
            # Smaller blocks at the same rate of accesses: what is surely there.
            away += 1
        short = share == 0 and not load.random
        where = f"({spell_size(step.block_bytes)}, depth {in_flight})"
        rate = result.rate
        supply = AvailableRate(
            rate,
            f" of a short test {where}" if short else f" {where}",
            # Fewer requests at once than the load has, or smaller blocks, are a lower bound.
            in_flight == load.depth and (step.block_bytes >= load.block_bytes or not load.random),
            result,
            short_test=short,
        )
        key = (away, -rate.median)
        if best is None or key < best[0]:
            best = (key, supply)
    return best[1] if best else None


def _describes(load: Load, result: StepResult, share: int) -> bool:
    """Return True if a result tells what a load gets."""
    step = result.step
    return (
        isinstance(step, IoStep)
        and step.plain
        and (step.random, step.read_percent) == (load.random, share)
        and bool(result.passes)
        and settled(result)
        and result.conditions.direct
        and step.depth * step.workers <= load.depth
        and not (load.random and step.block_bytes > load.block_bytes)
        and not result.findings.write_cache_full
    )


@dataclass(frozen=True)
class LatencyCheck:
    """Whether accesses come in time for a load: words if they are late, or what is not known."""

    late: str = ""
    unknown: bool = False


def _latency(load: Load, supplies: Sequence[AvailableRate]) -> LatencyCheck:
    """Compare the latencies of the results with the limit of a load."""
    if load.latency_ns is None:
        return LatencyCheck()
    unknown = False
    for supply in supplies:
        took = [
            ns
            for latencies in supply.result.latencies.values()
            if (ns := percentile_ns(latencies, LATENCY_SHARE)) is not None
        ]
        unknown = unknown or not took
        if took and max(took) > load.latency_ns:
            return LatencyCheck(
                f"latency: 1 % take longer than {max(took) / 1e6:.3g} ms, "
                f"{load.latency_ns / 1e6:.3g} ms are allowed"
            )
    return LatencyCheck(unknown=unknown)


def _phrase(load: Load, share: int) -> str:
    """Return a phrase that would supply the missing figure."""
    order = "random" if load.random else "sequential"
    word = "read" if share == 100 else "write"
    if share == 0 and not load.random:
        depth = f" depth {min(load.depth, LONG_DEPTH)}" if load.depth > 1 else ""
        return f"sequential write {spell_size(load.block_bytes)}{depth} over 30% of free"
    return f"{order} {word} {spell_size(load.block_bytes)}" + (
        f" depth {load.depth}" if load.depth > 1 else ""
    )
