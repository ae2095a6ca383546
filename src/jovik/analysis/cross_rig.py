"""A slow port, cable or machine is not to be blamed on the drive.

What the same unit reached on another rig counts in its favour.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from jovik.analysis.claims import ClaimVerdict, Verdict, measured
from jovik.analysis.comparability import rate_of
from jovik.analysis.consistency import ALIKE
from jovik.base.interval import Interval
from jovik.base.step_result import Limit, LimitSource, StepResult
from jovik.sheets.sheet import Claim


def across_rigs(
    judgements: Sequence[ClaimVerdict], others: Sequence[StepResult]
) -> list[ClaimVerdict]:
    """The same verdicts, with a claim held back by its rig where the sample did better on another.

    Parameters
    ----------
    others : sequence of StepResult
        Of the same drive, from any rig and time.
    """
    return [
        _held(j, others) if j.verdict is Verdict.SHORT and not j.claim.sustained else j
        for j in judgements
    ]


@dataclass(frozen=True)
class RigSlowdown:
    """A drive whose newest results are from a rig on which its sample is clearly slower."""

    drive: str
    unit: str
    rig: str
    better_rig: str
    kinds: tuple[str, ...]


def slowed(results: Sequence[StepResult], others: Sequence[StepResult]) -> list[RigSlowdown]:
    """What a ranking of these results should say of the rigs that they are of.

    Parameters
    ----------
    others : sequence of StepResult
        Of the same drives on any rig.
    """
    by_kind: dict[tuple[str, str, str | None], list[StepResult]] = {}
    for other in others:
        by_kind.setdefault((other.drive, other.kind, other.conditions.unit), []).append(other)
    found: dict[tuple[str, str, str, str], list[str]] = {}
    for r in results:
        here = r.conditions
        for other in same_sample_other_rigs(r, by_kind.get((r.drive, r.kind, here.unit), [])):
            if _above(rate_of(other), rate_of(r)):
                found.setdefault(
                    (r.drive, str(here.unit), str(here.rig), str(other.conditions.rig)), []
                ).append(r.kind)
    return [RigSlowdown(*key, tuple(kinds)) for key, kinds in found.items()]


def same_sample_other_rigs(r: StepResult, others: Sequence[StepResult]) -> list[StepResult]:
    """Comparable results of the same sample and step from another rig."""
    here = r.conditions
    if here.unit is None or here.rig is None:
        return []
    return [
        o
        for o in others
        if (o.kind, o.conditions.unit) == (r.kind, here.unit)
        and o.conditions.rig not in (None, here.rig)
        and not here.differences(o.conditions)
    ]


def best_across_rigs(
    newest: Sequence[StepResult], others: Sequence[StepResult]
) -> list[StepResult]:
    """The same results, but from another rig where the unit did clearly better there.

    What a sample can do is not for a cable to say.

    Parameters
    ----------
    others : sequence of StepResult
        Of the same drive on any rig, oldest first.
    """
    found = []
    for r in newest:
        better = [o for o in same_sample_other_rigs(r, others) if _above(rate_of(o), rate_of(r))]
        found.append(better[-1] if better else r)
    return found


def _held(j: ClaimVerdict, others: Sequence[StepResult]) -> ClaimVerdict:
    step, here = j.step, j.measured
    if step is None or here is None:
        return j
    better = [
        o
        for o in same_sample_other_rigs(step, others)
        if _clearly_better(j.claim, measured(j.claim, o), here)
    ]
    if not better:
        return j
    best = better[-1]
    reached = j.claim.shown(measured(j.claim, best).median)
    why = f"the same unit reached {reached} on rig '{best.conditions.rig}' (run {best.run})"
    limit = Limit(LimitSource.RIG, rate_of(step).median, why)
    return replace(
        j, verdict=Verdict.HELD, why="; ".join(x for x in (j.why, why) if x), limit=limit
    )


def _clearly_better(claim: Claim, there: Interval, here: Interval) -> bool:
    """Whether one interval is clearly on the better side of the other."""
    return _above(here, there) if claim.lower_is_better else _above(there, here)


def _above(one: Interval, two: Interval) -> bool:
    """Whether one interval lies above another by more than the tolerance."""
    if one.low is None or two.high is None:
        return False
    return one.low > two.high and two.median < (1 - ALIKE) * one.median
