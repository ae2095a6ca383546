"""Where a series changes its level.

Penalised least squares over every way to cut it, with the noise's own memory counted.

Sources: Killick, Fearnhead and Eckley, "Optimal detection of changepoints with a linear
computational cost" (JASA 2012) for the optimal partition; Chakar, Lebarbier, Levy-Leduc and Robin,
"A robust approach for estimating change-points in the mean of an AR(1) process" (Bernoulli 2017)
for the noise, whose memory is read from medians of differences, which a change cannot spoil; Zhang
and Siegmund, "A modified Bayes information criterion" (Biometrics 2007) for the price of a cut, 3
log n.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from jovik.analysis.running_median import running_median

LEAST_NOISE = 1e-4
"""Noise of the logarithm is taken to be no smaller.

A change of a hundredth of a percent interests nobody.
"""
OUTLIER_DEVIATIONS = 4.0
"""A value so many standard deviations from the running median of five is pulled in.

One slow slice is no change of level.
"""
FIRST_PRICE = 6.0
"""How much dearer a cut is in the first round, which is only after the large changes."""
REGION_COST = 2 * math.log(20)
"""Cost above the best cut's, in noise variances, up to which a place is in the 95 % region."""


PRUNE_EVERY = 16
"""Starts that can no longer win are dropped after so many values: it costs more than to keep them.
"""


Places = int | npt.NDArray[np.int64]


@dataclass(frozen=True)
class Noise:
    """Noise of a series: standard deviation of its innovations and AR(1) correlation."""

    sigma: float
    phi: float

    @property
    def price(self) -> float:
        """Return the least variance there is to be had, as the unit of all costs."""
        return self.sigma**2


@dataclass(frozen=True)
class ChangePoint:
    """The level changes between values ``at - 1`` and ``at``.

    With 95 % the place is from `first` to `last`.
    """

    at: int
    first: int
    last: int


@dataclass(frozen=True)
class Sums:
    """Running sums of a series and of its squares, each with a zero before.

    The cost of any stretch is then a difference.
    """

    plain: npt.NDArray[np.float64]
    squared: npt.NDArray[np.float64]


def noise_of(series: npt.NDArray[np.float64]) -> Noise:
    """Return the noise of a series whose level may change now and then."""
    if len(series) < 4:
        return Noise(LEAST_NOISE, 0.0)
    one, two = (float(np.median(np.abs(series[k:] - series[:-k]))) for k in (1, 2))
    phi = min(max(two * two / (one * one) - 1, 0.0), 0.98) if one > 0 else 0.0
    # The median of |x| of a normal is 0.6745 sigma; a difference of neighbours has variance 2
    # sigma_y^2 (1 - phi).
    spread = one / 0.6745 / math.sqrt(2 * (1 - phi))
    return Noise(max(spread * math.sqrt(1 - phi * phi), LEAST_NOISE), phi)


def change_points(
    series: npt.NDArray[np.float64], shortest: int
) -> tuple[list[ChangePoint], Noise]:
    """Return every change of level of a series, in order.

    Parameters
    ----------
    series : float array, shape (n,)
        Logarithms of rates; up to a few thousand values, since the time taken grows with n squared.
    shortest : int
        The least number of values between two changes.
    """
    noise = noise_of(series)
    n = len(series)
    if n < 2 * shortest + 1:
        return [], noise
    middle = running_median(series, 5, "edge")

    def cut(noise: Noise, price: float) -> tuple[Sums, list[int]]:
        reach = OUTLIER_DEVIATIONS * noise.sigma / math.sqrt(1 - noise.phi**2)
        tame = np.clip(series, middle - reach, middle + reach)
        # Without its memory the series is white; a change of level by d is one by (1 - phi) d in
        # it.
        white = tame[1:] - noise.phi * tame[:-1]
        sums = Sums(*(np.concatenate([[0.0], np.cumsum(x)]) for x in (white, white * white)))
        return sums, _partition(sums, shortest, price * 3 * math.log(n) * noise.price)

    # The medians are safe and rough. With the large changes cut away, all of the series tells its
    # noise better.
    noise = _noise_within(series, cut(noise, FIRST_PRICE)[1], noise)
    sums, ends = cut(noise, 1.0)
    edges = [0, *ends, n - 1]
    cuts = []
    for before, at, after in zip(edges, edges[1:-1], edges[2:], strict=False):
        places = np.arange(before + 2, after - 1)
        costs = _cost(sums, before, places) + _cost(sums, places, after)
        likely = places[costs <= costs[at - before - 2] + REGION_COST * noise.price]
        exact = _exact(series, before + 1 if before else 0, at + 1, after + 1)
        cuts.append(
            ChangePoint(exact, min(int(likely[0]) + 1, exact), max(int(likely[-1]) + 1, exact))
        )
    return cuts, noise


