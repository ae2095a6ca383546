"""Figures with 95 % intervals from passes, and the intervals of their ratios.

There is one estimator: a figure is the median of its passes, and every ratio, lead and index is a
ratio of the figures shown. Rates are positive and their noise multiplies, so all of it happens on
logarithms: the interval is Student's on the logs of the passes, carried back (the log-normal
confidence interval of the median, see Crow and Shimizu, "Lognormal Distributions", 1988, ch. 2),
moved to the median, and as wide as the sign test asks (`sign_test_bounds`), which holds for passes
of any distribution. Repeating whole passes instead of trusting slices of one follows Kalibera and
Jones, "Rigorous Benchmarking in Reasonable Time" (ISMM 2013): what varies between passes cannot be
seen within one.
"""

from __future__ import annotations

import math
import statistics
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from jovik.analysis.autocorrelation import Autocorrelation, fit_autocorrelation
from jovik.analysis.student_t import distribution, quantile
from jovik.base.interval import Interval

CONFIDENCE = 0.95
FROM_PASSES = 5
"""Passes needed to estimate autocorrelation and trend."""
LEAST_NUMBER = 3.0
"""However much passes remember, they are taken to be worth as many independent ones."""
CHANCE_ERRORS = 0.5
"""Below so many of its standard errors an autocorrelation is left for chance."""
TREND_LEVEL = 0.01


def student_quantile(freedom: float, confidence: float = CONFIDENCE) -> float:
    """Return the two-sided quantile of Student's t, for any positive degrees of freedom."""
    return quantile(freedom, 0.5 + confidence / 2)


def variance(values: Sequence[float], mean: float) -> float:
    """Return the unbiased variance.

    The standard library's works in exact fractions, which a ranking of thousands would wait for.
    """
    return math.fsum((v - mean) ** 2 for v in values) / (len(values) - 1)


def effective_number(logs: Sequence[float]) -> float:
    """Return how many independent passes these are worth, where neighbours resemble each other.

    By their first autocorrelation, its bias for so few taken off (Marriott and Pope, "Bias in the
    estimation of autocorrelations", Biometrika 1954).
    """
    count = len(logs)
    if count < FROM_PASSES:
        return float(count)
    middle = math.fsum(logs) / count
    rest = [v - middle for v in logs]
    squares = math.fsum(r * r for r in rest)
    if squares <= 0:
        return float(count)
    first = math.fsum(a * b for a, b in pairwise(rest)) / squares
    if first * math.sqrt(count) <= CHANCE_ERRORS:
        return float(count)
    true = min((count * first + 1) / (count - 3), 0.8)
    return max(count * (1 - true) / (1 + true), LEAST_NUMBER)


def _mean_variance(logs: Sequence[float], middle: float) -> tuple[float, float]:
    """Return the variance of the mean of these logs, and its degrees of freedom."""
    number, count = effective_number(logs), len(logs)
    spread = variance(logs, middle)
    if number < count:
        # What neighbours share was taken off with the mean.
        spread *= (count - 1) / count / (1 - min(1 / number, 0.6))
    return spread / number, number - 1


@dataclass(frozen=True)
class Trend:
    """Passes that get faster or slower one after the other.

    `per_pass` is the change from one to the next as a share, `p` how likely chance is.
    """

    per_pass: float
    p: float


def trend(values: Sequence[float]) -> Trend | None:
    """Return the trend of passes, by the slope of a line through their logs.

    None if there is none.
    """
    count = len(values)
    if count < FROM_PASSES or min(values) <= 0:
        return None
    logs = [math.log(v) for v in values]
    middle, centre = math.fsum(logs) / count, (count - 1) / 2
    width = math.fsum((i - centre) ** 2 for i in range(count))
    slope = math.fsum((i - centre) * v for i, v in enumerate(logs)) / width
    rest = math.fsum((v - middle - slope * (i - centre)) ** 2 for i, v in enumerate(logs))
    error = math.sqrt(rest / (count - 2) / width)
    p = 2 * distribution(count - 2, -abs(slope) / error) if error > 0 else float(slope == 0)
    return Trend(math.expm1(slope), p) if p < TREND_LEVEL else None


def interval(values: Sequence[float], confidence: float = CONFIDENCE) -> Interval:
    """Return the median of the passes and its interval, of 95 % unless another is asked for.

    Parameters
    ----------
    values : sequence of positive floats
        One for each pass. A single one has no interval, nor have two that differ too much. A zero
        among them (a pass in which nothing completed) makes the logarithm useless, and then there
        is none either.

    Raises
    ------
    ValueError
        There are no values.
    """
    if not values:
        raise ValueError("no passes")
    if len(values) < 2 or min(values) <= 0:
        return Interval(statistics.median(values))
    found = ratio_interval(LogFigure.of(values), confidence)
    # The logarithm must not cost the median a digit.
    return Interval(statistics.median(values), found.low, found.high)


