"""Slopes: where a rate declines or rises gradually, and no step explains it.

At each cut that was found, the lines through both neighbouring parts are extrapolated to it. Where
the rate steps, they are apart there by what the levels differ by; where it slopes, they meet.
Several cuts in one direction at which they meet are one slope (Baranowski, Chen and Fryzlewicz,
"Narrowest-over-threshold detection of multiple change points and change-point-like features", JRSS
B 2019, for the distinction). Its ends are those of the line between two levels that leaves the
least behind.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from jovik.analysis.changepoint import ChangePoint
from jovik.analysis.level_cuts import logs
from jovik.analysis.running_median import running_mean

JUMP = 0.5
"""Share of the levels' difference that has to lie in the cut itself for it to be a step."""
CLEAR = 0.8
"""From this fraction on it is a step, whatever is next to it."""
MIN_BINS = 8
"""Bins that a line through a part needs. With fewer, its mean is used."""
GRID = 36
MOST_VALUES = 600


@dataclass(frozen=True)
class Slope:
    """The rate goes from `before` to `after` between two places, in bins and bytes a bin."""

    start: int
    end: int
    before: float
    after: float


def slopes(
    bins: npt.NDArray[np.float64], cuts: Sequence[ChangePoint]
) -> tuple[list[Slope], set[int]]:
    """Return every slope among these cuts, in order, and which cuts by number belong to one.

    Parameters
    ----------
    bins : float array, shape (n,)
        Bytes in each bin, pauses filled.
    cuts : sequence of ChangePoint
        Changes of level, in bins.
    """
    if not cuts:
        return [], set()
    values = logs(bins)
    edges = [0, *(c.at for c in cuts), len(bins)]
    steps, jumps = _steps_and_jumps(values, edges)
    slopes: list[Slope] = []
    used: set[int] = set()
    for first, last in _groups(values, edges, steps, jumps):
        # The parts on both sides belong to it as far as they slope too.
        start = max(edges[first], slopes[-1].end if slopes else 0)
        fitted = _ramp(bins, start, edges[last + 2])
        if fitted is not None:
            slopes.append(_slope_of(bins, start, edges[last + 2], *fitted[:2]))
            used |= set(range(first, last + 1))
    return slopes, used


def _groups(
    values: npt.NDArray[np.float64],
    edges: Sequence[int],
    steps: Sequence[float],
    jumps: Sequence[float],
) -> list[tuple[int, int]]:
    """Return the first and last cut of each group that may be one slope.

    Neighbouring cuts that go one way, none of them a clear step, are tried as a whole first: a line
    that leaves less behind than the stairs do, which have more of a choice, is a slope.
    """
    groups: list[tuple[int, int]] = []
    for first, last in _one_way(steps, jumps, CLEAR):
        whole = _ramp(np.exp(values), edges[first], edges[last + 2]) if last > first else None
        stairs = sum(
            float(values[a:b].var()) * (b - a)
            for a, b in zip(edges[first : last + 2], edges[first + 1 : last + 3], strict=True)
        )
        if whole is not None and whole[2] <= stairs:
            groups.append((first, last))
        else:
            own = slice(first, last + 1)
            groups += [(a + first, b + first) for a, b in _one_way(steps[own], jumps[own], JUMP)]
    return groups


def _one_way(steps: Sequence[float], jumps: Sequence[float], most: float) -> list[tuple[int, int]]:
    """Return runs of cuts in one direction whose jumps are at most `most` of each step."""
    runs: list[tuple[int, int]] = []
    for number, (step, jump) in enumerate(zip(steps, jumps, strict=True)):
        if abs(jump) >= most * abs(step):
            continue
        if runs and runs[-1][1] == number - 1 and steps[number - 1] * step > 0:
            runs[-1] = (runs[-1][0], number)
        else:
            runs.append((number, number))
    return runs


def _steps_and_jumps(
    values: npt.NDArray[np.float64], edges: Sequence[int]
) -> tuple[list[float], list[float]]:
    """At each cut, by how much the levels beside it differ, and by how much the lines do.

    As much is looked at on either side, so that a long level does not hide a bend at its end.
    """
    steps, jumps = [], []
    for start, at, end in zip(edges, edges[1:-1], edges[2:], strict=False):
        near = max(min(at - start, end - at), min(MIN_BINS, at - start, end - at))
        (mean, slope), (mean2, slope2) = (
            _line(values[at - near : at]),
            _line(values[at : at + near]),
        )
        steps.append(mean2 - mean)
        jumps.append((mean2 - slope2 * near / 2) - (mean + slope * near / 2))
    return steps, jumps


def _line(part: npt.NDArray[np.float64]) -> tuple[float, float]:
    """Mean and slope for each value of a part, its edges left out."""
    if len(part) <= MIN_BINS:
        return float(part.mean()), 0.0
    inner = part[1:-1]
    return float(inner.mean()), float(np.polyfit(np.arange(len(inner)), inner, 1)[0])


def _ramp(bins: npt.NDArray[np.float64], start: int, end: int) -> tuple[int, int, float] | None:
    """Return the ends of the best line between two levels, or None if a step fits better.

    With the squares that it leaves, of the logarithm.
    """
    each = max(1, (end - start) // MOST_VALUES)
    part = bins[start : start + (end - start) // each * each].reshape(-1, each).mean(axis=1)
    count = len(part)
    if count < 3 * MIN_BINS:
        return None
    # A decline may be even in the rate or in its logarithm; what is left is weighed alike.
    usual = np.exp(logs(part))
    smooth = running_mean(usual, max(count // 20, 3) | 1, "edge")
    plain = (usual, 1 / smooth**2)
    logarithmic = (np.log(usual), np.ones(count))
    places = np.unique(np.linspace(0, count, GRID + 1).round().astype(int))
    at = np.arange(count)
    best = (math.inf, 0, count)
    for series, weights in (plain, logarithmic):
        for i, one in enumerate(places[:-1]):
            for two in places[i + 1 :]:
                if two - one >= 2:
                    cost = _cost(series, weights, at, int(one), int(two))
                    best = min(best, (cost, int(one), int(two)))
    values = np.log(usual)
    step = min(
        float(values[:k].var() * k + values[k:].var() * (count - k)) for k in range(2, count - 2)
    )
    if best[0] >= step:
        return None
    return start + best[1] * each, min(start + best[2] * each, end), best[0] * each


def _cost(
    series: npt.NDArray[np.float64],
    weights: npt.NDArray[np.float64],
    at: npt.NDArray[np.int64],
    one: int,
    two: int,
) -> float:
    share = np.clip((at - one) / (two - one), 0.0, 1.0)
    whole = float(weights.sum())
    rest = series - float(weights @ series) / whole
    centred = share - float(weights @ share) / whole
    below = float(weights @ (centred * centred))
    if not below:
        return math.inf
    return float(weights @ (rest * rest) - float(weights @ (rest * centred)) ** 2 / below)


def _slope_of(bins: npt.NDArray[np.float64], start: int, end: int, one: int, two: int) -> Slope:
    """Return the slope's ends, and the rates there: of the levels beside it, or of its own line."""
    inner = bins[one:two]
    tilt, first = (
        np.polyfit(np.arange(len(inner)), inner, 1) if len(inner) > 2 else (0.0, inner.mean())
    )
    before = float(bins[start:one].mean()) if one - start >= MIN_BINS else float(first)
    after = (
        float(bins[two:end].mean())
        if end - two >= MIN_BINS
        else float(first + tilt * (len(inner) - 1))
    )
    return Slope(one, two, before, max(after, 0.0))
