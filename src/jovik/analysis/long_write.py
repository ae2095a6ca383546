"""A long write as a series: its levels, slopes and saw-teeth, and where the write cache ends."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from jovik.analysis.alternation import Alternation, alternation, regular_pauses
from jovik.analysis.autocorrelation import Autocorrelation, fit_autocorrelation
from jovik.analysis.changepoint import ChangePoint, Noise, smallest_change
from jovik.analysis.decay import decay
from jovik.analysis.dropouts import filled, pauses_in, slices_per_bin
from jovik.analysis.level_cuts import (
    HEAD_SURE,
    MATERIAL_CHANGE,
    MOST_BINS,
    SHORTEST_BINS,
    SHORTEST_HEAD_BINS,
    level_cuts,
)
from jovik.analysis.slope import Slope, slopes
from jovik.analysis.statistics import interval_within, student_quantile
from jovik.analysis.steady_state import STEADY_WINDOW, steady_from
from jovik.base.findings import CLIFF_FRACTION, Decay, Level, LongWrite, RateDrop, Shape
from jovik.base.interval import Interval
from jovik.base.trace import SLICE_NS, Trace

SEEN_SHARE = 0.05
"""Share of the write a fall must last, in the statement on the smallest detectable fall."""
STEADY_ROUNDS = 25
HEAD_LOG = math.log(1.5)
"""Ratio of a small write cache to the rate after it, for the smallest detectable cache."""
SURE_ERRORS = 2.5
"""Standard errors by which a fall must exceed the threshold to be detected reliably."""


@dataclass(frozen=True)
class Series:
    """A write in bins.

    `true` is what was written in each, `usual` the same with its pauses filled, `reached` what was
    written before each edge.
    """

    true: npt.NDArray[np.float64]
    usual: npt.NDArray[np.float64]
    reached: npt.NDArray[np.float64]
    bin_s: float


@dataclass(frozen=True)
class Stretch:
    """A range of bins in one shape, and that shape."""

    start: int
    end: int
    shape: Slope | Alternation | None = None


def write_series(trace: Trace) -> LongWrite | None:
    """Return the parts of a pass that only wrote, or None if it is too short for any.

    A copy counts bytes only: its writes are taken as mebibytes.
    """
    slices = trace.slices
    if trace.copy is not None:
        slices = slices.copy()
        written = trace.slices[:, 2]
        slices[:, 3] = np.maximum(written // 2**20, (written > 0).astype(np.int64))
    return long_write(slices, trace.elapsed_ns)


def long_write(slices: npt.NDArray[np.int64], elapsed_ns: int) -> LongWrite | None:
    """Cut a write into parts of one level, one slope or one saw-tooth.

    Parameters
    ----------
    slices : int64, shape (n, 5)
        As in `jovik.base.trace.Trace`.
    elapsed_ns : int
        Of the pass; the last slice is left out unless it is whole.

    Returns
    -------
    LongWrite or None
        None if too little was written to tell.
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
    usual = bins if regular_pauses(bins) else filled(bins, pauses_in(bins, bin_s))
    series = Series(bins, usual, np.concatenate([[0.0], np.cumsum(bins)]), bin_s)
    cuts, noise = level_cuts(usual, bin_s)
    stretches, used_cuts = _stretches(usual, cuts)
    autocorrelation = fit_autocorrelation(
        [bins[s.start : s.end] for s in stretches if s.shape is None]
    )
    parts = tuple(_part(series, s, autocorrelation) for s in stretches)
    steady = _steady(series, stretches, autocorrelation)
    return LongWrite(
        block_bytes=int(slices[:whole, 2].sum() // max(int(slices[:whole, 3].sum()), 1)),
        total_bytes=int(slices[:, 2].sum()),
        seconds=elapsed_ns / 1e9,
        parts=parts,
        falls=_falls(series, parts, used_cuts),
        would_see=_would_see(usual, stretches, noise),
        steady_from_s=steady[0] if steady is not None else None,
        steady_bytes_s=steady[1] if steady is not None else None,
        would_see_head_s=_head_bins(noise) * bin_s,
        decay=_decay(series, steady[0]) if steady is not None and not _teeth(stretches) else None,
    )


def _teeth(stretches: Sequence[Stretch]) -> bool:
    """Return True if the write ends in an alternation, whose cycles are no trend."""
    return isinstance(stretches[-1].shape, Alternation)


def _decay(series: Series, steady_from_s: float) -> Decay | None:
    """Return whether the steady end of a write still falls."""
    rates = series.true[round(steady_from_s / series.bin_s) :] / series.bin_s
    rounds = np.array_split(rates, min(STEADY_ROUNDS, max(len(rates) // SHORTEST_BINS, 1)))
    return decay([float(r.mean()) for r in rounds])


def _stretches(
    usual: npt.NDArray[np.float64], cuts: Sequence[ChangePoint]
) -> tuple[list[Stretch], dict[int, ChangePoint]]:
    """Return the write in stretches of one shape, and the cuts that are steps, by their bin."""
    edges = [0, *(c.at for c in cuts), len(usual)]
    teeth = alternation(usual, edges)
    outside = [c for c in cuts if teeth is None or not teeth.start < c.at < teeth.end]
    shapes: list[Slope | Alternation] = []
    steps: dict[int, ChangePoint] = {}
    for start, end in (
        [(0, len(usual))]
        if teeth is None
        else [
            (0, teeth.start),
            (teeth.end, len(usual)),
        ]
    ):
        inner = [c for c in outside if start < c.at < end]
        moved = [ChangePoint(c.at - start, c.first - start, c.last - start) for c in inner]
        sloping, used = slopes(usual[start:end], moved)
        shapes += [Slope(s.start + start, s.end + start, s.before, s.after) for s in sloping]
        steps |= {c.at: c for number, c in enumerate(inner) if number not in used}
        if teeth is not None and end == teeth.start:
            shapes.append(teeth)
            steps |= {c.at: c for c in outside if c.at in (teeth.start, teeth.end)}
    stretches: list[Stretch] = []
    at = 0
    for shape in [*shapes, None]:
        until = shape.start if shape is not None else len(usual)
        marks = [at, *(k for k in sorted(steps) if at < k < until), until]
        stretches += [Stretch(a, b) for a, b in pairwise(marks) if b > a]
        if shape is not None:
            stretches.append(Stretch(shape.start, shape.end, shape))
            at = shape.end
    return stretches, steps


def _would_see(usual: npt.NDArray[np.float64], stretches: Sequence[Stretch], noise: Noise) -> float:
    """Return the smallest fall that is surely found, and surely found deep enough to be a cliff."""
    count = min(len(usual), MOST_BINS)
    length = max(round(SEEN_SHARE * count), SHORTEST_BINS)
    smallest = smallest_change(noise, count, length)
    levels = [usual[s.start : s.end] for s in stretches if s.shape is None]
    rest = [p / p.mean() - 1 for p in levels if len(p) > 3 and p.mean()]
    bins = max(round(SEEN_SHARE * len(usual)), SHORTEST_BINS)
    spread = float(np.concatenate(rest).std()) if rest else noise.sigma
    # What the mean over so short a level is off by, so that a cliff may look a little less deep.
    blur = SURE_ERRORS * spread * math.sqrt(fit_autocorrelation(levels).mean_variance(bins))
    return 1 - math.exp(-max(smallest, -math.log(1 - CLIFF_FRACTION) + blur))


def _head_bins(noise: Noise) -> int:
    """Return the fewest bins in which a beginning that is a third faster is surely detected."""
    sure = HEAD_SURE * noise.sigma / math.sqrt(1 - noise.phi**2)
    return SHORTEST_HEAD_BINS if 1.5 * sure < HEAD_LOG else 4 * SHORTEST_BINS


def _part(series: Series, stretch: Stretch, autocorrelation: Autocorrelation) -> Level:
    start, end = stretch.start, stretch.end
    # The bin in which a level changes has some of both.
    first = start + (1 if start and end - start > 2 else 0)
    last = end - (1 if end < len(series.true) and end - start > 2 else 0)
    inner = series.true[first:last] / series.bin_s
    shape, level = stretch.shape, Shape.LEVEL
    rate, one, two, period = interval_within(inner, autocorrelation), None, None, None
    if isinstance(shape, Slope):
        level, one, two = Shape.SLOPE, shape.before / series.bin_s, shape.after / series.bin_s
        rate = Interval(float(inner.mean()))
    elif isinstance(shape, Alternation):
        level, one, two = Shape.ALTERNATING, shape.high / series.bin_s, shape.low / series.bin_s
        period = shape.period * series.bin_s
        rate = over_cycles(series.true / series.bin_s, start, end, shape.period)
    return Level(
        start_s=start * series.bin_s,
        end_s=end * series.bin_s,
        start_bytes=int(series.reached[start]),
        end_bytes=int(series.reached[end]),
        rate_bytes_s=rate,
        spread=float(inner.std() / rate.median) if rate.median else 0.0,
        shape=level,
        from_bytes_s=one,
        to_bytes_s=two,
        period_s=period,
    )


def cycles(start: int, end: int, period: float) -> list[tuple[int, int]]:
    """Return the whole cycles of a saw-tooth, counted from its end, in bins."""
    count = int((end - start) / period)
    marks = [round(end - k * period) for k in range(count, -1, -1)]
    return list(pairwise(marks))


def over_cycles(rates: npt.NDArray[np.float64], start: int, end: int, period: float) -> Interval:
    """Return the mean rate over whole cycles, with an interval from the means of each."""
    means = [float(rates[a:b].mean()) for a, b in cycles(start, end, period)]
    if len(means) < 2:
        return Interval(float(rates[start:end].mean()))
    middle = float(np.mean(means))
    reach = student_quantile(len(means) - 1) * float(np.std(means, ddof=1)) / math.sqrt(len(means))
    return Interval(middle, max(middle - reach, 0.0), middle + reach)


def _steady(
    series: Series, stretches: Sequence[Stretch], autocorrelation: Autocorrelation
) -> tuple[float, Interval] | None:
    """From when on the write is steady to its end, in seconds, and the mean rate from then on.

    Looked for from the beginning of each stretch, and within the last one.
    """
    rates = series.true / series.bin_s
    count = len(rates)
    last = stretches[-1]
    if isinstance(last.shape, Alternation):
        rounds = cycles(last.start, last.end, last.shape.period)
        steady = steady_from([float(rates[a:b].mean()) for a, b in rounds])
        if steady is None:
            return None
        begin = rounds[steady][0]
        rate = over_cycles(rates, begin, count, last.shape.period)
        return begin * series.bin_s, rate
    starts = [s.start for s in stretches if s.shape is None]
    for start in starts:
        if count - start < STEADY_WINDOW:
            continue
        marks = np.linspace(start, count, min(STEADY_ROUNDS, count - start) + 1).round().astype(int)
        means = [float(rates[a:b].mean()) for a, b in pairwise(marks)]
        steady = steady_from(means)
        # Anywhere but in the last stretch all of it has to be steady: it is one window.
        if steady is None or (steady and start != starts[-1]):
            continue
        begin = int(marks[steady])
        return begin * series.bin_s, interval_within(rates[begin:], autocorrelation)
    return None


def _falls(
    series: Series, parts: Sequence[Level], steps: dict[int, ChangePoint]
) -> tuple[RateDrop, ...]:
    """Return every step down, with the best level before it."""
    falls = []
    best = 0.0
    for before, after in pairwise(parts):
        one = _at_end(before)
        # What a decline has lost is no part of the step after it.
        declined = before.shape is Shape.SLOPE and one < (before.from_bytes_s or 0.0)
        best = one if declined else max(best, one, before.from_bytes_s or 0.0)
        cut = steps.get(round(after.start_s / series.bin_s))
        two = after.rate_bytes_s.median
        # What begins to alternate, or to slope, has not fallen where it still reaches its level.
        reached = after.from_bytes_s if after.shape is not Shape.LEVEL else two
        if cut is None or reached is None or reached >= one * (1 - MATERIAL_CHANGE):
            continue
        falls.append(_fall(cut, one, reached if after.shape is Shape.SLOPE else two, best, series))
    return tuple(falls)


def _at_end(part: Level) -> float:
    """Return the rate at the end of a part."""
    if part.shape is Shape.SLOPE and part.to_bytes_s is not None:
        return part.to_bytes_s
    return part.rate_bytes_s.median


def _fall(cut: ChangePoint, before: float, after: float, best: float, series: Series) -> RateDrop:
    """Return the place of a fall, finer than a bin.

    The intersection of the lines through the bytes written on both sides.
    """
    reached, bin_s = series.reached, series.bin_s
    one, two = max(cut.at - 2, 0), min(cut.at + 2, len(reached) - 1)
    # reached[one] + before * (t - t_one) = reached[two] - after * (t_two - t)
    meet = (reached[two] - reached[one] + before * one * bin_s - after * two * bin_s) / (
        before - after
    )
    meet = min(max(meet, one * bin_s), two * bin_s)
    at = reached[one] + before * (meet - one * bin_s)
    low, high = reached[max(cut.first - 1, 0)], reached[min(cut.last + 1, len(reached) - 1)]
    return RateDrop(round(at), meet, round(min(low, at)), round(max(high, at)), before, after, best)
