"""Where a long write's rate changes its level: cuts between bins that matter and that last."""

from __future__ import annotations

import math
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from jovik.analysis.changepoint import ChangePoint, Noise, change_points

MOST_BINS = 1000
"""Of a long series so many bins are looked at at a time.

A place is then still known to a tenth of a percent of the write.
"""
HEAD_BINS = 2000
"""The beginning is looked at finely too.

A write cache that lasts for seconds would be lost in the bins of a write that lasts for hours.
"""
SHORTEST_BINS = 6
SHORTEST_HEAD_BINS = 2
"""At the very beginning fewer are enough: nothing comes before that they could be mistaken for."""
HEAD_SURE = 6.0
"""Standard deviations of the noise by which such a short beginning has to stand out."""
MATERIAL_CHANGE = 0.10
"""A change by less is noted as one level: nobody plans by it."""
LEAST_S, LEAST_SHARE = 3.0, 0.05
"""A level lasts at least for this time or this share of the write, whichever is less."""


def level_cuts(bins: npt.NDArray[np.float64], bin_s: float) -> tuple[list[ChangePoint], Noise]:
    """Return each large, lasting change of level in order, and the noise around them.

    Parameters
    ----------
    bins : float array, shape (n,)
        Bytes written in each bin, pauses filled with the usual value around them.
    bin_s : float
        Seconds of a bin.
    """
    cuts, noise = _cuts(bins)
    least = max(SHORTEST_BINS, math.ceil(min(LEAST_S / bin_s, LEAST_SHARE * len(bins))))
    lasting = _lasting(_material(cuts, bins), bins, least)
    head = _head(bins, lasting, noise)
    return ([head, *lasting] if head is not None else lasting), noise


def _cuts(bins: npt.NDArray[np.float64]) -> tuple[list[ChangePoint], Noise]:
    """Return changes of level, in bins.

    Of a long series finely at its beginning and more coarsely behind that.
    """
    cuts, noise = change_points(logs(bins[:HEAD_BINS]), SHORTEST_BINS)
    if len(bins) <= HEAD_BINS:
        return cuts, noise
    each = -(-len(bins) // MOST_BINS)
    coarse = bins[: len(bins) // each * each].reshape(-1, each).sum(axis=1)
    later, noise = change_points(logs(coarse), SHORTEST_BINS)
    # What lies near the end of the fine part is left to the other: there it has a future to be held
    # against.
    border = HEAD_BINS - max(HEAD_BINS // 10, SHORTEST_BINS * each)
    head = [c for c in cuts if c.at < border]
    behind = [
        ChangePoint(c.at * each, c.first * each, c.last * each)
        for c in later
        if c.at * each >= max(border, (head[-1].at if head else 0) + each)
    ]
    by_position = {c.at: c for c in head + [_finer(c, bins, each) for c in behind]}
    return [by_position[at] for at in sorted(by_position) if 0 < at < len(bins)], noise


def _finer(cut: ChangePoint, bins: npt.NDArray[np.float64], each: int) -> ChangePoint:
    """Return a coarse cut's place among the fine bins around it.

    Where two levels leave the least behind.
    """
    start, end = max(cut.at - 3 * each, 1), min(cut.at + 3 * each, len(bins) - 1)
    part = logs(bins[start - 1 : end + 1])
    costs = [part[:k].var() * k + part[k:].var() * (len(part) - k) for k in range(1, len(part))]
    at = start + int(np.argmin(costs))
    return ChangePoint(at, min(cut.first, at), max(cut.last, at))


def logs(bins: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """Return logarithms, bounded for bins in which almost nothing was written."""
    some = bins[bins > 0]
    logarithms: npt.NDArray[np.float64] = np.log(
        np.maximum(bins, 0.02 * np.median(some) if len(some) else 1.0)
    )
    return logarithms


def _material(cuts: list[ChangePoint], bins: npt.NDArray[np.float64]) -> list[ChangePoint]:
    """Merge neighbouring parts, most similar first, until all differences matter."""
    remaining = list(cuts)
    while remaining:
        steps = [abs(s) for s in _steps(remaining, bins)]
        least = int(np.argmin(steps))
        if steps[least] >= -math.log(1 - MATERIAL_CHANGE):
            break
        del remaining[least]
    return remaining


def _lasting(
    cuts: list[ChangePoint], bins: npt.NDArray[np.float64], least: int
) -> list[ChangePoint]:
    """Merge parts too short to be a level into the neighbour that is more similar.

    The beginning may be short: a small write cache is one.
    """
    remaining = list(cuts)
    while remaining:
        edges = [0, *(c.at for c in remaining), len(bins)]
        short = [i for i, (a, b) in enumerate(pairwise(edges)) if b - a < least and i > 0]
        if not short:
            break
        part = min(short, key=lambda i: edges[i + 1] - edges[i])
        steps = [abs(s) for s in _steps(remaining, bins)]
        # The cut before part i is number i - 1, the one behind it number i.
        before, behind = part - 1, part if part < len(remaining) else None
        del remaining[before if behind is None or steps[before] <= steps[behind] else behind]
    return _material(remaining, bins)


def _steps(cuts: list[ChangePoint], bins: npt.NDArray[np.float64]) -> list[float]:
    edges = [0, *(c.at for c in cuts), len(bins)]
    levels = [float(np.mean(bins[a:b])) for a, b in pairwise(edges)]
    return [math.log(max(b, 1.0) / max(a, 1.0)) for a, b in pairwise(levels)]


def _head(
    bins: npt.NDArray[np.float64], cuts: list[ChangePoint], noise: Noise
) -> ChangePoint | None:
    """Return a fast beginning that is shorter than the minimum elsewhere."""
    end = cuts[0].at if cuts else len(bins)
    if end < 3 * SHORTEST_BINS:
        return None
    values = logs(bins[:end])
    level = float(np.median(values[SHORTEST_BINS:]))
    sure = HEAD_SURE * noise.sigma / math.sqrt(1 - noise.phi**2)
    high = values[: 2 * SHORTEST_BINS] - level > max(sure, -math.log(1 - MATERIAL_CHANGE))
    length = int(np.argmin(high)) if not high.all() else 0
    if not SHORTEST_HEAD_BINS <= length < SHORTEST_BINS:
        return None
    return ChangePoint(length, max(length - 1, 1), length + 1)
