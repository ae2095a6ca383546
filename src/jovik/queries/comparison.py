"""Changes between two selections: runs, cables, firmware, dates, drives."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import dataclass, replace

from jovik.analysis.comparison import (
    Comparison,
    ConditionChange,
    HistoryPoint,
    compare_results,
    history,
    paired,
)
from jovik.analysis.run_effect import RunEffect, run_effect
from jovik.analysis.step_result import StepResult
from jovik.base.circumstances import TEMPORARY_KINDS, CircumstanceKind
from jovik.base.errors import UsageError
from jovik.queries.instrument import InstrumentChange, logged_changes
from jovik.queries.selection import Selected, read_selection, select
from jovik.shelf.runs import RunRecord
from jovik.shelf.store import Shelf
from jovik.steps import parse

_DEVICE = {
    "kernel": "kernel",
    "driver": "driver",
    "scheduler": "I/O scheduler",
    "file_system": "file system",
    "write_cache": "write cache",
}


@dataclass(frozen=True)
class Compared:
    """Two selections and the changes from the first to the second.

    `effect` is what runs were taken to differ by, `logged` what instruments showed beside both.
    """

    before: Selected
    after: Selected
    comparison: Comparison
    effect: RunEffect
    logged: tuple[InstrumentChange, ...] = ()


def compared(shelf: Shelf, before: str, after: str, step: str | None = None) -> Compared:
    """Hold two selections against each other.

    Parameters
    ----------
    step : str, optional
        Only this kind of step.

    Raises
    ------
    UsageError
        One selects nothing, both are the same, or they share no step that can be compared; with
        what there is, or what differs.
    """
    one, two = (select(shelf, read_selection(shelf, words)) for words in (before, after))
    olds, news = paired(one.results, two.results)
    if step is not None:
        kind = parse(step).kind
        olds, news = ([r for r in rs if r.kind == kind] for rs in (olds, news))
        if not olds or not news:
            lacking = before if not olds else after
            kinds = ", ".join(sorted({r.kind for r in (one if not olds else two).results}))
            raise UsageError(f"'{lacking}' has no '{kind}'", f"it has: {kinds}")
    if {_id_of(r) for r in one.results} == {_id_of(r) for r in two.results}:
        raise UsageError(
            f"'{before}' and '{after}': it is the same result on both sides",
            "narrow one of them, such as DRIVE@rig=..., or name two runs",
        )
    effect = run_effect(shelf.results.candidates())
    comparison = compare_results(olds, news, effect)
    if not comparison.steps:
        why = "; ".join(f"{x.kind}: {', '.join(x.why)}" for x in comparison.not_comparable)
        raise UsageError(
            f"'{before}' and '{after}' have no step that can be compared"
            + (f": {why}" if why else ""),
            "" if why else f"the one has {_kinds(olds)}; the other has {_kinds(news)}",
        )
    conditions = (*comparison.conditions, *_of_runs(one.runs, two.runs))
    logged = tuple(logged_changes(shelf, one.runs, two.runs))
    return Compared(one, two, replace(comparison, conditions=conditions), effect, logged)


def _id_of(result: StepResult) -> tuple[str, int]:
    """Return the run and the place of a result."""
    return result.run, result.position


def _kinds(results: Sequence[StepResult]) -> str:
    kinds = sorted({r.kind for r in results})
    return ", ".join(kinds[:4]) + (f" and {len(kinds) - 4} more" if kinds[4:] else "")


def _of_runs(before: tuple[RunRecord, ...], after: tuple[RunRecord, ...]) -> list[ConditionChange]:
    """Return the differences in kernel, driver, file system and circumstances."""
    changes = []
    for key, name in _DEVICE.items():
        one, two = (
            " and ".join(sorted({str(v) for r in rs if (v := (r.device or {}).get(key))}))
            for rs in (before, after)
        )
        if one and two and one != two:
            changes.append(ConditionChange(name, one, two))
    circumstances = [_circumstances(rs) for rs in (before, after)]
    for kind in dict.fromkeys([*circumstances[0], *circumstances[1]]):
        one, two = (x.get(kind, "no") for x in circumstances)
        # How busy exactly it was is never the same twice.
        if one != two and not (kind in TEMPORARY_KINDS and all(kind in x for x in circumstances)):
            changes.append(ConditionChange(str(kind), one, two))
    return changes


def _circumstances(runs: Sequence[RunRecord]) -> dict[CircumstanceKind, str]:
    """Return, by kind, the circumstances that mattered when these runs began."""
    values: dict[CircumstanceKind, dict[str, None]] = {}
    for c in (c for r in runs for c in r.circumstances if c.matters):
        values.setdefault(c.kind, {})[c.value] = None
    return {kind: ", ".join(sorted(words)) for kind, words in values.items()}


@dataclass(frozen=True)
class History:
    """A sample over time: the selection, and each step's points, oldest first."""

    selected: Selected
    sample: str | None
    points: tuple[HistoryPoint, ...]


def history_of(shelf: Shelf, words: str, period_s: float, step: str | None = None) -> History:
    """Return how the results of one sample went over time.

    Parameters
    ----------
    period_s : float
        Stretches of so long are taken together; the newest result in each counts.

    Raises
    ------
    UsageError
        It is of several samples, or nothing of it was measured in two stretches.
    """
    selected = select(shelf, read_selection(shelf, words))
    samples = sorted({r.conditions.sample for r in selected.results if r.conditions.sample})
    if len(samples) > 1:
        raise UsageError(
            f"'{words}' is of {len(samples)} samples: {', '.join(samples)}",
            f"say which: '{words}@sample={samples[0]}'",
        )
    results = list(selected.results)
    if step is not None:
        kind = parse(step).kind
        results = [r for r in results if r.kind == kind]
    moments = [datetime.datetime.fromisoformat(r.started).timestamp() for r in results]
    points = history(
        list(zip(moments, results, strict=True)), period_s, run_effect(shelf.results.candidates())
    )
    if not points:
        raise UsageError(
            f"no step of '{words}' was measured in two such stretches of time",
            "give a shorter one with --every, or measure it again",
        )
    return History(selected, samples[0] if samples else None, tuple(points))
