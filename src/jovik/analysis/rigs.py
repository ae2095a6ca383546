"""A slow port, cable or machine is not to be blamed on the drive: what the same unit reached on another rig counts in its favour."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from jovik.analysis.agreement import ALIKE
from jovik.analysis.judge import Judgement, Verdict, measured
from jovik.results import Interval, Limit, StepResult
from jovik.sheet import Claim


def across_rigs(judgements: Sequence[Judgement], others: Sequence[StepResult]) -> list[Judgement]:
    """The same judgements, where a claim that fell short on one rig is held back by it if the same unit did clearly better on another.

    Parameters
    ----------
    others : sequence of StepResult
        Of the same drive, from any rig and time.
    """
    return [_held(j, others) if j.verdict is Verdict.SHORT and not j.claim.sustained else j for j in judgements]


def _held(j: Judgement, others: Sequence[StepResult]) -> Judgement:
    step, here = j.step, j.measured
    if step is None or here is None or step.conditions.unit is None or step.conditions.rig is None:
        return j
    better = []
    for other in others:
        there = other.conditions
        same = other.kind == step.kind and there.unit == step.conditions.unit and not step.conditions.differences(there)
        if same and there.rig not in (None, step.conditions.rig) and _clearly_better(j.claim, measured(j.claim, other), here):
            better.append(other)
    if not better:
        return j
    best = better[-1]
    reached = j.claim.shown(measured(j.claim, best).median)
    why = (
        f"the same unit reached {reached} on rig '{best.conditions.rig}' (run {best.run}); here, on '{step.conditions.rig}', suspect the port, "
        "the cable or the machine, or a drive that has got worse since: measure it there again"
    )
    rate = sorted(p.rate_bytes_s for p in step.passes)[len(step.passes) // 2]
    return replace(j, verdict=Verdict.HELD, why="; ".join(x for x in (j.why, why) if x), limit=Limit("rig", rate, why))


def _clearly_better(claim: Claim, there: Interval, here: Interval) -> bool:
    """Whether one interval lies on the good side of the other, by more than what tells the same story."""
    if there.low is None or there.high is None or here.low is None or here.high is None:
        return False
    if claim.lower_is_better:
        return there.high < here.low and there.median < (1 - ALIKE) * here.median
    return there.low > here.high and here.median < (1 - ALIKE) * there.median
