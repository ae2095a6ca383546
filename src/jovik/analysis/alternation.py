"""Saw-teeth: where a rate goes up and down between two rates with a period, as heat makes it do."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

LEAST_CYCLES = 3
LEVEL_RATIO = 1.30
"""The high stretches resemble each other up to this ratio, and the low ones."""
AS_LONG = 1.8
"""The same for their durations. Stretches at both ends may be cut off."""
LEAST_RATIO = 1.10
PERIOD_CORRELATION = 0.6
"""Correlation of the series with itself one period later."""
AS_GOOD = 0.85
HALF_PERIOD_CORRELATION = -0.05
"""Somewhere in between it goes the other way by so much."""
MOST_VALUES = 4000
EXPLAINED_FRACTION = 0.5
LEAST_LOW_FRACTION = 0.15
"""From this fraction of the time on, what comes regularly is no pause."""
FINER_RATIO = 0.7


@dataclass(frozen=True)
class Alternation:
    """From bin `start` to `end` the rate alternates between two, in bytes a bin.

    `period` is in bins.
    """

    start: int
    end: int
    high: float
    low: float
    period: float


def alternation(bins: npt.NDArray[np.float64], edges: Sequence[int]) -> Alternation | None:
    """Return the first alternating stretch of a series, or None if there is none.

    Parameters
    ----------
    bins : float array, shape (n,)
        Bytes in each bin, pauses filled.
    edges : sequence of int
        Where its parts of one level begin, with 0 and n.
    """
    levels = [float(bins[a:b].mean()) for a, b in pairwise(edges)]
    all_parts = len(levels) >= 2 * LEAST_CYCLES and _of_parts(edges, levels) is not None
    if not all_parts:
        # A wave is cut into many levels and slopes, which in part may look like teeth.
        whole = _periodic(bins, edges[0], edges[-1])
        if whole is not None:
            return whole
    for first in range(len(levels) - 2 * LEAST_CYCLES + 1):
        for last in range(len(levels), first + 2 * LEAST_CYCLES - 1, -1):
            alternating = _of_parts(edges[first : last + 1], levels[first:last])
            if alternating is not None:
                # Teeth too short to be levels may have been joined in some other order.
                finer = _periodic(bins, alternating.start, alternating.end)
                return (
                    finer
                    if finer and finer.period < FINER_RATIO * alternating.period
                    else alternating
                )
    for start, end in pairwise(edges):
        alternating = _periodic(bins, start, end)
        if alternating is not None:
            return alternating
    # What is cut into many parts of no order may still repeat.
    for start in edges[:-1]:
        alternating = _periodic(bins, start, edges[-1])
        if alternating is not None:
            return alternating
    return None


def regular_pauses(bins: npt.NDArray[np.float64]) -> bool:
    """Return True if a series stops so regularly, and for so long, that this is its usual rate.

    Pauses are then no exceptions to be left out: it alternates.
    """
    found = _periodic(bins, 0, len(bins))
    if found is None:
        return False
    middle = (found.high + found.low) / 2
    return float((bins < middle).mean()) >= LEAST_LOW_FRACTION


def _of_parts(edges: Sequence[int], levels: Sequence[float]) -> Alternation | None:
    """Return parts that go up and down in turn, alike in rate and, but for the ends, in length."""
    lengths = [b - a for a, b in pairwise(edges)]
    one, two = levels[::2], levels[1::2]
    high, low = (one, two) if one[0] > two[0] else (two, one)
    if min(high) < LEAST_RATIO * max(low):
        return None
    if max(high) > LEVEL_RATIO * min(high) or max(low) > LEVEL_RATIO * min(low):
        return None
    inner = lengths[1:-1]
    for some in (inner[::2], inner[1::2]):
        if max(some) > AS_LONG * min(some):
            return None
    # A stretch at either end that lasts much longer than those of its kind is none of them.
    for outer, kind in ((lengths[0], lengths[2:-1:2]), (lengths[-1], lengths[-3:0:-2])):
        if kind and outer > AS_LONG * max(kind):
            return None
    # From the second edge to the last but one, in steps of two: whole cycles.
    whole = [edges[i] for i in range(1, len(edges) - 1, 2)]
    period = (whole[-1] - whole[0]) / (len(whole) - 1)
    weights_high, weights_low = (
        (lengths[::2], lengths[1::2])
        if high is one
        else (
            lengths[1::2],
            lengths[::2],
        )
    )
    return Alternation(
        edges[0],
        edges[-1],
        float(np.average(high, weights=weights_high)),
        float(np.average(low, weights=weights_low)),
        period,
    )


def _periodic(bins: npt.NDArray[np.float64], start: int, end: int) -> Alternation | None:
    """Return a stretch that repeats itself, in any shape."""
    each = max(1, (end - start) // MOST_VALUES)
    part = bins[start : start + (end - start) // each * each].reshape(-1, each).mean(axis=1)
    count = len(part)
    if count < 4 * LEAST_CYCLES or part.mean() <= 0:
        return None
    rest = part - part.mean()
    spread = float(rest.std()) / float(part.mean())
    if spread < (LEAST_RATIO - 1) / 4:
        return None
    spectrum = np.fft.rfft(rest, 2 * count)
    correlation = np.fft.irfft(spectrum * np.conj(spectrum))[:count]
    correlation = correlation / np.arange(count, 0, -1)
    correlation = correlation / correlation[0]
    most = count // LEAST_CYCLES
    below = np.flatnonzero(correlation[:most] < 0)
    if not len(below):
        return None
    peak = float(correlation[below[0] : most + 1].max())
    # Every multiple of a period is one too: the first that is about as good.
    lag = int(below[0]) + int(np.argmax(correlation[below[0] : most + 1] >= AS_GOOD * peak))
    lag = lag + int(np.argmax(correlation[lag : lag + max(lag // 4, 1)]))
    if (
        lag >= most
        or correlation[lag] < PERIOD_CORRELATION
        or correlation[:lag].min() > HALF_PERIOD_CORRELATION
    ):
        return None
    period = _exact_period(correlation, lag)
    # Over many cycles a period of whole bins would run away from the true one.
    profile, shown = max((_profile(part, p) for p in (float(lag), period)), key=lambda x: x[1])
    if shown < EXPLAINED_FRACTION * float(rest.var()):
        return None
    middle = (profile.max() + profile.min()) / 2
    high, low = float(profile[profile > middle].mean()), float(profile[profile <= middle].mean())
    if low <= 0 or high < LEAST_RATIO * low:
        return None
    return Alternation(start, end, high, low, period * each)


def _profile(part: npt.NDArray[np.float64], period: float) -> tuple[npt.NDArray[np.float64], float]:
    """Return the mean cycle of a period, and the variance that it explains."""
    count, phases = len(part), max(int(period), 1)
    phase = np.minimum((np.arange(count) % period / period * phases).astype(int), phases - 1)
    counts = np.bincount(phase, None, phases)
    sums = np.bincount(phase, part, phases)
    # Rounding may leave a phase without a bin.
    profile = np.where(counts > 0, sums / np.maximum(counts, 1), part.mean())
    return profile, float((profile[phase] - part.mean()).var())


def _exact_period(correlations: npt.NDArray[np.float64], lag: int) -> float:
    """Return the period to a fraction of a bin, from the last multiple that can be located."""
    period = float(lag)
    for times in range(2, int(len(correlations) * 0.5 / lag)):
        near = round(times * period)
        low, high = max(near - max(lag // 4, 1), 1), near + max(lag // 4, 1) + 1
        peak = low + int(np.argmax(correlations[low:high]))
        if correlations[peak] < PERIOD_CORRELATION / 2 or not math.isfinite(correlations[peak]):
            break
        period = peak / times
    return period
