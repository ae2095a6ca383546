"""An instrument's log laid beside a run."""

from __future__ import annotations

import datetime
from dataclasses import dataclass

from jovik.analysis.instrument import Span, SpanFigures, figures_in, first_rise, mean_of
from jovik.base.errors import UsageError
from jovik.base.trace import Trace
from jovik.queries.warmth import RunPass, run_passes
from jovik.sheets.instrument_log import InstrumentLog
from jovik.shelf.store import Shelf

IDLE, READING, WRITING, MIXED = "idle, between passes", "reading", "writing", "reading and writing"


@dataclass(frozen=True)
class LogBeside:
    """The log by step and by phase; `offered_s` would lay its first rise on the first pass."""

    run: str
    quantity: str
    unit: str
    steps: tuple[SpanFigures, ...]
    phases: tuple[SpanFigures, ...]
    outside: int
    offered_s: float | None


def log_beside(
    shelf: Shelf, run: str, log: InstrumentLog, quantity: str, unit: str, shift_s: float = 0.0
) -> LogBeside:
    """What a log says of each step of a run and of its phases.

    Parameters
    ----------
    shift_s : float
        Added to every time of the log.

    Raises
    ------
    UsageError
        The two do not overlap: by how much they miss each other.
    """
    passes = run_passes(shelf, run)
    if not passes:
        raise UsageError(f"run {run} has no passes")
    begun = _begun(shelf, run, passes)
    if log.clock and begun is None:
        raise UsageError(
            "this run was on a model drive, whose clock is virtual",
            "give seconds since its first pass began instead of clock times",
        )
    base = begun if log.clock and begun is not None else 0.0
    seconds = [s + shift_s - base for s in log.seconds]
    spans = [_span(p) for p in passes]
    last = max(s.end_s for s in spans)
    rise = first_rise(seconds, log.values)
    if seconds[-1] < 0 or seconds[0] > last:
        raise UsageError(
            f"the log is from {seconds[0]:.1f} s to {seconds[-1]:.1f} s after the run's first pass "
            f"began, and the run lasted {last:.1f} s: they do not meet",
            "move it with --shift, such as --shift 2.5s or --shift -3600s",
        )
    steps = [f for s in _joined(passes) for f in figures_in([s], seconds, log.values, unit)]
    phases = _phases(spans, passes, seconds, log.values, unit, last)
    outside = sum(1 for s in seconds if not 0 <= s < last)
    return LogBeside(run, quantity, unit, tuple(steps), tuple(phases), outside, rise)


def _begun(shelf: Shelf, run: str, passes: tuple[RunPass, ...]) -> float | None:
    """When the first pass began, of the clock; None of a model drive."""
    if any(p.trace.engine == "model" for p in passes):
        return None
    row = min(shelf.passes(key=run), key=lambda p: str(p["finished"]))
    first = min(passes, key=lambda p: p.end_s)
    return datetime.datetime.fromisoformat(str(row["finished"])).timestamp() - first.end_s


def _span(p: RunPass) -> Span:
    trace: Trace = p.trace
    moved = trace.read_bytes + trace.written_bytes
    return Span(f"{p.step}  {p.label}", p.start_s, p.end_s, moved, trace.ios)


def _joined(passes: tuple[RunPass, ...]) -> list[Span]:
    """Neighbouring passes of one step as one span."""
    found: list[Span] = []
    for p in passes:
        one = _span(p)
        if found and found[-1].name == one.name:
            b = found[-1]
            moved, ios = b.moved_bytes + one.moved_bytes, b.ios + one.ios
            found[-1] = Span(b.name, b.start_s, one.end_s, moved, ios)
        else:
            found.append(one)
    return found


def _phases(
    spans: list[Span],
    passes: tuple[RunPass, ...],
    seconds: list[float],
    values: tuple[float, ...],
    unit: str,
    last: float,
) -> list[SpanFigures]:
    """All of one phase together: what is logged in any of its stretches."""
    kinds = {READING: [], WRITING: [], MIXED: []}  # type: dict[str, list[Span]]
    for one, p in zip(spans, passes, strict=True):
        read, written = p.trace.read_bytes > 0, p.trace.written_bytes > 0
        if read or written:
            kinds[MIXED if read and written else READING if read else WRITING].append(one)
    logged = list(zip(seconds, values, strict=True))
    parts = {
        name: [(s, v) for s, v in logged if _within(stretches, s)]
        for name, stretches in kinds.items()
    }
    busy = [b for stretches in kinds.values() for b in stretches]
    parts[IDLE] = [(s, v) for s, v in logged if 0 <= s < last and not _within(busy, s)]
    return [_whole(name, pairs, unit) for name, pairs in parts.items() if pairs]


def _within(stretches: list[Span], at_s: float) -> bool:
    return any(b.start_s <= at_s < b.end_s for b in stretches)


def _whole(name: str, pairs: list[tuple[float, float]], unit: str) -> SpanFigures:
    """All samples of a phase as one; its stretches do not join, so that no energy is said."""
    shown = [v for _, v in pairs]
    span = Span(name, pairs[0][0], pairs[-1][0])
    return SpanFigures(span, len(shown), mean_of(shown, unit), max(shown))
