"""Readings of an instrument during the steps of a run."""

from __future__ import annotations

import math
import statistics
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from jovik.analysis.autocorrelation import fit_autocorrelation
from jovik.analysis.statistics import student_quantile
from jovik.base.interval import Interval

BY_POWER = ("dB", "dBA", "dB(A)")
"""Levels: their mean is that of the powers behind them (ISO 1996-1, equivalent level)."""
WATTS = "W"
RISE_DEVIATIONS = 4.0
"""A log rises if it exceeds its earlier values by this many standard deviations."""
LEAST_RISE = 0.04
RISE_VALUES = 3
"""A log rises if it does so by at least this fraction, and for this many values."""
BEGINNING_VALUES = 5
MIN_VALUES = 4
"""Values that a mean needs to have an interval."""
MIN_COVERAGE = 0.9
"""The fraction of a stretch that a log must cover before Jovik reports its energy."""
SPUN_UP = 1.3
"""A spin-up exceeds the readings after it, before the first pass, by at least this factor."""


@dataclass(frozen=True)
class Span:
    """A stretch of a run: its name, and from when to when, seconds."""

    name: str
    start_s: float
    end_s: float
    moved_bytes: int = 0
    ios: int = 0

    @property
    def lasted_s(self) -> float:
        """Return how long it was."""
        return self.end_s - self.start_s


@dataclass(frozen=True)
class SpanFigures:
    """Readings in a stretch, or in all of one phase.

    Attributes
    ----------
    mean : Interval
        Right for the unit; without an interval where there are too few values.
    most : float
    covered : float
        Share of it from the first value to the last.
    joules_per_gb, ios_per_joule : Interval or None
        Only of power in watts, and where the log covers the stretch.
    """

    name: str
    count: int
    mean: Interval
    most: float
    covered: float
    joules_per_gb: Interval | None = None
    ios_per_joule: Interval | None = None


def mean_of(values: Sequence[float], unit: str) -> Interval:
    """Return mean and its 95 % interval: of levels in decibels by power, of anything else plain.

    Neighbouring values of a log resemble each other, which the interval allows for
    (`jovik.analysis.autocorrelation`).
    """
    if unit not in BY_POWER:
        return _plain_mean(values)
    return _levels(_plain_mean([10 ** (v / 10) for v in values]), values)


def _levels(powers: Interval, values: Sequence[float]) -> Interval:
    """Return a mean of powers as a level, decibels."""
    level = 10 * math.log10(powers.median)
    if powers.low is None or powers.high is None:
        return Interval(level)
    least = 10 ** (min(values) / 10)
    return Interval(level, 10 * math.log10(max(powers.low, least)), 10 * math.log10(powers.high))


def _plain_mean(values: Sequence[float]) -> Interval:
    middle = statistics.fmean(values)
    if len(values) < MIN_VALUES:
        return Interval(middle)
    series = np.array(values, dtype=float)
    worth = (
        fit_autocorrelation([series]).mean_variance(len(series))
        if series.std() > 0
        else 1 / len(series)
    )
    reach = student_quantile(max(1 / worth / 2 - 1, 3.0)) * float(series.std(ddof=1)) * worth**0.5
    return Interval(middle, middle - reach, middle + reach)


def figures_in(
    spans: Sequence[Span], seconds: Sequence[float], values: Sequence[float], unit: str
) -> list[SpanFigures]:
    """Return the figures of each span in which anything was logged."""
    step = typical_step(seconds)
    figures = []
    for span in spans:
        inside = values_in(span, seconds, values)
        if not inside:
            continue
        mean = mean_of(inside, unit)
        covered = min(len(inside) * step / span.lasted_s, 1.0) if span.lasted_s > 0 else 1.0
        is_energy = unit == WATTS and covered >= MIN_COVERAGE and mean.median > 0
        figures.append(
            SpanFigures(
                span.name,
                len(inside),
                mean,
                max(inside),
                covered,
                mean.scaled(span.lasted_s / span.moved_bytes * 1e9)
                if is_energy and span.moved_bytes
                else None,
                _inverse(mean.scaled(span.lasted_s / span.ios)) if is_energy and span.ios else None,
            )
        )
    return figures


