"""A slow port, cable or machine is not to be blamed on the drive.

A better result of the same sample on another rig counts in its favour.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import ClassVar

from jovik.analysis.claims import ClaimVerdict, Verdict, judge_claims
from jovik.analysis.consistency import AGREEING_FRACTION
from jovik.analysis.run_effect import FLOOR_ALONE, RunEffect, ratio_across
from jovik.analysis.statistics import ratio_interval
from jovik.analysis.step_result import StepResult


def across_rigs(
    verdicts: Sequence[ClaimVerdict], others: Sequence[StepResult], margin: float
) -> list[ClaimVerdict]:
    """Return the same verdicts, each claim decided on the rig on which the sample showed most.

    What a sample can do is not for a cable to say. The best of several rigs is a choice, and is
    paid for as that among steps is.

    Parameters
    ----------
    others : sequence of StepResult
        Of the same drive, from any rig and time, the newest last.
    """
    return [_on_its_best_rig(j, others, margin) for j in verdicts]


def _on_its_best_rig(j: ClaimVerdict, others: Sequence[StepResult], margin: float) -> ClaimVerdict:
    if j.step is None or j.share is None or j.claim.sustained:
        return j
    here = j.step.conditions
    if here.sample is None or here.rig is None or j.verdict in (Verdict.MET, Verdict.BEATEN):
        return j
    rigs: dict[str, dict[str, StepResult]] = {}
    for o in others:
        conditions = o.conditions
        if (conditions.sample, conditions.firmware) == (
            here.sample,
            here.firmware,
        ) and conditions.rig is not None:
            rigs.setdefault(conditions.rig, {})[o.kind] = o
    on_best = [
        (rig, judge_claims([j.claim], list(of_kind.values()), margin, others, len(rigs))[0])
        for rig, of_kind in rigs.items()
    ]
    better = [(rig, x) for rig, x in on_best if x.share is not None and _does_more(x, j)]
    if not better:
        return j
    rig, best = max(better, key=lambda pair: _turned(pair[1]))
    assert j.measured is not None and best.step is not None
    why = f"on rig '{rig}' (run {best.step.run})"
    if rig != here.rig:
        only = j.claim.shown(j.measured.median)
        why += f"; on rig '{here.rig}' the same sample did only {only}"
    return replace(best, why="; ".join(x for x in (best.why, why) if x))


def _turned(j: ClaimVerdict) -> float:
    """Measured over claimed, larger being better."""
    share = j.share.median if j.share is not None else 0.0
    return 1 / share if j.claim.lower_is_better and share else share


def _does_more(one: ClaimVerdict, two: ClaimVerdict) -> bool:
    """Return True if one verdict's figure is better by more than the tolerance."""
    return _turned(two) < (1 - AGREEING_FRACTION) * _turned(one)


@dataclass(frozen=True)
class RigSlowdown:
    """A drive whose newest results are from a rig on which its sample is clearly slower."""

    drive: str
    sample: str
    rig: str
    better_rig: str
    kinds: tuple[str, ...]

    JSON_DERIVED: ClassVar[tuple[str, ...]] = ("unit",)

    @property
    def unit(self) -> str:
        """Return the sample by the key of earlier documents."""
        return self.sample


def slowed(
    results: Sequence[StepResult],
    others: Sequence[StepResult],
    effect: RunEffect = FLOOR_ALONE,
) -> list[RigSlowdown]:
    """Return the rigs that a ranking of these results should warn about.

    Parameters
    ----------
    others : sequence of StepResult
        Of the same drives on any rig.
    """
    by_kind: dict[tuple[str, str, str | None], list[StepResult]] = {}
    for other in others:
        by_kind.setdefault((other.drive, other.kind, other.conditions.sample), []).append(other)
    slow: dict[tuple[str, str, str, str], list[str]] = {}
    for r in results:
        here = r.conditions
        for other in same_sample_other_rigs(r, by_kind.get((r.drive, r.kind, here.sample), [])):
            if _above(other, r, effect):
                slow.setdefault(
                    (r.drive, str(here.sample), str(here.rig), str(other.conditions.rig)), []
                ).append(r.kind)
    return [RigSlowdown(*key, tuple(kinds)) for key, kinds in slow.items()]


def same_sample_other_rigs(r: StepResult, others: Sequence[StepResult]) -> list[StepResult]:
    """Return comparable results of the same sample and step from another rig."""
    here = r.conditions
    if here.sample is None or here.rig is None:
        return []
    return [
        o
        for o in others
        if (o.kind, o.conditions.sample) == (r.kind, here.sample)
        and o.conditions.rig not in (None, here.rig)
        # Another firmware is another drive, and no fault of the rig.
        and o.conditions.firmware == here.firmware
        and not here.differences(o.conditions)
    ]


def best_across_rigs(
    newest: Sequence[StepResult],
    others: Sequence[StepResult],
    effect: RunEffect = FLOOR_ALONE,
) -> list[StepResult]:
    """Return the same results, but from another rig where the sample did clearly better there.

    A cable does not determine the ability of a sample.

    Parameters
    ----------
    others : sequence of StepResult
        Of the same drive on any rig, oldest first.
    """
    best = []
    for r in newest:
        better = [o for o in same_sample_other_rigs(r, others) if _above(o, r, effect)]
        best.append(better[-1] if better else r)
    return best


def _above(one: StepResult, two: StepResult, effect: RunEffect) -> bool:
    """Return True if one result is surely above another of its kind, by more than the tolerance.

    Each is of a run of its own, and runs differ by more than their passes tell.
    """
    if not (_has_rate(one) and _has_rate(two)):
        return False
    times = ratio_interval(ratio_across(one, two, effect))
    return times.above(1) and times.median > 1 / (1 - AGREEING_FRACTION)


def _has_rate(result: StepResult) -> bool:
    return bool(result.passes) and all(p.rate_bytes_s > 0 for p in result.passes)
