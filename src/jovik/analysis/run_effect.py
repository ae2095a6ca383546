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
from dataclasses import dataclass, field, replace

from jovik.analysis.comparability import differences, figure_of, settled
from jovik.analysis.statistics import LogFigure, student_quantile
from jovik.analysis.step_result import StepResult
from jovik.steps import IoStep, parse

PRIOR_SPREAD = 0.0265
"""Standard deviation of the log of a run's common factor before any run was repeated.

An assumption, and an uncertain one: it counts as an estimate from `PRIOR_FREEDOM` repeated runs.
Student's quantile for so few times this spread is the normal one times 0.03, so that two drives
with a run each are called different by chance in 5 % of cases only, up to a true spread of 3 %.
"""
PRIOR_FREEDOM = 10.0
MIN_SPREAD = 0.01
"""However alike repeated runs were, the spread is taken to be no smaller."""


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
    """Standard deviations of the log between runs, by class of step, and the freedom behind each.

    A class that is not there has the prior alone. `repeats` is how many repeated runs they are
    from.
    """

    spread: Mapping[str, float] = field(default_factory=dict)
    freedom: Mapping[str, float] = field(default_factory=dict)
    repeats: int = 0
    shared: float = 1.0

    def of(self, kind: str) -> float:
        """Return the standard deviation for a kind of step."""
        return self.spread.get(step_class(kind), PRIOR_SPREAD)

    def freedom_of(self, kind: str) -> float:
        """Return the degrees of freedom behind the standard deviation for a kind of step."""
        return self.freedom.get(step_class(kind), PRIOR_FREEDOM) / self.shared

    @property
    def widest(self) -> float:
        """Return the largest standard deviation that is used."""
        return max(self.spread.values(), default=PRIOR_SPREAD)

    def halved(self) -> RunEffect:
        """Return the same for a figure that is one of a pair.

        The spread of both is one estimate: what is known of it must not count twice where their
        variances are added.
        """
        return replace(self, shared=2 * self.shared)


PRIOR_ALONE = RunEffect()
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
    # Steps of one run share its factor: more of them tell no more of it.
    independent = len(runs) - 2 * groups
    spread, freedoms = {}, {}
    for name, total in sums.items():
        own = min(freedom[name], independent)
        spread[name], freedoms[name] = _learnt(max(total / freedom[name], 0.0), own)
    return RunEffect(spread, freedoms, independent)


def _learnt(variance: float, freedom: int) -> tuple[float, float]:
    """Return the spread and its freedom from the prior and an estimate (a scaled inverse chi2).

    Source: Gelman et al., "Bayesian Data Analysis", 3rd ed., 2.6. The prior never makes a shelf
    look calmer than its own runs do, once there are as many of these as the prior counts for.
    """
    both = PRIOR_FREEDOM + freedom
    whole = (PRIOR_FREEDOM * PRIOR_SPREAD**2 + freedom * variance) / both
    if variance > whole and freedom >= PRIOR_FREEDOM:
        return math.sqrt(variance), float(freedom)
    return math.sqrt(max(whole, MIN_SPREAD**2)), both


def _conditions(r: StepResult) -> tuple[object, ...]:
    c = r.conditions
    return (c.sample, c.rig, c.link, c.firmware, c.filled_percent)


def made_alike(one: StepResult, other: StepResult) -> bool:
    """Return True if two results are of the same step on the same sample and rig, in two runs."""
    return (
        one.run != other.run
        # A model drive that is measured with the same seed again tells nothing new.
        and not (one.conditions.engine == "model" and one.passes == other.passes)
        and one.kind == other.kind
        and _conditions(one) == _conditions(other)
        and not differences(one, other)
    )


def weighted(
    terms: Sequence[tuple[float, StepResult]],
    effect: RunEffect,
) -> LogFigure:
    """Return a weighted sum of the logs of results.

    A run's common factor cancels within the run, where weights have both signs. A sum over several
    kinds of step is never more certain than the surest of them: what disturbs one step of a run may
    disturb all.
    """
    whole = _sum(terms, effect)
    by_kind: dict[str, list[tuple[float, StepResult]]] = defaultdict(list)
    for weight, result in terms:
        by_kind[result.kind].append((weight, result))
    if len(by_kind) < 2 or not whole.known:
        return whole
    reaches = []
    for own in by_kind.values():
        scale = max(abs(w) for w, _ in own)
        reaches.append(_reach(_sum([(w / scale, r) for w, r in own], effect)))
    short = min(reaches) / _reach(whole) if _reach(whole) else 1.0
    return replace(whole, variance=whole.variance * short**2) if short > 1 else whole


def _reach(figure: LogFigure) -> float:
    """Return how far the 95 % interval reaches to either side, on the log."""
    return student_quantile(figure.freedom) * math.sqrt(figure.variance)


def _sum(terms: Sequence[tuple[float, StepResult]], effect: RunEffect) -> LogFigure:
    mean = 0.0
    passes = 0.0
    below = 0.0
    known = True
    of_run: dict[tuple[str, str], float] = defaultdict(float)
    for weight, result in terms:
        figure = figure_of(result)
        mean += weight * figure.mean
        for run in result.from_runs:
            of_run[result.drive, run] += weight / len(result.from_runs) * effect.of(result.kind)
        known = known and figure.known
        part = weight * weight * figure.variance
        passes += part
        below += part * part / figure.freedom if figure.freedom else 0.0
    shared = sum(s * s for s in of_run.values())
    whole = passes + shared
    below += shared * shared / min(effect.freedom_of(r.kind) for _, r in terms)
    if not known:
        return LogFigure(mean, math.nan, 0.0)
    return LogFigure(mean, whole, whole * whole / below if below > 0 else math.inf)


def ratio_across(
    above: StepResult, below: StepResult, effect: RunEffect = PRIOR_ALONE
) -> LogFigure:
    """Return the ratio of two results, with the spread of runs if they are from two runs."""
    return weighted([(1.0, above), (-1.0, below)], effect)
