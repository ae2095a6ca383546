"""Steady state by the test of the SNIA Solid State Storage Performance Test Specification.

Over a window of rounds, no round lies more than 20 % of the window's mean away from any other, and
the line fitted through them rises or falls by no more than 10 % of the mean.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

WINDOW = 5
RANGE = 0.20
SLOPE = 0.10


def is_steady(rounds: Sequence[float]) -> bool:
    """Whether one window of rounds is steady."""
    values = np.asarray(rounds, dtype=np.float64)
    mean = float(values.mean())
    if mean <= 0:
        return False
    slope = float(np.polyfit(np.arange(len(values)), values, 1)[0])
    return bool(
        values.max() - values.min() <= RANGE * mean
        and abs(slope) * (len(values) - 1) <= SLOPE * mean
    )


def steady_from(rounds: Sequence[float]) -> int | None:
    """The first round from which on all rounds to the end pass the test as one window.

    Looking at windows of five one after the other would let a rate creep away by a little in each.
    None where even the last five do not pass.
    """
    for first in range(len(rounds) - WINDOW + 1):
        if is_steady(rounds[first:]):
            return first
    return None
