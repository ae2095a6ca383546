"""A slow port, cable or machine is not to be blamed on the drive: what the same unit reached on another rig counts in its favour."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from jovik.analysis.claims import Judgement, Verdict, measured
from jovik.analysis.comparability import rate_of
from jovik.analysis.consistency import ALIKE
from jovik.base.step_result import Interval, Limit, StepResult
from jovik.sheets.sheet import Claim


def across_rigs(judgements: Sequence[Judgement], others: Sequence[StepResult]) -> list[Judgement]:
    """The same judgements, where a claim that fell short on one rig is held back by it if the same unit did clearly better on another.

    Parameters
    ----------
    others : sequence of StepResult
        Of the same drive, from any rig and time.
    """
    return [_held(j, others) if j.verdict is Verdict.SHORT and not j.claim.sustained else j for j in judgements]


@dataclass(frozen=True)
class Slowed:
    """A drive whose newest figures are of a rig on which its unit did clearly less than on another one, and in which kinds of step."""

    drive: str
    unit: str
    rig: str
    better_rig: str
    kinds: tuple[str, ...]


def slowed(results: Sequence[StepResult], others: Sequence[StepResult]) -> list[Slowed]:
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
        for other in elsewhere(r, by_kind.get((r.drive, r.kind, here.unit), [])):
            if _above(rate_of(other), rate_of(r)):
                found.setdefault((r.drive, str(here.unit), str(here.rig), str(other.conditions.rig)), []).append(r.kind)
    return [Slowed(*key, tuple(kinds)) for key, kinds in found.items()]


def elsewhere(r: StepResult, others: Sequence[StepResult]) -> list[StepResult]:
    """Of these results of the same drive those of the same unit and step that may be compared, from another rig; none where either is not known."""
    here = r.conditions
    if here.unit is None or here.rig is None:
        return []
    return [
        o for o in others
        if (o.kind, o.conditions.unit) == (r.kind, here.unit) and o.conditions.rig not in (None, here.rig) and not here.differences(o.conditions)
    ]  # fmt: skip


def at_their_best(newest: Sequence[StepResult], others: Sequence[StepResult]) -> list[StepResult]:
    """The same results, but from another rig where the unit did clearly better there: what a sample can do is not for a cable to say.

    Parameters
    ----------
    others : sequence of StepResult
        Of the same drive on any rig, oldest first.
    """
    found = []
    for r in newest:
        better = [o for o in elsewhere(r, others) if _above(rate_of(o), rate_of(r))]
        found.append(better[-1] if better else r)
    return found


def _held(j: Judgement, others: Sequence[StepResult]) -> Judgement:
    step, here = j.step, j.measured
    if step is None or here is None:
        return j
    better = [o for o in elsewhere(step, others) if _clearly_better(j.claim, measured(j.claim, o), here)]
    if not better:
        return j
    best = better[-1]
    reached = j.claim.shown(measured(j.claim, best).median)
    why = f"the same unit reached {reached} on rig '{best.conditions.rig}' (run {best.run})"
    limit = Limit("rig", rate_of(step).median, why)
    return replace(j, verdict=Verdict.HELD, why="; ".join(x for x in (j.why, why) if x), limit=limit)


def _clearly_better(claim: Claim, there: Interval, here: Interval) -> bool:
    """Whether one interval lies on the good side of the other, by more than what tells the same story."""
    return _above(here, there) if claim.lower_is_better else _above(there, here)


def _above(one: Interval, two: Interval) -> bool:
    """Whether the whole of one interval lies above the other, and the figures are further apart than what tells the same story."""
    if one.low is None or two.high is None:
        return False
    return one.low > two.high and two.median < (1 - ALIKE) * one.median
