"""Looking after each pass whether a claim is settled, without erring more often for looking.

A test at 5 % that is repeated after each pass errs far more often than in 5 % of cases. Here the
error is spent in two parts: most of it on the first verdict, from the passes that a run makes
anyway, and the rest on all looks that follow, each a Student test at one much smaller level (a
boundary constant in the p-value; Jennison and Turnbull, "Group Sequential Methods", 2000, ch. 2 and
7). The levels are found by simulation, so that everything together, to the
two-hundredth pass, errs in 2.5 % of cases a side. All passes of a sample on a rig count, in
whatever run they were made, so that settling again is only looking on.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from jovik.analysis.statistics import interval

FIRST_ERROR = 0.034
"""Two-sided level of the verdict of one run, before anything was settled."""
EACH_LOOK = 0.0018
"""Two-sided level of one look of settling: 1.5 % for all of them to `MOST_PASSES`."""
FIRST_LOOK = 5
MOST_PASSES = 200
ON_MARGIN = 0.01
"""Where the interval reaches no further and still holds the margin, the drive is on it."""


class SettlingOutcome(StrEnum):
    """How settling ended."""

    DECIDED = "settled"
    ON_MARGIN = "on the margin, within 1 %"
    UNDECIDABLE = "cannot be settled here"


@dataclass(frozen=True)
class SettlingGoal:
    """The goal of settling a claim.

    `share_per_rate` turns a rate in bytes a second into a fraction of the claim, and `least_share`
    meets it. `choice` is the number of steps of which this one is the best, and `prior` are the
    fractions of earlier passes.
    """

    share_per_rate: float
    least_share: float
    choice: int = 1
    prior: tuple[float, ...] = ()

    def outcome(self, rates_bytes_s: Sequence[float]) -> SettlingOutcome | None:
        """Return the outcome with these passes, or None to continue."""
        shares = [*self.prior, *(r * self.share_per_rate for r in rates_bytes_s)]
        if len(shares) < FIRST_LOOK or min(shares) <= 0:
            return SettlingOutcome.UNDECIDABLE if len(shares) >= MOST_PASSES else None
        figure = interval(shares, look_confidence(self.choice))
        if not figure.known:
            return None
        if not figure.holds(self.least_share):
            return SettlingOutcome.DECIDED
        if on_margin(figure.least, figure.most):
            return SettlingOutcome.ON_MARGIN
        return SettlingOutcome.UNDECIDABLE if len(shares) >= MOST_PASSES else None


def look_confidence(choice: int = 1) -> float:
    """Return the confidence of an interval that is looked at again and again."""
    return 1 - EACH_LOOK / choice


def on_margin(low: float, high: float) -> bool:
    """Return True if an interval around the margin is so narrow that no verdict matters."""
    return math.log(high / low) / 2 <= ON_MARGIN