def _exact(series: npt.NDArray[np.float64], start: int, at: int, end: int) -> int:
    """Return the place of a cut to the value.

    Leaving the first of each part out of its cost has left that open by one or two.
    """
    low, high = max(at - 2, start + 1), min(at + 2, end - 1)
    before, after = float(np.median(series[start:low])), float(np.median(series[high:end]))
    costs = [
        float(np.sum((series[low:k] - before) ** 2) + np.sum((series[k:high] - after) ** 2))
        for k in range(low, high + 1)
    ]
    return low + int(np.argmin(costs))


def _noise_within(series: npt.NDArray[np.float64], ends: list[int], rough: Noise) -> Noise:
    """Return the noise about the levels between these cuts, outliers pulled in.

    Never less than the rough estimate would allow for.
    """
    parts = [p for p in np.split(series, [e + 1 for e in ends]) if len(p) > 3]
    reach = OUTLIER_DEVIATIONS * rough.sigma / math.sqrt(1 - rough.phi**2)
    rest = [np.clip(p - np.median(p), -reach, reach) for p in parts]
    products = sum(float(np.dot(r[1:], r[:-1])) for r in rest)
    squares = sum(float(np.dot(r, r)) for r in rest)
    if squares <= 0:
        return rough
    phi = min(max(products / squares, 0.0), 0.98)
    variance = squares / sum(map(len, rest))
    return Noise(max(math.sqrt(variance * (1 - phi * phi)), LEAST_NOISE), phi)


def _cost(sums: Sums, start: Places, end: Places) -> npt.NDArray[np.float64]:
    """Sum of squares about the mean of ``[start, end)``, its first value left out.

    With memory, that one has some of the level before.
    """
    first = start + 1
    total = sums.plain[end] - sums.plain[first]
    cost: npt.NDArray[np.float64] = (
        sums.squared[end] - sums.squared[first] - total * total / (end - first)
    )
    return cost


def _partition(sums: Sums, shortest: int, price: float) -> list[int]:
    """Return the cuts of the cheapest partition.

    Least squares within its parts, and a price for each cut.
    """
    n = len(sums.plain) - 1
    best = np.full(n + 1, np.inf)
    best[0] = -price
    came = np.zeros(n + 1, np.int64)
    # Of each start that may still be the last cut: its place, the best cost up to it, and the sums
    # before its part, gathered once. What is no longer open is dropped now and then, all at once.
    starts = np.zeros(n + 1, np.int64)
    before = np.zeros((3, n + 1))
    count = 0
    for end in range(shortest, n + 1):
        new = end - shortest
        starts[count] = new
        before[:, count] = best[new], sums.plain[new + 1], sums.squared[new + 1]
        count += 1
        cheapest, plain, squared = before[:, :count]
        total = sums.plain[end] - plain
        costs = sums.squared[end] - squared - total * total / (end - 1 - starts[:count])
        costs += cheapest
        chosen = int(costs.argmin())
        best[end] = costs[chosen] + price
        came[end] = starts[chosen]
        if end % PRUNE_EVERY == 0:
            # What is dearer now without a cut than the best with one never becomes the cheapest
            # again (Killick et al., theorem 3.1).
            candidates = np.flatnonzero(costs <= best[end])
            starts[: len(candidates)] = starts[candidates]
            before[:, : len(candidates)] = before[:, candidates]
            count = len(candidates)
    ends = []
    at = n
    while at > 0:
        at = int(came[at])
        if at > 0:
            ends.append(at)
    return ends[::-1]


def smallest_change(noise: Noise, n: int, length: int) -> float:
    """Return smallest step, as a log ratio, surely found when it lasts `length` of `n` values."""
    return (
        noise.sigma * math.sqrt(2 * 3 * math.log(n) / (length * (1 - length / n))) / (1 - noise.phi)
    )
