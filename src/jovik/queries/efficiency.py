"""The energy efficiency of drives, from the power logs beside their runs."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from jovik.analysis.instrument import MIN_COVERAGE, WATTS, Span, figures_in
from jovik.analysis.step_result import PassFigures, StepResult
from jovik.base.errors import UsageError
from jovik.base.interval import Interval
from jovik.queries.instrument import BEFORE, IDLE, LogBeside, log_beside
from jovik.shelf.store import Shelf


@dataclass(frozen=True)
class Efficiency:
    """Results whose rates are bytes, and I/Os, for a joule, and the idle power of drives."""

    results: tuple[StepResult, ...]
    idle_watts: Mapping[str, Interval]


def efficiencies(shelf: Shelf) -> Efficiency:
    """Return the newest power log of each drive, step by step and pass by pass.

    Raises
    ------
    UsageError
        There is none.
    """
    results: list[StepResult] = []
    idle: dict[str, Interval] = {}
    for name in shelf.sheets.names():
        counting = {r.id for r in shelf.runs.every(name) if r.excluded is None}
        logs = [x for x in shelf.notes.logs(name) if x.unit == WATTS and x.run in counting]
        if not logs:
            continue
        beside = log_beside(shelf, logs[-1])
        results += _results(shelf, beside)
        quiet = next((f for f in beside.phases if f.name in (IDLE, BEFORE)), None)
        if quiet is not None:
            idle[name] = quiet.mean
    if not results:
        raise UsageError(
            "no power was logged beside a run of any drive",
            "add one: jovik note DRIVE --log power.csv --run last --quantity power --unit W",
        )
    return Efficiency(tuple(results), idle)


def _results(shelf: Shelf, found: LogBeside) -> list[StepResult]:
    """Return the results of a run with rates for a joule, of passes that the log covers."""
    energies = _joules(found)
    by_place = dict(enumerate(shelf.results.of_run(found.log.run), start=1))
    derived = []
    for position, result in by_place.items():
        passes = [
            _for_a_joule(p, joules)
            for number, p in enumerate(result.passes)
            if (joules := energies.get((position, number)))
        ]
        if passes:
            derived.append(replace(result, passes=tuple(passes)))
    return derived


def _joules(found: LogBeside) -> dict[tuple[int, int], float]:
    """Return energy of each pass that the log covers, by its step's place and its number from 0."""
    counted: dict[int, int] = {}
    energies = {}
    for p in found.passes:
        number = counted.get(p.step, 0)
        counted[p.step] = number + 1
        span = Span("", p.start_s, p.end_s)
        figures = figures_in([span], found.log.seconds, found.log.readings, WATTS)
        if figures and figures[0].covered >= MIN_COVERAGE:
            energies[p.step, number] = figures[0].mean.median * span.lasted_s
    return energies


def _for_a_joule(p: PassFigures, joules: float) -> PassFigures:
    moved = (p.read_bytes + p.written_bytes) / joules
    ios = p.iops * p.elapsed_ns / 1e9 / joules
    return replace(p, rate_bytes_s=moved, flushed_rate_bytes_s=moved, iops=ios)
