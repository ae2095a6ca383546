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
    late = _late(load, supplies)
    if late:
        headroom, ends = 0.0, late
    years = None
    if endurance_bytes and load.write_bytes_s and load.hours_a_day:
        years = endurance_bytes / (load.write_bytes_s * load.hours_a_day * 3600) / DAYS_A_YEAR
    streams = math.floor(headroom) if load.many else min(math.floor(headroom), 1)
    return Suitability(load, headroom, streams, ends, years, supplies=tuple(supplies))


def _supply(load: Load, results: Sequence[StepResult], share: int) -> AvailableRate | None:
    """Return the figure that best describes a load.

    After the cliff for long writes, the nearest block and depth for random access.
    """
    best: tuple[tuple[float, float], AvailableRate] | None = None
    for result in results:
        step = result.step
        if (
            not isinstance(step, IoStep)
            or step.read_percent != share
            or not result.passes
            or not result.conditions.direct
            or not step.plain
            or step.random != load.random
        ):
            continue
        written = long_write_of(result)
        if written is not None:
            if not settled(result):
                continue
            return AvailableRate(
                rate_of(result),
                " after the cliff" if written.cliff else " of a long write",
                True,
                result,
            )
        rate = result.rate
        # How far the step is from what the load does, in doublings of block and depth.
        away = abs(math.log2(step.block_bytes / load.block_bytes)) + abs(
            math.log2(step.depth * step.workers / load.depth)
        )
        if load.random and step.block_bytes > load.block_bytes:
            continue
        if load.random and step.block_bytes < load.block_bytes:
            # Smaller blocks at the same rate of accesses: what is surely there.
            away += 1
        short = share == 0 and not load.random
        where = f"({spell_size(step.block_bytes)}, depth {step.depth * step.workers})"
        sure = step.block_bytes >= load.block_bytes or not load.random
        supply = AvailableRate(
            rate,
            f" of a short test {where}" if short else f" {where}",
            sure,
            result,
            short_test=short,
        )
        key = (away, -rate.median)
        if best is None or key < best[0]:
            best = (key, supply)
    return best[1] if best else None


def _late(load: Load, supplies: Sequence[AvailableRate]) -> str:
    """Return whether accesses come too late for the load, in words."""
    if load.latency_ns is None:
        return ""
    for supply in supplies:
        step = supply.result.step
        # With more in flight than the load has, accesses wait for each other, not for the drive.
        if not isinstance(step, IoStep) or step.depth * step.workers > load.depth:
            continue
        for latencies in supply.result.latencies.values():
            took = percentile_ns(latencies, LATENCY_SHARE)
            if took is not None and took > load.latency_ns:
                return (
                    f"latency: 1 % take longer than {took / 1e6:.3g} ms, "
                    f"{load.latency_ns / 1e6:.3g} ms are allowed"
                )
    return ""


def _phrase(load: Load, share: int) -> str:
    """Return a phrase that would supply the missing figure."""
    order = "random" if load.random else "sequential"
    word = "read" if share == 100 else "write"
    if share == 0 and not load.random:
        return "sequential write 1MiB depth 8 over 30% of free"
    return f"{order} {word} {spell_size(load.block_bytes)}" + (
        f" depth {load.depth}" if load.depth > 1 else ""
    )
