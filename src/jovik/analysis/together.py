"""Drives measured at the same moment against each alone."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from jovik.analysis.run_effect import ratio_across
from jovik.analysis.statistics import CONFIDENCE, interval, ratio_interval
from jovik.analysis.step_result import StepResult
from jovik.base.interval import Interval

TELLING = 2.0
"""An interval of a fraction that is this many times as high as low tells nothing."""
HOLDS_BACK = 0.95
"""Fraction of its rate alone below which a drive is held back, with its interval."""


@dataclass(frozen=True)
class TogetherFigure:
    """A step of one target: alone, together with the others, and the remaining fraction.

    The intervals of the shares hold for all of them at once (Sidak, JASA 1967).
    """

    target: str
    phrase: str
    alone: Interval
    together: Interval
    share: Interval

    @property
    def told(self) -> bool:
        """Return True if the interval of the fraction is narrow enough to tell anything."""
        return self.share.known and self.share.most < TELLING * self.share.least

    @property
    def held_back(self) -> bool:
        """Return True if it surely does less together than alone."""
        return self.share.below(HOLDS_BACK)


def together_figures(
    alone: Mapping[str, Sequence[StepResult]], together: Mapping[str, Sequence[StepResult]]
) -> list[TogetherFigure]:
    """Return each step that a target has both ways, step by step.

    Parameters
    ----------
    alone, together : mapping from target to its results
    """
    pairs = []
    for target, results in together.items():
        by_phrase = {r.phrase: r for r in alone.get(target, ())}
        pairs += [(target, by_phrase[r.phrase], r) for r in results if r.phrase in by_phrase]
    level = CONFIDENCE ** (1 / max(len(pairs), 1))
    figures: list[TogetherFigure] = []
    for target, before, r in pairs:
        one, two = ([p.rate_bytes_s for p in x.passes] for x in (before, r))
        moved = min(*one, *two) > 0
        share = ratio_interval(ratio_across(r, before), level) if moved else Interval(0.0)
        figures.append(TogetherFigure(target, r.phrase, interval(one), interval(two), share))
    order = list(dict.fromkeys(f.phrase for f in figures))
    return sorted(figures, key=lambda f: order.index(f.phrase))


def totals(together: Mapping[str, Sequence[StepResult]]) -> dict[str, Interval]:
    """Return the sum over all targets in each step, bytes a second.

    A pass of one was at the same moment as that of the others, so that passes are added up one by
    one; a step that not all made as often is left out.
    """
    sums = {}
    for phrase in dict.fromkeys(r.phrase for results in together.values() for r in results):
        of_phrase = [r for results in together.values() for r in results if r.phrase == phrase]
        if len(of_phrase) == len(together) and len({len(r.passes) for r in of_phrase}) == 1:
            passes = zip(*(r.passes for r in of_phrase), strict=True)
            sums[phrase] = interval([sum(p.rate_bytes_s for p in group) for group in passes])
    return sums
