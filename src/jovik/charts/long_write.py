"""Long writes: rate over time or bytes, with levels, the cliff and temperature."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from jovik.analysis.drive_class import SUSTAINED_WRITE
from jovik.analysis.step_result import StepResult
from jovik.analysis.temperature import trusted_temperatures
from jovik.base.findings import Level
from jovik.base.quantities import show_rate, show_size, significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.base.trace import SLICE_NS, Trace
from jovik.charts.chart import (
    About,
    Line,
    LineChart,
    Panel,
    Point,
    Reference,
    UsualRange,
    View,
    between,
    from_zero,
)
from jovik.charts.provenance import LONGEST_NAME, provenance, truncate
from jovik.charts.selection import results_of_each, same_kind
from jovik.queries.drive_class import standing_of
from jovik.sheets.sheet import Claim, Drive
from jovik.shelf.store import Shelf

POINTS, ASKED = 600, 160
"""Points of a curve (the eye distinguishes no more), and those that respond."""
VIEWS = ("time", "bytes")
LEAST_APART = 3
"""So many long writes are no longer told apart in one panel."""


def long_write_of(
    shelf: Shelf, drives: Sequence[str], *, phrase: str | None = None, axis: str = "time"
) -> LineChart:
    """Chart the long write of drives over ``time`` or ``bytes``. `phrase` names one of several."""
    by_drive = results_of_each(
        *(shelf, drives, lambda r: r.findings.long_write is not None, "long write"),
        "sequential write 1MiB depth 8 over 30% of free",
    )
    chosen = same_kind(by_drive, phrase, "long write")
    traces = [(r, shelf.runs.traces(r.run, r.phrase)[0]) for r in chosen]
    sheet = shelf.sheets.get(chosen[0].drive) if len(chosen) == 1 else None
    claims = sheet.claims if sheet is not None else ()
    usual = usual_sustained(sheet.drive, chosen[0]) if sheet is not None else None
    return long_write_chart(traces, axis=axis, claims=claims, usual=usual)


def usual_sustained(drive: Drive, result: StepResult) -> UsualRange | None:
    """Return the range that its standing compares a long write with, in the unit of rates.

    It is that of the drive's class, or of a slower link's. None if the long write has no sustained
    figure, or the class is unknown.
    """
    standing = standing_of(drive, [result])
    found = standing.of(result) if standing is not None else None
    if standing is None or found is None or found.usual.what != SUSTAINED_WRITE:
        return None
    low, high = found.usual.low * per_unit(), found.usual.high * per_unit()
    return UsualRange(low, high, f"usual for a {standing.drive_class.title}, sustained")


def long_write_chart(
    shown: Sequence[tuple[StepResult, Trace]],
    *,
    axis: str = "time",
    claims: Sequence[Claim] = (),
    usual: UsualRange | None = None,
) -> LineChart:
    """Chart the rate over time and over bytes. A single write has levels, cliff and temperature.

    Of three or more, each has a panel of its own, all with the same scale.

    Parameters
    ----------
    axis : str
        The view that comes first.
    claims : sequence of Claim
        Of the drive, if it is one: those about sequential writes are drawn.
    usual : UsualRange, optional
        What is usual for its class beyond the write cache.
    """
    result, alone = shown[0][0], len(shown) == 1
    label, written = result.step.label, shown[0][0].findings.long_write
    cliff = written.cliff if written is not None else None
    fall = (
        f"it falls after {show_size(cliff.at_bytes)} from {show_rate(cliff.before_bytes_s)} to "
        f"{show_rate(cliff.after_bytes_s)}"
        if cliff is not None
        else "it does not fall"
    )
    finding = (
        f"drops to {100 * cliff.after_bytes_s / cliff.before_bytes_s:.0f} % after "
        f"{show_size(cliff.at_bytes)}"
        if cliff is not None
        else "the long write"
    )
    first = [v for v in VIEWS if v == axis] + [v for v in VIEWS if v != axis]
    about = About(
        f"{truncate(result.drive, LONGEST_NAME)}: {finding}"
        if alone
        else _longest([r for r, _ in shown]),
        f"{label}; rate over {'time' if axis == 'time' else 'what was written'}",
        provenance([r for r, _ in shown]),
        f"The rate of {label}: {fall}",
    )
    claimed = tuple(
        Reference(c.figure * per_unit(), f"claimed{', sustained' if c.sustained else ''}")
        for c in claims
        if alone and not c.random and not c.read_percent and c.unit == "bytes/s"
    )
    views = tuple(_view(shown, claimed, usual, by_time=v == "time") for v in first)
    return LineChart(f"The long write: {label}", views, zooms=True, about=about)


def _longest(shown: Sequence[StepResult]) -> str:
    """Return which of several drives surely keeps its first rate for longest, if one of them does.

    The places of two cliffs have to be apart. A drive without one wrote what its step wrote.
    """
    written = [(r.drive, r.findings.long_write) for r in shown]
    cliffs = [(name, w.cliff) for name, w in written if w is not None and w.cliff is not None]
    steady = [(name, w) for name, w in written if w is not None and w.cliff is None]
    if len(steady) == 1:
        name, whole = steady[0]
        return f"{truncate(name, LONGEST_NAME)}: no cliff within {show_size(whole.total_bytes)}"
    if steady:
        return f"{len(steady)} of {len(shown)} have no cliff"
    *others, (name, last) = sorted(cliffs, key=lambda c: c[1].at_bytes)
    if all(other.high_bytes < last.low_bytes for _, other in others):
        return f"{truncate(name, LONGEST_NAME)}: drops last, after {show_size(last.at_bytes)}"
    return "The long write"


def _view(
    shown: Sequence[tuple[StepResult, Trace]],
    claimed: tuple[Reference, ...],
    usual: UsualRange | None,
    *,
    by_time: bool,
) -> View:
    alone, unit = len(shown) == 1, "seconds" if by_time else "GB written"
    apart = len(shown) >= LEAST_APART
    lines, tops, ends = [], [1e-9], [1e-9]
    for result, trace in shown:
        at, rates = _series(trace, by_time=by_time)
        tops.append(float(rates.max(initial=1.0)) * per_unit())
        ends.append(float(at[-1]) if len(at) else 1.0)
        name = "rate" if alone or apart else result.drive
        told = f"{result.drive}: " if apart else ""
        drawn = zip(at.tolist(), (rates * per_unit()).tolist(), strict=True)
        lines.append(Line(name, tuple(Point(x, y, "") for x, y in drawn), asked=False))
        keep = np.unique(np.linspace(0, len(at) - 1, min(len(at), ASKED)).astype(int))
        word = "s" if by_time else "GB"
        asked = tuple(
            Point(x, y * per_unit(), f"{told}{significant(x)} {word}: {show_rate(y)}")
            for x, y in ((float(at[n]), float(rates[n])) for n in keep)
        )
        lines.append(Line(name, asked, joined=False, quiet=True))
    name = f"over {'time' if by_time else 'bytes'}"
    if not alone:
        y = from_zero(rate_unit(), tops)
        panels_apart = tuple(
            Panel(y, tuple(lines[2 * n : 2 * n + 2]), name=r.drive)
            for n, (r, _) in enumerate(shown)
        )
        together = (Panel(y, tuple(lines)),)
        return View(name, from_zero(unit, ends), panels_apart if apart else together)
    result, trace = shown[0]
    written = result.findings.long_write
    lines += [_level(p, by_time=by_time) for p in (written.parts if written is not None else ())]
    panels = [
        Panel(
            from_zero(rate_unit(), [*tops, *(c.value for c in claimed)]),
            *(tuple(lines), claimed, usual),
        ),
        *_temperature(trace, by_time=by_time),
    ]
    marks: tuple[tuple[float, str], ...] = ()
    cliff = written.cliff if written is not None else None
    if cliff is not None:
        words = (
            f"cliff after {show_size(cliff.at_bytes)}: {show_rate(cliff.before_bytes_s)} to "
            f"{show_rate(cliff.after_bytes_s)}"
        )
        marks = ((cliff.at_s if by_time else cliff.at_bytes / 1e9, words),)
    return View(name, from_zero(unit, ends), tuple(panels), marks)


def _series(trace: Trace, *, by_time: bool) -> tuple[np.ndarray, np.ndarray]:
    """Return where and how fast (B/s), joined to as many points as a chart has room for."""
    written = trace.slices[: max(len(trace.slices) - 1, 1), 2].astype(float)
    each = max(1, len(written) // POINTS)
    sums = written[: len(written) // each * each].reshape(-1, each).sum(axis=1)
    seconds = (np.arange(len(sums)) + 0.5) * each * SLICE_NS / 1e9
    rates = sums / (each * SLICE_NS / 1e9)
    return (seconds if by_time else np.cumsum(sums) / 1e9), rates


def _level(part: Level, *, by_time: bool) -> Line:
    words = (
        f"{show_rate(part.rate_bytes_s.median)} on average, "
        f"{show_size(part.start_bytes)} to {show_size(part.end_bytes)}"
    )
    ends = (part.start_s, part.end_s)
    if not by_time:
        ends = (part.start_bytes / 1e9, part.end_bytes / 1e9)
    rates = (part.from_bytes_s, part.to_bytes_s)
    mean = part.rate_bytes_s.median
    points = [
        Point(x, (rate if rate is not None else mean) * per_unit(), words)
        for x, rate in zip(ends, rates, strict=True)
    ]
    return Line("level, mean", tuple(points), marked=False)


def _temperature(trace: Trace, *, by_time: bool) -> list[Panel]:
    """Chart the trusted sensors. Over bytes, each moment is at its position in the write."""
    warm = trusted_temperatures(trace.environment.temperatures) if trace.environment else []
    if len(warm) < 2:
        return []
    moments = np.array([t for t, _ in warm])
    if not by_time:
        so_far = np.concatenate([[0.0], np.cumsum(trace.slices[:, 2])]) / 1e9
        moments = np.interp(moments, np.arange(len(so_far)) * SLICE_NS / 1e9, so_far)
    heat = [Point(float(x), c, f"{c:.0f} °C") for x, (_, c) in zip(moments, warm, strict=True)]
    thinned = tuple(heat[:: max(1, len(heat) // ASKED)])
    ends = [c for _, c in warm]
    return [Panel(between("°C", min(ends) - 5, max(ends) + 5), (Line("temperature", thinned),))]
