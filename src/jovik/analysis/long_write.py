"""A long write as a series: its steady parts, where the write cache ends, and how sure that is."""

from __future__ import annotations

import math
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from jovik.analysis.changepoint import ChangePoint, Noise, change_points, smallest_change
from jovik.analysis.dropouts import slices_per_bin
from jovik.analysis.statistics import interval_within
from jovik.analysis.steady_state import steady_from
from jovik.base.findings import DEEP, Level, LongWrite, RateDrop
from jovik.base.quantities import show_rate, show_size, show_time, significant
from jovik.base.trace import SLICE_NS

MOST_BINS = 1000
"""Of a long series so many bins are looked at at a time.

A place is then still known to a tenth of a percent of the write.
"""
HEAD_BINS = 2000
"""The beginning is looked at finely too.

A write cache that lasts for seconds would be lost in the bins of a write that lasts for hours.
"""
SHORTEST_BINS = 6
MATERIAL = 0.10
"""A fall by less is noted as one level: nobody plans by it."""
SEEN_SHARE = 0.05
"""Share of the write a fall must last, in the statement on the smallest detectable fall."""
ROUNDS = 25


def _shown(found: LongWrite, value: float, ios: bool) -> str:
    return f"{significant(value / found.block_bytes)} IOPS" if ios else show_rate(value)


def fall_note(found: LongWrite, fall: RateDrop, *, ios: bool = False) -> str:
    """One fall for a reader."""
    if fall is found.cliff:
        name = "the cliff"
    else:
        name = "a small fall" if fall is found.falls[0] else "it falls again"
    near = (fall.high_bytes - fall.low_bytes) / 2
    return (
        f"{name}: after {show_size(fall.at_bytes)} (within {show_size(near)}) and "
        f"{show_time(fall.at_s * 1e9)} it falls from "
        f"{_shown(found, fall.before_bytes_s, ios)} to {_shown(found, fall.after_bytes_s, ios)}"
    )


def fall_notes(found: LongWrite, *, ios: bool = False) -> list[str]:
    """Each fall for a reader."""
    return [fall_note(found, fall, ios=ios) for fall in found.falls]


def long_write_notes(found: LongWrite, *, ios: bool = False) -> list[str]:
    """What to tell a reader of a write that was made to see this."""
    said = fall_notes(found, ios=ios)
    if found.cliff is None:
        said.append(
            f"no cliff within {show_size(found.total_bytes)}: a fall by "
            f"{math.ceil(100 * max(found.would_see, DEEP))} % or more that lasted "
            f"{show_size(SEEN_SHARE * found.total_bytes)} would have been seen"
        )
    for one, two in pairwise(found.parts):
        if two.rate_bytes_s.median > one.rate_bytes_s.median * (1 + MATERIAL):
            said.append(
                f"it recovers after {show_size(two.start_bytes)} to "
                f"{_shown(found, two.rate_bytes_s.median, ios)}"
            )
            break
    if found.steady_from_s is not None and found.falls:
        said.append(
            f"steady from {show_time(found.steady_from_s * 1e9)} on (SNIA test) at "
            f"{_shown(found, found.parts[-1].rate_bytes_s.median, ios)}"
        )
    elif found.steady_from_s is None:
        said.append("not steady at its end (SNIA test): a longer write may show more")
    return said


