"""Differences between runs of one drive, common to all steps of a run, and comparisons.

Two runs of the same drive on the same rig differ by more than their passes tell: heat, the state of
the drive, the host. That part is one number for all steps of a run, so that more steps do not
average it away. Its spread is estimated from repeated runs, pooled by class of step, by the method
of moments for one random factor (Searle, Casella and McCulloch, "Variance Components", ch. 3; for
levels of repetition Kalibera and Jones, ISMM 2013), and never taken below a floor.
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from jovik.analysis.comparability import differences, figure_of, settled
from jovik.analysis.statistics import LogFigure
from jovik.analysis.step_result import StepResult
from jovik.steps import IoStep, parse

MIN_SPREAD = 0.01
"""Standard deviation of the log of a run's common factor, taken to be no smaller.

An assumption, stated wherever it is used; from enough repeated runs on the shelf on, what those say
counts where it is more.
"""
ENOUGH_FREEDOM = 8
"""Degrees of freedom from which on an estimate of one's own is believed."""


def step_class(kind: str) -> str:
    """Return the class of step that a spread between runs is pooled over."""
    step = parse(kind)
    if not isinstance(step, IoStep):
        return "other"
    order = "random" if step.random else "sequential"
    direction = {100: "read", 0: "write"}.get(step.read_percent, "mixed")
    return f"{order} {direction}"


@dataclass(frozen=True)
class RunEffect:
    """Standard deviations of the log between runs, by class of step.

    `freedom` is how many repeated runs they are from; 0 is the floor alone.
    """

    spread: Mapping[str, float] = field(default_factory=dict)
    freedom: int = 0

    def of(self, kind: str) -> float:
        """Return the standard deviation for a kind of step."""
        return max(self.spread.get(step_class(kind), MIN_SPREAD), MIN_SPREAD)


FLOOR_ALONE = RunEffect()
"""Where no run was repeated."""


def run_effect(results: Sequence[StepResult]) -> RunEffect:
    """Return the spread between runs that these results show.

    Parameters
    ----------
    results : sequence of StepResult
        Of any drives; those that were repeated alike, on the same sample, rig, link and firmware,
        tell.
    """
    alike: dict[tuple[object, ...], list[StepResult]] = defaultdict(list)
    for r in results:
        if len(r.passes) > 1 and settled(r) and all(p.rate_bytes_s > 0 for p in r.passes):
            alike[(r.drive, r.kind, *_conditions(r))].append(r)
    sums: dict[str, float] = defaultdict(float)
    freedom: dict[str, int] = defaultdict(int)
    runs: set[tuple[object, ...]] = set()
    for (drive, kind, *where), group in alike.items():
        distinct = {r.passes if r.conditions.engine == "model" else r.run: r for r in group}
        by_run = {r.run: figure_of(r) for r in distinct.values()}
        figures = [f for f in by_run.values() if f.known]
        if len(figures) < 2:
            continue
        count = len(figures)
        middle = math.fsum(f.mean for f in figures) / count
        between = math.fsum((f.mean - middle) ** 2 for f in figures) / (count - 1)
        within = math.fsum(f.variance for f in figures) / count
        name = step_class(str(kind))
        sums[name] += (count - 1) * (between - within)
        freedom[name] += count - 1
        runs |= {(drive, *where, run) for run in by_run}
        runs.add((drive, *where, ""))
    groups = sum(1 for r in runs if r[-1] == "")
    independent = len(runs) - 2 * groups
    if independent < ENOUGH_FREEDOM:
        return RunEffect(freedom=max(independent, 0))
    spread = {
        name: math.sqrt(max(total / freedom[name], MIN_SPREAD**2)) for name, total in sums.items()
    }
    return RunEffect(spread, independent)


def _conditions(r: StepResult) -> tuple[object, ...]:
    c = r.conditions
    return (c.sample, c.rig, c.link, c.firmware, c.filled_percent)


def alike_runs(newest: StepResult, others: Sequence[StepResult]) -> list[StepResult]:
    """Return a result with those of other runs that were made alike, on the same sample and rig."""
    return [newest] + [
        o
        for o in others
        if o.run != newest.run
        # A model drive that is measured with the same seed again tells nothing new.
        and not (o.conditions.engine == "model" and o.passes == newest.passes)
        and o.kind == newest.kind
        and _conditions(o) == _conditions(newest)
        and not differences(o, newest)
        and settled(o)
        and o.passes
        and all(p.rate_bytes_s > 0 for p in o.passes)
    ]


def weighted(
    terms: Sequence[tuple[float, StepResult]],
    effect: RunEffect,
) -> LogFigure:
    """Return a weighted sum of the logs of results.

    A run's common factor cancels within the run, where weights have both signs.
    """
    mean = 0.0
    passes = 0.0
    below = 0.0
    known = True
    of_run: dict[tuple[str, str], float] = defaultdict(float)
    for weight, result in terms:
        figure = figure_of(result)
        mean += weight * figure.mean
        of_run[result.drive, result.run] += weight * effect.of(result.kind)
        known = known and figure.known
        part = weight * weight * figure.variance
        passes += part
        below += part * part / figure.freedom if figure.freedom else 0.0
    shared = sum(s * s for s in of_run.values())
    whole = passes + shared
    if effect.spread:
        below += shared * shared / effect.freedom
    if not known:
        return LogFigure(mean, math.nan, 0.0)
    return LogFigure(mean, whole, whole * whole / below if below > 0 else math.inf)


def ratio_across(
    above: StepResult, below: StepResult, effect: RunEffect = FLOOR_ALONE
) -> LogFigure:
    """Return the ratio of two results, with the spread of runs if they are from two runs."""
    return weighted([(1.0, above), (-1.0, below)], effect)
