"""A slow port, cable or machine is not to be blamed on the drive.

What the same unit reached on another rig counts in its favour.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from jovik.analysis.claims import ClaimVerdict, Verdict, measured
from jovik.analysis.comparability import rate_of
from jovik.analysis.consistency import ALIKE
from jovik.analysis.run_effect import FLOOR_ALONE, RunEffect, ratio_across
from jovik.analysis.statistics import ratio_interval
from jovik.base.step_result import Limit, LimitSource, StepResult


def across_rigs(
    judgements: Sequence[ClaimVerdict],
    others: Sequence[StepResult],
    effect: RunEffect = FLOOR_ALONE,
) -> list[ClaimVerdict]:
    """The same verdicts, with a claim held back by its rig where the sample did better on another.

    Parameters
    ----------
    others : sequence of StepResult
        Of the same drive, from any rig and time.
    """
    return [
        _held(j, others, effect) if j.verdict is Verdict.SHORT and not j.claim.sustained else j
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


def slowed(
    results: Sequence[StepResult],
    others: Sequence[StepResult],
    effect: RunEffect = FLOOR_ALONE,
) -> list[RigSlowdown]:
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
            if _above(other, r, effect):
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
    newest: Sequence[StepResult],
    others: Sequence[StepResult],
    effect: RunEffect = FLOOR_ALONE,
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
        better = [o for o in same_sample_other_rigs(r, others) if _above(o, r, effect)]
        found.append(better[-1] if better else r)
    return found


def _held(j: ClaimVerdict, others: Sequence[StepResult], effect: RunEffect) -> ClaimVerdict:
    step, here = j.step, j.measured
    if step is None or here is None:
        return j
    better = [o for o in same_sample_other_rigs(step, others) if _above(o, step, effect)]
    if not better:
        return j
    best = better[-1]
    reached = j.claim.shown(measured(j.claim, best).median)
    why = f"the same unit reached {reached} on rig '{best.conditions.rig}' (run {best.run})"
    limit = Limit(LimitSource.RIG, rate_of(step).median, why)
    return replace(
        j, verdict=Verdict.HELD, why="; ".join(x for x in (j.why, why) if x), limit=limit
    )


def _above(one: StepResult, two: StepResult, effect: RunEffect) -> bool:
    """Whether one result is surely above another of its kind, by more than the tolerance.

    Each is of a run of its own, and runs differ by more than their passes tell.
    """
    if not (_has_rate(one) and _has_rate(two)):
        return False
    times = ratio_interval(ratio_across(one, two, effect))
    return times.low is not None and times.low > 1 and times.median > 1 / (1 - ALIKE)


def _has_rate(result: StepResult) -> bool:
    return bool(result.passes) and all(p.rate_bytes_s > 0 for p in result.passes)