def figures_of_phase(name: str, parts: Sequence[Sequence[float]], unit: str) -> SpanFigures:
    """Return figures of a phase that is made of several stretches, by the values in each of them.

    Stretches differ by more than noise, so that the mean is one of their means, each with its share
    of the values, and its interval is made of theirs. Of no energy is told: it is a step's.
    """
    values = [v for part in parts for v in part]
    powers = unit in BY_POWER
    means = [_plain_mean([10 ** (v / 10) for v in p] if powers else p) for p in parts]
    shares = [len(p) / len(values) for p in parts]
    middle = math.fsum(w * m.median for w, m in zip(shares, means, strict=True))
    whole = Interval(middle)
    if all(m.known for m in means):
        reach = math.sqrt(
            math.fsum(
                (w * ((m.high or 0) - (m.low or 0)) / 2) ** 2
                for w, m in zip(shares, means, strict=True)
            )
        )
        whole = Interval(middle, middle - reach, middle + reach)
    mean = _levels(whole, values) if powers else whole
    return SpanFigures(name, len(values), mean, max(values), 1.0)


def values_in(span: Span, seconds: Sequence[float], values: Sequence[float]) -> list[float]:
    """Return the values that were logged during a stretch."""
    return [v for s, v in zip(seconds, values, strict=True) if span.start_s <= s < span.end_s]


def _inverse(of: Interval) -> Interval:
    if of.low is None or of.high is None or of.low <= 0:
        return Interval(1 / of.median)
    return Interval(1 / of.median, 1 / of.high, 1 / of.low)


def typical_step(seconds: Sequence[float]) -> float:
    """Return how far apart the values of a log are, seconds."""
    steps = [b - a for a, b in pairwise(seconds)]
    return statistics.median(steps) if steps else 0.0


def first_rise(seconds: Sequence[float], values: Sequence[float]) -> float | None:
    """Return when a log first rises above its quietest early values, or None if it never does.

    A spin-up at the beginning of a log is louder than the rest and does not count as a rise.
    """
    if len(values) <= BEGINNING_VALUES:
        return None
    early = max(len(values) // 3, 1)
    at = min(
        range(min(early, len(values) - BEGINNING_VALUES)),
        key=lambda n: statistics.fmean(values[n : n + BEGINNING_VALUES]),
    )
    start = values[at : at + BEGINNING_VALUES]
    level, spread = statistics.fmean(start), statistics.pstdev(start)
    limit = level + max(RISE_DEVIATIONS * spread, LEAST_RISE * abs(level))
    return next(
        (
            seconds[n]
            for n in range(at + BEGINNING_VALUES, len(values) - RISE_VALUES + 1)
            if min(values[n : n + RISE_VALUES]) > limit
        ),
        None,
    )


MOST_CLOCK_ERROR = 0.02
"""No clock of an instrument is further off than this fraction."""


def fitted_times(
    seconds: Sequence[float], values: Sequence[float], lasted_s: float
) -> tuple[float, ...] | None:
    """Return the times of a log by the run's clock, from 0 at its first pass, or None.

    A clock that runs fast or slow is moved and stretched, so that the first rise lies at the
    beginning of the run and the last fall at its end.

    Parameters
    ----------
    lasted_s : float
        From the beginning of the first pass to the end of the last.
    """
    rise = first_rise(seconds, values)
    back = first_rise([-s for s in reversed(seconds)], list(reversed(values)))
    if rise is None or back is None or -back <= rise:
        return None
    # A value stands for the time until the next one.
    fall = -back + typical_step(seconds)
    rate = lasted_s / (fall - rise)
    if abs(rate - 1) > MOST_CLOCK_ERROR:
        return None
    return tuple((s - rise) * rate for s in seconds)


def spin_up(before: Sequence[tuple[float, float]], unit: str) -> list[tuple[float, float]]:
    """Return the values before the first pass that belong to a spin-up.

    None if there was none.
    """
    if len(before) < 2 * BEGINNING_VALUES:
        return []
    later = statistics.median(v for _, v in before[len(before) // 2 :])
    most = max(v for _, v in before)
    enough = most - later >= 2.0 if unit in BY_POWER else most >= SPUN_UP * later
    if not enough:
        return []
    middle = (most + later) / 2
    last = max(n for n, (_, v) in enumerate(before) if v > middle)
    return list(before[: last + 1])
