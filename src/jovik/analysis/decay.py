"""Whether a rate that passes the test of the steady state still falls, and towards which level."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from jovik.analysis.student_t import distribution
from jovik.base.findings import Decay

SURE = 0.01
"""How likely chance may be for a line that falls."""
NOTICEABLE = 0.02
"""A fall by less than this share over all of it is not worth a word."""
TIMES = 40
"""Time constants that are tried."""
IN_SIGHT = 1.0
"""A level is in sight if the time constant is no longer than this share of the series."""


def decay(rounds: Sequence[float]) -> Decay | None:
    """Return how a series still falls, or None if it does not surely.

    Parameters
    ----------
    rounds : sequence of float
        Rates of rounds of one length, in order; five at least.

    Notes
    -----
    The fall is that of a straight line, by its t test. The level is that of an exponential, by
    least squares over a grid of time constants (a separable problem: Golub and Pereyra, SIAM
    Journal on Numerical Analysis 1973); without a bend there is none in sight.
    """
    values = np.asarray(rounds, dtype=np.float64)
    count, mean = len(values), float(np.mean(values)) if len(rounds) else 0.0
    if count < 5 or mean <= 0:
        return None
    at = np.arange(count) - (count - 1) / 2
    tilt = float(at @ values / (at @ at))
    rest = values - mean - tilt * at
    error = math.sqrt(float(rest @ rest) / (count - 2) / float(at @ at))
    fall = -tilt * (count - 1) / mean
    p = distribution(count - 2, tilt / error) if error > 0 else 0.0
    if fall < NOTICEABLE or p > SURE / 2:
        return None
    return Decay(fall, _level(values))


def _level(values: npt.NDArray[np.float64]) -> float | None:
    """Return the level that an exponential through the series approaches, or None."""
    count = len(values)
    at = np.arange(count)
    line = float(((values - np.polyval(np.polyfit(at, values, 1), at)) ** 2).sum())
    best: tuple[float, float, float] | None = None
    for time in np.geomspace(1, 3 * count, TIMES):
        shape = np.exp(-at / time)
        design = np.column_stack([np.ones(count), shape])
        (level, height), *_ = np.linalg.lstsq(design, values, rcond=None)
        left = float(((values - design @ (level, height)) ** 2).sum())
        if height > 0 and (best is None or left < best[0]):
            best = left, float(time), float(level)
    if best is None or best[1] > IN_SIGHT * count or best[2] <= 0 or best[0] > BEND * line:
        return None
    return best[2]


BEND = 0.9
"""What an exponential leaves of the squares that a line leaves, at most, to be a bend."""
