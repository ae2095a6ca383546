"""When to stop repeating a step."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from jovik.analysis.settling import SettlingGoal
from jovik.analysis.statistics import interval

FEWEST_PASSES = 3
"""With fewer, an interval is of little use: Student's quantile for two passes is 12.7."""
FEWEST_TO_STOP_EARLY = 5
"""Stopping once an interval is narrow picks those that look narrow by chance.

From three passes on, intervals then hold the truth in 92 % of cases, from five on in 94 % (by
simulation, tests/truth).
"""


@dataclass(frozen=True)
class TimeAllowance:
    """The time a step may take.

    Its share of a budget, and all that is left of it, which the first few passes may use.
    """

    share_ns: int
    all_ns: int


@dataclass(frozen=True)
class RepetitionPolicy:
    """Minimum and maximum passes, and their goal.

    The half width of the interval, or the verdict on a claim.
    """

    least: int = 5
    most: int = 5
    precision: float | None = None
    goal: SettlingGoal | None = None

    def verdict(
        self, rates: Sequence[float], spent_ns: int, allowed: TimeAllowance | None
    ) -> str | None:
        """Return None to continue, or the reason to stop, which is empty after all passes.

        Parameters
        ----------
        rates : sequence of float
            Of the passes made, at least one.
        spent_ns : int
            Time this step has taken.
        allowed : TimeAllowance, optional
            Time it may take.
        """
        count = len(rates)
        passes = f"{count} {'pass' if count == 1 else 'passes'}"
        if self.goal is not None:
            outcome = self.goal.outcome(rates)
            if outcome is not None:
                return f"stopped after {passes}: {outcome}"
            if count >= self.most:
                return f"stopped after {passes}: not settled yet"
        if count >= self.least and self.precision is not None:
            half = interval(rates).half_width
            if half is not None and half <= self.precision:
                return (
                    f"stopped after {passes}: the interval is within {100 * self.precision:g} "
                    "% of the figure"
                )
        if count >= self.most:
            return (
                ""
                if self.precision is None
                else f"stopped after {passes} without reaching the wanted precision of "
                f"{100 * self.precision:g} %"
            )
        if allowed is not None and spent_ns + spent_ns / count > (
            allowed.share_ns if count >= FEWEST_PASSES else allowed.all_ns
        ):
            return f"stopped after {passes}: the time budget was spent"
        return None
