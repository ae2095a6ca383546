"""What settling costs, against the best plan of a fixed number of passes that errs as often."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from jovik.analysis.settling import SettlingGoal
from jovik.analysis.statistics import interval

NOISES = (0.005, 0.02, 0.05)
AWAY = (-0.10, -0.05, -0.03, -0.02, 0.02, 0.03, 0.05)
"""Where drives lie, as logs above the margin: makers' claims are beaten and missed by as much."""
TRIES = 200
FIXED = (5, 7, 10, 15, 20, 30, 40, 60, 90, 130, 200)
FIXED_CONFIDENCE = 0.95


def cost_lines() -> Iterator[str]:
    """A line for each noise: passes of settling and of the fixed plan that decides as many."""
    yield "settling: passes for each verdict reached, over drives from 10 % below to 5 % above"
    for noise in NOISES:
        spent, reached = _settled(noise)
        fixed = next((n for n in FIXED if _fixed(noise, n) >= reached), FIXED[-1])
        yield (
            f"  noise {noise:.1%}: {spent:.1f} passes on average, {reached:.0%} decided; the fixed "
            f"plan that decides as many has {fixed} ({spent / fixed:.0%})"
        )


def _settled(noise: float) -> tuple[float, float]:
    """Passes of a first look and of settling on average, and the share decided."""
    rng = np.random.default_rng(1)
    spent = decided = 0
    goal = SettlingGoal(1.0, 1.0)
    for away in AWAY:
        for _ in range(TRIES):
            rates: list[float] = []
            outcome = None
            while outcome is None:
                rates.append(math.exp(away + noise * rng.normal()))
                outcome = goal.outcome(rates)
            spent += len(rates)
            decided += str(outcome) == "settled"
    return spent / len(AWAY) / TRIES, decided / len(AWAY) / TRIES


def _fixed(noise: float, passes: int) -> float:
    """The share that a fixed number of passes decides."""
    rng = np.random.default_rng(2)
    decided = 0
    for away in AWAY:
        for _ in range(TRIES):
            found = interval(list(np.exp(away + noise * rng.normal(size=passes))), FIXED_CONFIDENCE)
            assert found.low is not None and found.high is not None
            decided += found.low > 1 or found.high < 1
    return decided / len(AWAY) / TRIES