def interval_within(
    rates: npt.NDArray[np.float64], autocorrelation: Autocorrelation | None = None
) -> Interval:
    """Return the mean rate within one pass and its 95 % interval, from its time slices.

    Neighbouring slices resemble each other, so the mean is worth fewer independent slices, as the
    fitted autocorrelation says (`jovik.analysis.autocorrelation`). It does not contain differences
    between passes.

    Parameters
    ----------
    rates : float array, shape (slices,)
        Of whole slices only.
    autocorrelation : Autocorrelation, optional
        Of the series' noise, where more of it is known than these slices tell.
    """
    if len(rates) < 4:
        return Interval(float(rates.mean()) if len(rates) else 0.0)
    middle, spread = float(rates.mean()), float(rates.var(ddof=1))
    worth = (autocorrelation or fit_autocorrelation([rates])).mean_variance(len(rates))
    reach = student_quantile(max(1 / worth / 2 - 1, 3.0)) * math.sqrt(spread * worth)
    # A rate is never negative, however few slices tell it.
    return Interval(middle, max(middle - reach, 0.0), middle + reach)


MOST_FROM_TWO = math.log(2)
"""Two passes whose interval reaches further than a factor of this, to either side, give none."""


NORMAL_FROM = 1000
"""From so many values on, their signs are taken to be normal: a float has no 2 to the -1000."""


@lru_cache
def sign_test_bounds(count: int) -> tuple[int, float] | None:
    """Return where the 95 % interval of a median lies among its sorted values.

    Source: Hettmansperger and Sheather, "Confidence intervals based on interpolated order
    statistics" (Statistics and Probability Letters 4, 1986).

    Returns
    -------
    (int, float) or None
        The position k from either end, from 0, and the fraction of the way from there to k + 1.
        None for fewer than six values, of which not even the ends hold the median that often.
    """
    if count > NORMAL_FROM:
        return max(int((count - student_quantile(math.inf) * math.sqrt(count)) / 2) - 1, 0), 0.0
    missed, rank, term = 0.0, 0, 2.0 ** (1 - count)
    # The chance that more than half of all values lie beyond the next inner one, on either side.
    while missed + term <= 1 - CONFIDENCE and rank < count // 2:
        missed += term
        term *= (count - rank) / (rank + 1)
        rank += 1
    if not rank:
        return None
    between = (1 - CONFIDENCE - missed) / term
    return rank - 1, (count - rank) * between / (rank + (count - 2 * rank) * between)


@dataclass(frozen=True)
class LogFigure:
    """A figure on the log scale: the log of the median, its variance, and the freedom behind it.

    The variance is such that Student's interval around the median holds both the interval of the
    mean log and that of the sign test: passes that fall into two groups, or have outliers, have a
    median that lies off the mean.
    """

    mean: float
    variance: float
    freedom: float

    @classmethod
    def of(cls, values: Sequence[float]) -> LogFigure:
        """Return a figure from the passes of a step. One pass has no known variance."""
        median = math.log(statistics.median(values))
        if len(values) < 2:
            return cls(median, math.nan, 0.0)
        logs = sorted(map(math.log, values))
        in_order = [math.log(v) for v in values]
        mean = statistics.fmean(logs)
        spread, freedom = _mean_variance(in_order, mean)
        quantile = student_quantile(freedom)
        reach = abs(median - mean) + quantile * math.sqrt(spread)
        bounds = sign_test_bounds(len(logs))
        if bounds is not None:
            k, inward = bounds
            low = (1 - inward) * logs[k] + inward * logs[k + 1]
            high = (1 - inward) * logs[-1 - k] + inward * logs[-2 - k]
            reach = max(reach, median - low, high - median)
        if len(logs) == 2 and reach > MOST_FROM_TWO:
            return cls(median, math.nan, 0.0)
        return cls(median, (reach / quantile) ** 2, freedom)

    @property
    def known(self) -> bool:
        """Return True if the variance is known."""
        return not math.isnan(self.variance)


def combine(terms: Sequence[tuple[float, LogFigure]]) -> LogFigure:
    """Return a weighted sum of figures, with Welch-Satterthwaite degrees of freedom.

    Source: Satterthwaite, "An approximate distribution of estimates of variance components"
    (Biometrics Bulletin 2, 1946).
    """
    mean = sum(w * f.mean for w, f in terms)
    parts = [(w * w * f.variance, f.freedom) for w, f in terms]
    variance = sum(v for v, _ in parts)
    if math.isnan(variance):
        return LogFigure(mean, math.nan, 0.0)
    below = sum(v * v / df for v, df in parts if v > 0)
    return LogFigure(mean, variance, variance * variance / below if below > 0 else math.inf)


def ratio_interval(figure: LogFigure, confidence: float = CONFIDENCE) -> Interval:
    """Return a logarithm's ratio with its interval, 95 % by default."""
    middle = math.exp(figure.mean)
    if not figure.known:
        return Interval(middle)
    if figure.variance == 0:
        return Interval(middle, middle, middle)
    reach = student_quantile(figure.freedom, confidence) * math.sqrt(figure.variance)
    return Interval(middle, math.exp(figure.mean - reach), math.exp(figure.mean + reach))


def ratio(above: Sequence[float], below: Sequence[float]) -> Interval:
    """Return ratio of two steps' figures from their passes, with its interval (Welch on logs)."""
    return ratio_interval(combine([(1.0, LogFigure.of(above)), (-1.0, LogFigure.of(below))]))
