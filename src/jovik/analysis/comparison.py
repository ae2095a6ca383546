"""Changes between two selections of results: rates, conditions, and findings.

The intervals of the ratios hold for all steps at once (Sidak, "Rectangular Confidence Regions",
JASA 1967): a step among twenty that differs by chance alone is not called faster.
"""

from __future__ import annotations

import math
import statistics
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from enum import StrEnum

from jovik.analysis.comparability import differences, long_write_of, settled
from jovik.analysis.run_effect import PRIOR_ALONE, RunEffect, ratio_across
from jovik.analysis.statistics import CONFIDENCE, ratio_interval
from jovik.analysis.step_result import LimitSource, StepResult
from jovik.base.interval import Interval
from jovik.base.quantities import show_size, significant

APART_C = 5.0
"""Start temperatures that differ by more than this are reported as a condition."""
APART_PERCENT = 10.0
"""The same of fill levels, in percent of the file system."""


class Direction(StrEnum):
    """The possible statements about a step, by the interval of its ratio."""

    FASTER = "faster"
    SLOWER = "slower"
    WITHIN_NOISE = "within noise"
    UNTOLD = "one pass is not enough"


@dataclass(frozen=True)
class StepComparison:
    """One kind of step on both sides. `times` is after over before, for all steps at once."""

    kind: str
    before: StepResult
    after: StepResult
    times: Interval

    @property
    def direction(self) -> Direction:
        """Faster, slower, or neither."""
        low, high = self.times.low, self.times.high
        if low is None or high is None:
            return Direction.UNTOLD
        if low > 1:
            return Direction.FASTER
        return Direction.SLOWER if high < 1 else Direction.WITHIN_NOISE


@dataclass(frozen=True)
class ConditionChange:
    """A condition that differs: its value before and after."""

    what: str
    before: str
    after: str


class FindingKind(StrEnum):
    """The subject of a finding."""

    CLIFF = "cliff"
    PAUSES = "pauses"
    HEAT = "heat limited it"
    ERRORS = "errors"
    LOST = "lost data"


@dataclass(frozen=True)
class FindingChange:
    """A finding of a kind of step that appeared, disappeared or moved. None if there was none."""

    kind: FindingKind
    step: str
    before: str | None
    after: str | None


@dataclass(frozen=True)
class NotComparable:
    """A kind of step that both have and that cannot be compared, with the reasons."""

    kind: str
    why: tuple[str, ...]


@dataclass(frozen=True)
class Comparison:
    """The whole comparison. `only_before` and `only_after` are steps that one side lacks."""

    steps: tuple[StepComparison, ...]
    conditions: tuple[ConditionChange, ...]
    findings: tuple[FindingChange, ...]
    not_comparable: tuple[NotComparable, ...]
    only_before: tuple[str, ...]
    only_after: tuple[str, ...]

    def of(self, direction: Direction) -> list[StepComparison]:
        """Return the steps that went this way."""
        return [s for s in self.steps if s.direction is direction]


Key = tuple[str, int | None]


def compare_results(
    before: Sequence[StepResult], after: Sequence[StepResult], effect: RunEffect = PRIOR_ALONE
) -> Comparison:
    """Hold results against others, like with like.

    Parameters
    ----------
    before, after : sequence of StepResult
        At most one of each kind and fill level.
    effect : RunEffect
        The differences between runs.
    """
    olds = {_key(r): r for r in before}
    news = {_key(r): r for r in after}
    both = [k for k in olds if k in news]
    refused = []
    pairs = []
    for key in both:
        old, new = olds[key], news[key]
        why = differences(old, new)
        if (old.run, old.started) == (new.run, new.started):
            why = ["it is the same result on both sides"]
        if not all(settled(r) and all(p.rate_bytes_s > 0 for p in r.passes) for r in (old, new)):
            why = [*why, "a long write was not steady, or no data was moved"]
        if why:
            refused.append(NotComparable(key[0], tuple(why)))
        else:
            pairs.append((key[0], old, new))
    level = CONFIDENCE ** (1 / max(len(pairs), 1))
    steps = tuple(
        StepComparison(kind, old, new, ratio_interval(ratio_across(new, old, effect), level))
        for kind, old, new in pairs
    )
    return Comparison(
        steps,
        tuple(condition_changes([olds[k] for k in both], [news[k] for k in both])),
        tuple(f for k in both for f in _finding_changes(olds[k], news[k])),
        tuple(refused),
        tuple(dict.fromkeys(k[0] for k in olds if k not in news)),
        tuple(dict.fromkeys(k[0] for k in news if k not in olds)),
    )