def long_write(slices: npt.NDArray[np.int64], elapsed_ns: int) -> LongWrite | None:
    """Cut a write into parts of one level.

    Parameters
    ----------
    slices : int64, shape (n, 5)
        As in `jovik.base.trace.Trace`.
    elapsed_ns : int
        Of the pass; the last slice is left out unless it is whole.

    Returns
    -------
    LongWrite or None
        None where too little was written to tell.
    """
    whole = min(elapsed_ns // SLICE_NS, len(slices))
    written = slices[:whole, 2].astype(np.float64)
    if whole < 2 * SHORTEST_BINS + 1 or not written.any():
        return None
    each = slices_per_bin(slices[:whole])
    count = whole // each
    if count < 2 * SHORTEST_BINS + 1:
        return None
    bins = written[: count * each].reshape(-1, each).sum(axis=1)
    bin_s = each * SLICE_NS / 1e9
    reached = np.concatenate([[0.0], np.cumsum(bins)])
    cuts, noise = _cuts(bins)
    kept = _material(cuts, bins)
    edges = [0, *(c.at for c in kept), len(bins)]
    parts = tuple(_part(bins, reached, a, b, bin_s) for a, b in pairwise(edges))
    falls = []
    for cut, before, after in zip(kept, parts, parts[1:], strict=False):
        one, two = before.rate_bytes_s.median, after.rate_bytes_s.median
        if two < one * (1 - MATERIAL):
            falls.append(_fall(cut, one, two, reached, bin_s))
    rounds = [float(r.mean()) for r in np.array_split(bins, min(ROUNDS, len(bins)))]
    first = steady_from(rounds)
    block = int(slices[:whole, 2].sum() // max(int(slices[:whole, 3].sum()), 1))
    return LongWrite(
        block_bytes=block,
        total_bytes=int(slices[:, 2].sum()),
        seconds=elapsed_ns / 1e9,
        parts=parts,
        falls=tuple(falls),
        would_see=_would_see(noise, min(len(bins), MOST_BINS)),
        steady_from_s=None if first is None else first * len(bins) / len(rounds) * bin_s,
    )


def _cuts(bins: npt.NDArray[np.float64]) -> tuple[list[ChangePoint], Noise]:
    """Changes of level, in bins.

    Of a long series finely at its beginning and more coarsely behind that.
    """
    cuts, noise = change_points(_logs(bins[:HEAD_BINS]), SHORTEST_BINS)
    if len(bins) <= HEAD_BINS:
        return cuts, noise
    each = -(-len(bins) // MOST_BINS)
    coarse = bins[: len(bins) // each * each].reshape(-1, each).sum(axis=1)
    later, noise = change_points(_logs(coarse), SHORTEST_BINS)
    # What lies near the end of the fine part is left to the other: there it has a future to be held
    # against.
    border = HEAD_BINS - max(HEAD_BINS // 10, SHORTEST_BINS * each)
    head = [c for c in cuts if c.at < border]
    behind = [
        ChangePoint(c.at * each, c.first * each, c.last * each)
        for c in later
        if c.at * each >= max(border, (head[-1].at if head else 0) + each)
    ]
    return head + [_finer(c, bins, each) for c in behind], noise


def _finer(cut: ChangePoint, bins: npt.NDArray[np.float64], each: int) -> ChangePoint:
    """A coarse cut's place among the fine bins around it.

    Where two levels leave the least behind.
    """
    start, end = max(cut.at - 3 * each, 1), min(cut.at + 3 * each, len(bins) - 1)
    part = _logs(bins[start - 1 : end + 1])
    costs = [part[:k].var() * k + part[k:].var() * (len(part) - k) for k in range(1, len(part))]
    at = start + int(np.argmin(costs))
    return ChangePoint(at, min(cut.first, at), max(cut.last, at))


def _logs(bins: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """Logarithms; a bin in which next to nothing was written would have one without bound."""
    some = bins[bins > 0]
    logs: npt.NDArray[np.float64] = np.log(
        np.maximum(bins, 0.02 * np.median(some) if len(some) else 1.0)
    )
    return logs


def _would_see(noise: Noise, count: int) -> float:
    length = max(round(SEEN_SHARE * count), SHORTEST_BINS)
    return max(MATERIAL, 1 - math.exp(-smallest_change(noise, count, length)))


def _material(cuts: list[ChangePoint], bins: npt.NDArray[np.float64]) -> list[ChangePoint]:
    """Merge neighbouring parts, most similar first, until all differences matter."""
    kept = list(cuts)
    while kept:
        edges = [0, *(c.at for c in kept), len(bins)]
        levels = [float(np.mean(bins[a:b])) for a, b in pairwise(edges)]
        steps = [abs(math.log(max(b, 1.0) / max(a, 1.0))) for a, b in pairwise(levels)]
        least = int(np.argmin(steps))
        if steps[least] >= -math.log(1 - MATERIAL):
            break
        del kept[least]
    return kept


def _part(
    bins: npt.NDArray[np.float64],
    reached: npt.NDArray[np.float64],
    start: int,
    end: int,
    bin_s: float,
) -> Level:
    # The bin in which a level changes has some of both.
    inner = (
        bins[
            start + (1 if start and end - start > 2 else 0) : end
            - (1 if end < len(bins) and end - start > 2 else 0)
        ]
        / bin_s
    )
    rate = interval_within(inner)
    return Level(
        start_s=start * bin_s,
        end_s=end * bin_s,
        start_bytes=int(reached[start]),
        end_bytes=int(reached[end]),
        rate_bytes_s=rate,
        spread=float(inner.std() / rate.median) if rate.median else 0.0,
    )


def _fall(
    cut: ChangePoint, before: float, after: float, reached: npt.NDArray[np.float64], bin_s: float
) -> RateDrop:
    """The place of a fall, finer than a bin.

    Where the lines of what was written on both sides of it meet.
    """
    one, two = max(cut.at - 2, 0), min(cut.at + 2, len(reached) - 1)
    # reached[one] + before * (t - t_one) = reached[two] - after * (t_two - t)
    meet = (reached[two] - reached[one] + before * one * bin_s - after * two * bin_s) / (
        before - after
    )
    meet = min(max(meet, one * bin_s), two * bin_s)
    at = reached[one] + before * (meet - one * bin_s)
    low, high = reached[max(cut.first - 1, 0)], reached[min(cut.last + 1, len(reached) - 1)]
    return RateDrop(round(at), meet, round(min(low, at)), round(max(high, at)), before, after)
