"""What an instrument showed while a run went through its steps."""

from __future__ import annotations

import math
import statistics
from collections.abc import Sequence
from dataclasses import dataclass

BY_POWER = ("dB", "dBA", "dB(A)")
"""Levels: their mean is that of the powers behind them (ISO 1996-1, equivalent level)."""
RISE = 4.0
"""So many standard deviations of its beginning above it, a log rises."""
BEGINNING = 5


@dataclass(frozen=True)
class Span:
    """A stretch of a run: its name, and from when to when, seconds."""

    name: str
    start_s: float
    end_s: float
    moved_bytes: int = 0
    ios: int = 0


@dataclass(frozen=True)
class SpanFigures:
    """What was shown in it: a mean that is right for the unit, and the most.

    `joules_per_gb` and `ios_per_joule` only of power in watts.
    """

    span: Span
    count: int
    mean: float
    most: float
    joules_per_gb: float | None = None
    ios_per_joule: float | None = None


def mean_of(values: Sequence[float], unit: str) -> float:
    """The mean: of levels in decibels by power, of anything else plain."""
    if unit in BY_POWER:
        return 10 * math.log10(statistics.fmean(10 ** (v / 10) for v in values))
    return statistics.fmean(values)


def figures_in(
    spans: Sequence[Span], seconds: Sequence[float], values: Sequence[float], unit: str
) -> list[SpanFigures]:
    """The figures of each span in which anything was logged."""
    found = []
    for span in spans:
        inside = [v for s, v in zip(seconds, values, strict=True) if span.start_s <= s < span.end_s]
        if not inside:
            continue
        mean = mean_of(inside, unit)
        joules = mean * (span.end_s - span.start_s) if unit == "W" else 0.0
        found.append(
            SpanFigures(
                span,
                len(inside),
                mean,
                max(inside),
                joules / span.moved_bytes * 1e9 if joules > 0 and span.moved_bytes else None,
                span.ios / joules if joules > 0 and span.ios else None,
            )
        )
    return found


def first_rise(seconds: Sequence[float], values: Sequence[float]) -> float | None:
    """When a log first rises above what it began with; None where it never does."""
    if len(values) <= BEGINNING:
        return None
    start = values[:BEGINNING]
    level, spread = statistics.fmean(start), statistics.pstdev(start)
    limit = level + max(RISE * spread, 0.02 * abs(level))
    return next((s for s, v in zip(seconds, values, strict=True) if v > limit), None)
