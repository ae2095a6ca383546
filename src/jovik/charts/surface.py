"""A scan of the surface: rate and access time from the first address to the last."""

from __future__ import annotations

from collections.abc import Sequence

from jovik.analysis.step_result import StepResult
from jovik.base.quantities import show_rate, show_time, significant
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.base.trace import ScanRecord, Trace
from jovik.charts.chart import About, Line, LineChart, Panel, Point, View, from_zero
from jovik.charts.provenance import provenance
from jovik.charts.selection import results_of_each
from jovik.shelf.store import Shelf


def surface_of(shelf: Shelf, drives: Sequence[str]) -> LineChart:
    """Chart scans of drives, and of a single one its access time."""
    by_drive = results_of_each(
        shelf, drives, lambda r: r.findings.scan is not None, "scan", "scan read in 200 zones"
    )
    return surface_chart([(m[0], shelf.runs.traces(m[0].run, m[0].phrase)[0]) for m in by_drive])


def surface_chart(scans: Sequence[tuple[StepResult, Trace]]) -> LineChart:
    """Chart scans over the address, or several over the percentage of the addresses."""
    alone, lines, panels = len(scans) == 1, [], []
    for result, trace in scans:
        zones = trace.scan
        assert zones is not None
        whole = 1e9 if alone else (zones.start_bytes[-1] + zones.zone_bytes) / 100
        unit = "GB" if alone else "%"
        points = []
        slow = result.findings.scan.slow if result.findings.scan is not None else ()
        for n, (start, rate, errors) in enumerate(
            zip(zones.start_bytes, zones.rate_bytes_s, zones.errors, strict=True)
        ):
            what = "not readable" if errors else show_rate(rate) + (", slow" if n in slow else "")
            words = f"at {significant(start / whole)} {unit}: {what}"
            doubtful = bool(errors) or n in slow
            points.append(Point(start / whole, rate * per_unit(), words, doubtful=doubtful))
        lines.append(Line("rate" if alone else result.drive, tuple(points)))
    result, trace = scans[0]
    panels.append(
        Panel(from_zero(rate_unit(), [p.y for x in lines for p in x.points]), tuple(lines))
    )
    if alone and trace.scan is not None and (waits := _waits(trace.scan)):
        y = from_zero("access time, ms", [p.y for p in waits])
        panels.append(Panel(y, (Line("access time", waits, joined=False),)))
    ends = [p.x for line in lines for p in line.points]
    x = from_zero(
        "GB from the first address" if alone else "percent of the scanned addresses", ends
    )
    return LineChart(
        "From the first to the last address",
        (View("", x, tuple(panels)),),
        about=_about(scans, len(lines[0].points)),
    )


def _waits(zones: ScanRecord) -> tuple[Point, ...]:
    return tuple(
        Point(start / 1e9, t / 1e6, f"at {significant(start / 1e9)} GB: access {show_time(t)}")
        for start, t in zip(zones.start_bytes, zones.access_ns, strict=True)
        if t is not None
    )


def _about(scans: Sequence[tuple[StepResult, Trace]], zones: int) -> About:
    result, scan = scans[0][0], scans[0][0].findings.scan
    first = scan.first_bytes_s if scan is not None else None
    ends = f"{show_rate(first)} at the first address" if first else "rates"
    alone = len(scans) == 1
    return About(
        f"{result.drive}: from the first to the last address"
        if alone
        else "Scans, from the first to the last address",
        (f"{zones} zones; " if alone else "") + "hollow marks: slow, or not readable",
        provenance([r for r, _ in scans]),
        f"Rate and access times of {result.step.label}, {ends}",
    )
