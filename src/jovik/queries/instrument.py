"""An instrument's log laid beside a run."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from jovik.analysis.instrument import (
    BY_POWER,
    Span,
    SpanFigures,
    figures_in,
    figures_of_phase,
    first_rise,
    fitted_times,
    spin_up,
    values_in,
)
from jovik.base.errors import UsageError
from jovik.base.interval import Interval
from jovik.queries.drive_class import is_spinning
from jovik.queries.temperature import RunPass, run_begun, run_passes
from jovik.sheets.instrument_log import InstrumentLog, RunLog
from jovik.shelf.runs import RunRecord
from jovik.shelf.store import Shelf

SPIN_UP, BEFORE, IDLE = "spin-up", "before the first pass", "idle, between passes"
JOINED_S = 0.05
"""Passes of a step that are no further apart are one stretch."""
READING, WRITING, MIXED, FLUSHING = "reading", "writing", "reading and writing", "flushing"
ALIKE_RATIO, ALIKE_LEVEL = 1.1, 1.0
"""Steps whose means differ by more than this factor, or by more decibels, are unlike."""


@dataclass(frozen=True)
class InstrumentChange:
    """Readings of an instrument for one kind of step, or one phase, on both sides.

    Both were taken by the same `method` and `instrument`, in the user's words, or by unknown ones.
    """

    quantity: str
    unit: str
    what: str
    method: str
    instrument: str
    before: Interval
    after: Interval

    @property
    def apart(self) -> bool:
        """Return True if the intervals of the two do not touch."""
        return self.before.apart(self.after)

    @property
    def difference(self) -> Interval:
        """Return after less before, in the unit, with its interval if both have one.

        Independent means: the reaches of their intervals add as squares (JCGM 100, 5.1.2).
        """
        one, two = self.before, self.after
        middle = two.median - one.median
        if one.low is None or one.high is None or two.low is None or two.high is None:
            return Interval(middle)
        down = math.hypot(two.median - two.low, one.high - one.median)
        up = math.hypot(two.high - two.median, one.median - one.low)
        return Interval(middle, middle - down, middle + up)


@dataclass(frozen=True)
class LogBeside:
    """A log by step and by phase.

    `stretches` are those of each phase, by its name. `offered_s` would move the first rise of the
    log to the first pass.
    """

    log: RunLog
    steps: tuple[SpanFigures, ...]
    phases: tuple[SpanFigures, ...]
    passes: tuple[RunPass, ...]
    outside: int
    offered_s: float | None
    stretches: tuple[Span, ...] = ()


def laid_beside(
    shelf: Shelf,
    run: str,
    log: InstrumentLog,
    quantity: str,
    unit: str,
    shift_s: float = 0.0,
    *,
    fit_clock: bool = False,
) -> RunLog:
    """Return a log with its times counted from when the first pass of a run began.

    Parameters
    ----------
    shift_s : float
        Added to every time of the log.
    fit_clock : bool
        Whether to move and stretch the log instead, so that it rises and falls with the run.

    Raises
    ------
    UsageError
        The two do not overlap: by how much they miss each other. Or the log does not rise and fall
        with the run.
    """
    passes = run_passes(shelf, run)
    if not passes:
        raise UsageError(f"run {run} has no passes")
    begun = run_begun(shelf, run, passes)
    if log.clock and begun is None:
        raise UsageError(
            "this run was on a model drive, whose clock is virtual",
            "give seconds since its first pass began instead of clock times",
        )
    base = begun if log.clock and begun is not None else 0.0
    seconds = tuple(s + shift_s - base for s in log.seconds)
    last = max(p.end_s for p in passes)
    if fit_clock:
        fitted = fitted_times(seconds, log.values, last)
        if fitted is None:
            raise UsageError(
                "the log does not rise and fall with the run, or its clock is off by more than 2 %",
                "let it begin before the run and end after it, or use --shift",
            )
        seconds = fitted
    if seconds[-1] < 0 or seconds[0] > last:
        raise UsageError(
            f"the log is from {seconds[0]:.1f} s to {seconds[-1]:.1f} s after the run's first pass "
            f"began, and the run lasted {last:.1f} s: they do not meet",
            "move it with --shift, such as --shift 2.5s or --shift -3600s",
        )
    return RunLog(run, quantity, unit, seconds, log.values)


def log_beside(shelf: Shelf, log: RunLog) -> LogBeside:
    """Return the readings of a log for each step of its run and for its phases."""
    passes = run_passes(shelf, log.run)
    last = max(p.end_s for p in passes)
    steps = figures_in(_joined(passes), log.seconds, log.readings, log.unit)
    outside = sum(1 for s in log.seconds if not 0 <= s < last)
    rise = first_rise(log.seconds, log.readings)
    phases, stretches = _phases(passes, log, last, spins=_spins(shelf, log.run))
    return LogBeside(log, tuple(steps), tuple(phases), passes, outside, rise, tuple(stretches))


def _spins(shelf: Shelf, run: str) -> bool:
    """Return True if the drive of a run has platters that get up to speed."""
    drive = shelf.sheets.get(shelf.runs.get(run).drive).drive
    return is_spinning(drive)


def logs_beside(shelf: Shelf, drive: str, run: str | None = None) -> list[LogBeside]:
    """Return every log that was laid beside a run of a drive that counts, oldest first."""
    name = shelf.sheets.get(drive).drive.name
    counting = {r.id for r in shelf.runs.every(name) if r.excluded is None}
    return [log_beside(shelf, x) for x in shelf.notes.logs(name, run) if x.run in counting]


LogKey = tuple[str, str, str, str, str]
"""Quantity, unit, step or phase, method and instrument: logs with the same key can be compared."""


def logged_figures(shelf: Shelf, runs: Iterable[RunRecord]) -> dict[LogKey, Interval]:
    """Return the means of every phase and step, of each from the newest log beside these runs."""
    figures: dict[LogKey, Interval] = {}
    for run in runs:
        for laid in (log_beside(shelf, x) for x in shelf.notes.logs(run.drive, run.id)):
            log = laid.log
            for f in (*laid.phases, *laid.steps):
                what = f.name.split("  ", 1)[-1]
                figures[log.quantity, log.unit, what, log.method, log.instrument] = f.mean
    return figures


def logged_changes(
    shelf: Shelf, before: Iterable[RunRecord], after: Iterable[RunRecord]
) -> list[InstrumentChange]:
    """Return the logged values that both sides have, taken in the same way."""
    one, two = logged_figures(shelf, before), logged_figures(shelf, after)
    return [InstrumentChange(*key, was, two[key]) for key, was in one.items() if key in two]


def logged_of(shelf: Shelf, drive: str) -> list[RunRecord]:
    """Return the runs of a drive that count, oldest first."""
    return [r for r in shelf.runs.every(drive) if r.excluded is None]


def _span(p: RunPass) -> Span:
    trace = p.trace
    moved = trace.read_bytes + trace.written_bytes
    return Span(f"{p.step}  {p.label}", p.start_s, p.end_s, moved, trace.ios)


def _joined(passes: Sequence[RunPass]) -> list[Span]:
    """Neighbouring passes of one step as one span."""
    spans: list[Span] = []
    for p in passes:
        one = _span(p)
        if spans and spans[-1].name == one.name:
            b = spans[-1]
            moved, ios = b.moved_bytes + one.moved_bytes, b.ios + one.ios
            spans[-1] = replace(b, end_s=one.end_s, moved_bytes=moved, ios=ios)
        else:
            spans.append(one)
    return spans


def _phases(
    passes: Sequence[RunPass], log: RunLog, last: float, *, spins: bool
) -> tuple[list[SpanFigures], list[Span]]:
    """Return all stretches of one phase together, and each by itself.

    Only what `spins` has a spin-up. Steps that are unlike have a phase each, because no mean
    describes them.
    """
    kinds: dict[str, list[Span]] = {}
    flushes: list[Span] = []
    for p in passes:
        whole, flush_s = _span(p), p.trace.flush_ns / 1e9
        read, written = p.trace.read_bytes > 0, p.trace.written_bytes > 0
        if read or written:
            kind = MIXED if read and written else READING if read else WRITING
            kind += f" {p.order}" if p.order else ""
            one = Span(p.label, whole.start_s, whole.end_s - flush_s)
            kinds.setdefault(kind, []).append(one)
        if flush_s > 0:
            flushes.append(Span(FLUSHING, whole.end_s - flush_s, whole.end_s))
    logged = list(zip(log.seconds, log.readings, strict=True))
    before = [(s, v) for s, v in logged if s < 0]
    spun = spin_up(before, log.unit) if spins else []
    busy = [b for spans in (*kinds.values(), flushes) for b in spans]
    idle = [v for s, v in logged if 0 <= s < last and not _within(busy, s)]
    parts: dict[str, list[list[float]]] = {
        SPIN_UP: [[v for _, v in spun]],
        BEFORE: [[v for _, v in before[len(spun) :]]],
        IDLE: [idle],
    }
    stretches: list[Span] = []
    for name, spans in (*sorted(kinds.items()), (FLUSHING, flushes)):
        by_step: dict[str, list[list[float]]] = {}
        for s in _neighbours(spans):
            by_step.setdefault(s.name, []).append(values_in(s, log.seconds, log.readings))
        alike = _alike([[p for p in each if p] for each in by_step.values()], log.unit)
        parts |= {name: [p for each in by_step.values() for p in each]} if alike else by_step
        stretches += [replace(s, name=name if alike else s.name) for s in _neighbours(spans)]
    phases = {name: [p for p in pieces if p] for name, pieces in parts.items()}
    found = [figures_of_phase(name, pieces, log.unit) for name, pieces in phases.items() if pieces]
    return found, stretches


def _alike(steps: Sequence[Sequence[Sequence[float]]], unit: str) -> bool:
    """Return True if the means of steps are near each other, so that one mean describes them."""
    means = [figures_of_phase("", pieces, unit).mean.median for pieces in steps if pieces]
    if len(means) < 2:
        return True
    if unit in BY_POWER:
        return max(means) - min(means) <= ALIKE_LEVEL
    return min(means) > 0 and max(means) <= ALIKE_RATIO * min(means)


def _neighbours(spans: Sequence[Span]) -> list[Span]:
    """Stretches of one step that follow each other as one."""
    neighbours: list[Span] = []
    for one in spans:
        if (
            neighbours
            and neighbours[-1].name == one.name
            and one.start_s - neighbours[-1].end_s < JOINED_S
        ):
            neighbours[-1] = replace(neighbours[-1], end_s=one.end_s)
        else:
            neighbours.append(one)
    return neighbours


def _within(spans: Sequence[Span], at_s: float) -> bool:
    return any(b.start_s <= at_s < b.end_s for b in spans)
