"""Drives measured at the same moment against each alone."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from jovik.analysis.statistics import interval, ratio
from jovik.base.interval import Interval
from jovik.base.step_result import StepResult

HOLDS_BACK = 0.95
"""Share of what it does alone below which a drive is said to be held back, with its interval."""


@dataclass(frozen=True)
class TogetherFigure:
    """A step of one target: alone, together with the others, and what share is left."""

    target: str
    phrase: str
    alone: Interval
    together: Interval
    share: Interval

    @property
    def held_back(self) -> bool:
        """Whether it surely does less together than alone."""
        return self.share.high is not None and self.share.high < HOLDS_BACK


def together_figures(
    alone: Mapping[str, Sequence[StepResult]], together: Mapping[str, Sequence[StepResult]]
) -> list[TogetherFigure]:
    """Each step that a target has both ways, step by step.

    Parameters
    ----------
    alone, together : mapping from target to its results
    """
    found: list[TogetherFigure] = []
    for target, results in together.items():
        by_phrase = {r.phrase: r for r in alone.get(target, ())}
        for r in results:
            before = by_phrase.get(r.phrase)
            if before is None:
                continue
            one, two = ([p.rate_bytes_s for p in x.passes] for x in (before, r))
            share = ratio(two, one) if min(*one, *two) > 0 else Interval(0.0)
            found.append(TogetherFigure(target, r.phrase, interval(one), interval(two), share))
    order = list(dict.fromkeys(f.phrase for f in found))
    return sorted(found, key=lambda f: order.index(f.phrase))