def paired(
    before: Sequence[StepResult], after: Sequence[StepResult]
) -> tuple[list[StepResult], list[StepResult]]:
    """Return one result of each kind and fill level for either side.

    Of several, the pair with the most conditions in common, so that a difference is the one that
    was asked for and not the rig's; the newest of equals.

    Parameters
    ----------
    before, after : sequence of StepResult
        Oldest first.
    """
    olds: dict[Key, list[StepResult]] = {}
    news: dict[Key, list[StepResult]] = {}
    for by_key, results in ((olds, before), (news, after)):
        for r in results:
            by_key.setdefault(_key(r), []).append(r)
    pairs = {
        key: max(
            ((o, n) for o in olds[key] for n in news[key]),
            key=lambda pair: (_in_common(*pair), pair[1].started, pair[0].started),
        )
        for key in olds
        if key in news
    }
    return (
        [pairs[key][0] if key in pairs else results[-1] for key, results in olds.items()],
        [pairs[key][1] if key in pairs else results[-1] for key, results in news.items()],
    )


def _in_common(one: StepResult, two: StepResult) -> tuple[bool, bool, int]:
    """Return whether two results can be compared, and how many conditions they share."""
    same = one.conditions, two.conditions
    shared = [
        same[0].rig == same[1].rig,
        same[0].link == same[1].link,
        # Two drives are two samples with a firmware each.
        one.drive != two.drive or same[0].sample == same[1].sample,
        one.drive != two.drive or same[0].firmware == same[1].firmware,
    ]
    figures = all(r.passes and settled(r) for r in (one, two))
    distinct = (one.run, one.started) != (two.run, two.started)
    return distinct and figures, not differences(one, two), sum(shared)


def _key(result: StepResult) -> Key:
    return result.kind, result.conditions.filled_percent


def condition_changes(
    before: Sequence[StepResult], after: Sequence[StepResult]
) -> list[ConditionChange]:
    """Return the conditions that differ: firmware, link, rig, heat, fill level."""
    changes = []
    named: dict[str, Callable[[StepResult], str | None]] = {
        "drive": lambda r: r.drive,
        "sample": lambda r: r.conditions.sample,
        "firmware": lambda r: r.conditions.firmware,
        "rig": lambda r: r.conditions.rig,
        "link": lambda r: r.conditions.link,
        "engine": lambda r: r.conditions.engine,
    }
    for what, of in named.items():
        one, two = (_listed([of(r) for r in rs]) for rs in (before, after))
        if one != two:
            changes.append(ConditionChange(what, one or "unknown", two or "unknown"))
    numbers: tuple[tuple[str, str, float, Callable[[StepResult], float | None]], ...] = (
        ("temperature at the start", "°C", APART_C, lambda r: r.conditions.start_temperature_c),
        ("fill level", "%", APART_PERCENT, lambda r: r.conditions.fill_percent),
    )
    for what, unit, apart, of_number in numbers:
        values = [[v for r in rs if (v := of_number(r)) is not None] for rs in (before, after)]
        if all(values):
            one_middle, two_middle = map(statistics.fmean, values)
            if abs(one_middle - two_middle) >= apart:
                changes.append(
                    ConditionChange(what, f"{one_middle:.0f} {unit}", f"{two_middle:.0f} {unit}")
                )
    return changes


