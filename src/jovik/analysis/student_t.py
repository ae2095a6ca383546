"""Student's t: its distribution and its quantiles, for any positive degrees of freedom.

The upper tail is half an incomplete beta function (Abramowitz and Stegun, 26.7.1 and 26.5.27), by
its continued fraction (NIST Digital Library of Mathematical Functions, 8.17.22) in Lentz's form.
Beyond `EXACT_FREEDOM` degrees of freedom quantiles are those of Cornish and Fisher (ibid., 26.7.5).
"""

from __future__ import annotations

import math
from functools import lru_cache
from statistics import NormalDist
from typing import Any

import numpy as np
import numpy.typing as npt

Values = npt.NDArray[np.float64]

EXACT_FREEDOM = 2000.0
"""Degrees of freedom from which on the expansion is exact to ten digits."""
LEAST = 0.5
"""Quantiles diverge for fewer degrees of freedom, so that this number is used instead."""
MOST_TERMS, MOST_STEPS = 1000, 50
CLOSE = 1e-12
TINY = 1e-300
NODES = 400
"""Points between which the quantiles of many are interpolated, evenly in the logarithm."""


def _log_constant(freedom: float) -> float:
    """Return the logarithm of Gamma((f + 1) / 2) / (sqrt(pi) Gamma(f / 2))."""
    return math.lgamma((freedom + 1) / 2) - math.lgamma(freedom / 2) - math.log(math.pi) / 2


def _fraction(x: float, a: float, b: float) -> float:
    """Return continued fraction of the incomplete beta function, which converges for small `x`."""
    c, d = 1.0, 1 / ((1 - (a + b) * x / (a + 1)) or TINY)
    out = d
    for m in range(1, MOST_TERMS):
        before = out
        even = m * (b - m) * x / ((a + 2 * m - 1) * (a + 2 * m))
        odd = -(a + m) * (a + b + m) * x / ((a + 2 * m) * (a + 2 * m + 1))
        for term in (even, odd):
            d = 1 / ((1 + term * d) or TINY)
            c = (1 + term / c) or TINY
            out *= c * d
        if abs(out - before) < 1e-15 * out:
            break
    return out


def _upper_tail(t: float, freedom: float) -> float:
    """Return the probability of more than `t`, for `t` above zero."""
    a, b = freedom / 2, 0.5
    ratio = t * t / freedom
    x, rest = 1 / (1 + ratio), ratio / (1 + ratio)
    front = math.exp(_log_constant(freedom) - a * math.log1p(ratio) + b * math.log(rest))
    if x < (a + 1) / (a + b + 2):
        return front / a * _fraction(x, a, b) / 2
    return (1 - front / b * _fraction(rest, b, a)) / 2


def _expansion(freedom: Any, z: float) -> Any:
    """Return quantile for many degrees of freedom, one number or an array, from the normal `z`."""
    z2 = z * z
    terms = (
        z,
        z * (z2 + 1) / 4,
        z * ((5 * z2 + 16) * z2 + 3) / 96,
        z * (((3 * z2 + 19) * z2 + 17) * z2 - 15) / 384,
        z * ((((79 * z2 + 776) * z2 + 1482) * z2 - 1920) * z2 - 945) / 92160,
    )
    return sum(term / freedom**power for power, term in enumerate(terms))


@lru_cache(maxsize=65536)
def quantile(freedom: float, share: float) -> float:
    """Return the quantile of Student's t for the probability `share`, above one half."""
    freedom = max(freedom, LEAST)
    z = NormalDist().inv_cdf(share)
    if freedom >= EXACT_FREEDOM:
        return float(_expansion(freedom, z))
    log_constant, wanted = _log_constant(freedom), math.log(1 - share)
    begin = _expansion(freedom, z) if freedom > 2 else z * (1 + (z * z + 1) / (4 * freedom))
    x = math.log(begin)
    for _ in range(MOST_STEPS):
        t = math.exp(x)
        tail = _upper_tail(t, freedom)
        log_density = (
            log_constant - math.log(freedom) / 2 - (freedom + 1) / 2 * math.log1p(t * t / freedom)
        )
        # Newton's step for the logarithm of the tail over that of t: nearly a line where tails are
        # heavy.
        step = (math.log(tail) - wanted) * tail / math.exp(log_density + x)
        x += min(max(step, -1.0), 20.0)
        if abs(step) < CLOSE:
            break
    return math.exp(x)


def quantiles(freedom: Values, share: float) -> Values:
    """Return many quantiles at once, within 1 in 1,000 of their size, in any shape."""
    f = np.maximum(freedom, LEAST)
    if f.size <= NODES:
        values = [quantile(v, share) for v in f.ravel().tolist()]
        return np.reshape(np.array(values, dtype=np.float64), f.shape)
    out = np.asarray(_expansion(f, NormalDist().inv_cdf(share)), dtype=np.float64)
    few = f < EXACT_FREEDOM
    if few.any():
        nodes = np.geomspace(float(f.min()), EXACT_FREEDOM, NODES)
        known = np.array([quantile(v, share) for v in nodes.tolist()])
        out[few] = np.exp(np.interp(np.log(f[few]), np.log(nodes), np.log(known)))
    return out


def distribution(freedom: float, t: float) -> float:
    """Return the probability of at most `t`."""
    if t == 0:
        return 0.5
    tail = _upper_tail(abs(t), freedom)
    return tail if t < 0 else 1 - tail
