"""A slow port, cable or machine: the same sample on several rigs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

from jovik.analysis.consistency import AGREEING_FRACTION
from jovik.analysis.run_effect import RunEffect, ratio_across
from jovik.analysis.statistics import ratio_interval
from jovik.analysis.step_result import StepResult


@dataclass(frozen=True)
class RigSlowdown:
    """A drive with newer results from a rig on which its sample is clearly slower."""

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


def surely_above(one: StepResult, two: StepResult, effect: RunEffect) -> bool:
    """Return True if one result is surely above another of its kind, by more than the tolerance.

    Each is of a run of its own, and runs differ by more than their passes tell.
    """
    if not (_has_rate(one) and _has_rate(two)):
        return False
    times = ratio_interval(ratio_across(one, two, effect))
    return times.above(1) and times.median > 1 / (1 - AGREEING_FRACTION)


def _has_rate(result: StepResult) -> bool:
    return bool(result.passes) and all(p.rate_bytes_s > 0 for p in result.passes)