def _listed(values: Sequence[str | None]) -> str:
    return " and ".join(sorted({v for v in values if v}))


def _finding_changes(before: StepResult, after: StepResult) -> list[FindingChange]:
    """Cliffs, pauses, heat, errors and lost data that one side has and the other has not."""
    label = before.step.label
    changes = []
    one, two = long_write_of(before), long_write_of(after)
    if one is not None and two is not None:
        cliffs = [w.cliff for w in (one, two)]
        places = [
            f"at {show_size(c.at_bytes)} ({show_size(c.low_bytes)} to {show_size(c.high_bytes)})"
            if c is not None
            else None
            for c in cliffs
        ]
        apart = (
            cliffs[0] is None
            or cliffs[1] is None
            or cliffs[0].high_bytes < cliffs[1].low_bytes
            or cliffs[1].high_bytes < cliffs[0].low_bytes
        )
        if apart and any(c is not None for c in cliffs):
            changes.append(FindingChange(FindingKind.CLIFF, label, *places))
    pauses = [_pauses(r) for r in (before, after)]
    if (pauses[0] is None) != (pauses[1] is None):
        changes.append(FindingChange(FindingKind.PAUSES, label, *pauses))
    for kind, tell in (
        (FindingKind.HEAT, _heat),
        (FindingKind.ERRORS, _errors),
        (FindingKind.LOST, _lost),
    ):
        words = [tell(r) for r in (before, after)]
        if words[0] != words[1]:
            changes.append(FindingChange(kind, label, *words))
    return changes


def _pauses(result: StepResult) -> str | None:
    drop_outs = result.findings.drop_outs
    if drop_outs is None or not drop_outs.count:
        return None
    return f"{drop_outs.count} of {significant(drop_outs.seconds)} s together"


def _heat(result: StepResult) -> str | None:
    return "yes" if any(x.what is LimitSource.HEAT for x in result.limits) else None


def _errors(result: StepResult) -> str | None:
    return f"{result.errors:,}" if result.errors else None


def _lost(result: StepResult) -> str | None:
    lost = result.findings.lost
    return show_size(lost.lost_bytes) if lost is not None else None


@dataclass(frozen=True)
class HistoryPoint:
    """A step of one sample in one stretch of time, and how many times the first it is."""

    kind: str
    result: StepResult
    times: Interval


def history(
    results: Sequence[tuple[float, StepResult]],
    period_s: float,
    effect: RunEffect = PRIOR_ALONE,
) -> list[HistoryPoint]:
    """Return the newest result of each kind in each stretch of time, against the first.

    The intervals of the ratios hold for all points at once.

    Parameters
    ----------
    results : sequence of (float, StepResult)
        Of one sample, oldest first, each with the second at which it began.
    period_s : float
        How long a stretch is; stretches are counted from the first result.
    """
    usable = [
        (at, r)
        for at, r in results
        if settled(r) and r.passes and all(p.rate_bytes_s > 0 for p in r.passes)
    ]
    latest: dict[tuple[str, int], StepResult] = {}
    for at, r in usable:
        latest[r.kind, math.floor((at - usable[0][0]) / period_s)] = r
    first: dict[str, StepResult] = {}
    for (kind, _), r in latest.items():
        first.setdefault(kind, r)
    alike = [(kind, r) for (kind, _), r in latest.items() if not differences(first[kind], r)]
    later = sum(r is not first[kind] for kind, r in alike)
    level = CONFIDENCE ** (1 / max(later, 1))
    points = [
        HistoryPoint(
            kind,
            r,
            Interval(1.0, 1.0, 1.0)
            if r is first[kind]
            else ratio_interval(ratio_across(r, first[kind], effect), level),
        )
        for kind, r in alike
    ]
    many = {p.kind for p in points if p.result is not first[p.kind]}
    order = list(dict.fromkeys(p.kind for p in points))
    return sorted(
        (p for p in points if p.kind in many),
        key=lambda p: (order.index(p.kind), p.result.started),
    )
