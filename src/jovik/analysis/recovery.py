"""Recovery of a drive in use: after another load, or after a pause."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from jovik.analysis.comparability import figure_of, settled, steady_step
from jovik.analysis.statistics import combine, ratio_interval
from jovik.analysis.step_result import StepResult
from jovik.base.interval import Interval
from jovik.steps import IoStep, parse


@dataclass(frozen=True)
class Recovery:
    """A load that was steady before and after another one of the same run.

    `ratio` is how many times the rate before the one after is, within one run.
    """

    before: StepResult
    between: StepResult
    after: StepResult
    ratio: Interval


@dataclass(frozen=True)
class PauseGain:
    """A load after a pause, compared with the same load while it was steady.

    `ratio` is how many times as fast it is; together with the others of a run it holds at 95 %.
    """

    steady: StepResult
    paused: StepResult
    pause_ns: int
    ratio: Interval


def recoveries(results: Sequence[StepResult]) -> list[Recovery]:
    """Return every load of a run that came again after another one, both of them steady."""
    recovered = []
    steady = [r for r in results if steady_step(r) and settled(r) and r.passes]
    for n, after in enumerate(steady):
        earlier = [m for m in range(n - 1) if steady[m].phrase == after.phrase]
        if earlier and steady[n - 1].phrase != after.phrase:
            before = steady[earlier[-1]]
            ratio = combine([(1.0, figure_of(after)), (-1.0, figure_of(before))])
            recovered.append(Recovery(before, steady[n - 1], after, ratio_interval(ratio)))
    return recovered


def pause_gains(results: Sequence[StepResult]) -> list[PauseGain]:
    """Return the gains from the pauses of a run, shortest pause first."""
    steady = {_access(r): r for r in results if steady_step(r) and settled(r) and r.passes}
    pairs = []
    for r in results:
        step, known = parse(r.kind), steady.get(_access(r))
        if isinstance(step, IoStep) and step.pause_ns and r.passes and known is not None:
            pairs.append((step.pause_ns, known, r))
    # All of them are looked at together (Sidak).
    level = 0.95 ** (1 / max(len(pairs), 1))
    gains = []
    for pause_ns, known, r in pairs:
        ratio = combine([(1.0, figure_of(r)), (-1.0, figure_of(known))])
        gains.append(PauseGain(known, r, pause_ns, ratio_interval(ratio, level)))
    return sorted(gains, key=lambda g: g.pause_ns)


def _access(r: StepResult) -> IoStep | None:
    """Return the step without its duration and pause."""
    step = parse(r.kind)
    if not isinstance(step, IoStep):
        return None
    return replace(step, time_ns=None, steady="", at_most_ns=None, pause_ns=None)
