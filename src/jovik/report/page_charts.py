"""From results to the charts of a page."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

from jovik.analysis.claims import ClaimVerdict, Verdict
from jovik.analysis.comparability import settled
from jovik.analysis.demand import DemandPoint
from jovik.analysis.fullness import FillComparison
from jovik.analysis.ranking import Ranking
from jovik.analysis.real_work import WorkKind
from jovik.analysis.statistics import interval
from jovik.analysis.steady_grid import Grid
from jovik.analysis.sweep import Sweep
from jovik.analysis.thermal import trusted_temperatures
from jovik.analysis.upgrade import Upgrade
from jovik.base import histogram
from jovik.base.interval import Interval
from jovik.base.quantities import show_rate, show_size, show_time, significant, spell_size
from jovik.base.rate_unit import per_unit, rate_unit
from jovik.base.step_result import StepResult
from jovik.base.trace import SLICE_NS, Latencies, Trace
from jovik.queries.instrument import LogBeside
from jovik.queries.real_work import RealWork
from jovik.queries.steady_state import Rounds, Saturation
from jovik.report.chart_data import (
    Axis,
    Bar,
    BarChart,
    BarRow,
    Cell,
    HeatMap,
    Line,
    LineChart,
    Panel,
    Point,
    View,
    between,
    decades,
    from_zero,
    places,
    powers_of_ten,
)
from jovik.steps import parse
from jovik.tables.real_work import WORDS
from jovik.tables.table import figure_words

Numbers = npt.NDArray[Any]
POINTS = 600
"""Of a curve; more lie closer together than the eye tells apart."""
ASKED = 160
"""Points of a dense curve that answer when they are asked."""
SMALL_BLOCK = 65_536
MARKS = {
    Verdict.SHORT: "bad",
    Verdict.MET: "good",
    Verdict.BEATEN: "good",
}
NINES = (0.5, 0.9, 0.99, 0.999, 0.9999, 0.99999, 0.999999)


def claims_chart(judgements: Sequence[ClaimVerdict], margin: float) -> BarChart:
    """What was measured of each claim as a share of it; right is better everywhere."""
    rows = []
    for j in judgements:
        share = _better_to_the_right(j)
        claimed = f"{'up to ' if j.claim.up_to else ''}{j.claim.shown()}"
        if share is None or j.measured is None:
            rows.append(BarRow(j.claim.label, (Bar(0.0, str(j.verdict), claimed),), claimed))
            continue
        measured = j.claim.shown(j.measured.median)
        said = f"{j.claim.label}: {measured}, {_percent(share)} of {claimed}, {j.verdict}"
        bar = Bar(
            share.median * 100,
            f"{measured}, {j.verdict}",
            said,
            share.low * 100 if share.low is not None else None,
            share.high * 100 if share.high is not None else None,
            MARKS.get(j.verdict, "open"),
        )
        rows.append(BarRow(j.claim.label, (bar,), claimed))
    return BarChart("Measured, as a share of each claim", tuple(rows), line=(100.0, "the claim"))


def _better_to_the_right(j: ClaimVerdict) -> Interval | None:
    share = j.share
    if share is None or not share.median or not j.claim.lower_is_better:
        return share
    low, high = share.low, share.high
    return Interval(1 / share.median, 1 / high if high else None, 1 / low if low else None)


def _percent(share: Interval) -> str:
    return f"{figure_words(share, 100)} %"


def ranking_chart(ranking: Ranking, drive: str | None = None) -> BarChart:
    """The index of every drive, this one in the strong colour."""
    rows = []
    for d in ranking.drives:
        if d.index is None:
            continue
        said = f"{d.drive}: index {figure_words(d.index)}, place {d.place}"
        bar = Bar(
            d.index.median,
            significant(d.index.median),
            said,
            d.index.low,
            d.index.high,
            strong=d.drive == (drive or ranking.drives[0].drive),
        )
        rows.append(BarRow(d.drive, (bar,), f"place {d.place}" if d.place else ""))
    title = f"Index of all steps; 100 is {ranking.yardstick}"
    return BarChart(title, tuple(rows))


def ladder_chart(curve: Sweep) -> LineChart:
    """A ladder as a curve, with intervals and, where there is one, the knee."""
    ios = curve.axis != "block_bytes" and curve.step.block_bytes <= SMALL_BLOCK
    linear = curve.axis.endswith("percent")
    at = [float(r.value) if linear else math.log2(max(r.value, 1)) for r in curve.rungs]
    words = [curve.spell(r.value) for r in curve.rungs]
    points, tops = [], []
    for place, spelt, rung in zip(at, words, curve.rungs, strict=True):
        value = rung.iops if ios else rung.rate_bytes_s.scaled(per_unit())
        tops.append(value.high or value.median)
        doubt = f", {rung.doubt}" if rung.doubt else ""
        unit = "IOPS" if ios else rate_unit()
        said = f"{curve.name} {spelt}: {figure_words(value)} {unit}{doubt}"
        points.append(Point(place, value.median, said, value.low, value.high, bool(rung.doubt)))
    y = from_zero("I/Os a second" if ios else rate_unit(), tops)
    marks = []
    if curve.knee is not None and not linear:
        marks.append((math.log2(max(curve.knee, 1)), f"from {curve.spell(curve.knee)} on no more"))
    view = View(
        "", places(curve.name, at, words), (Panel(y, (Line("", tuple(points)),)),), tuple(marks)
    )
    return LineChart(curve.label, (view,))


def latency_chart(results: Sequence[StepResult]) -> LineChart:
    """How long I/Os take, from half of them to the slowest, on either scale."""
    lines, values, furthest = [], [], 1.0
    same = len({parse(r.kind).label for r in results}) == 1
    for r in results:
        whole = Latencies.merged(r.latencies.values())
        if whole is None or not whole.total:
            continue
        name = r.drive if same else parse(r.kind).label
        points = _percentiles(whole)
        furthest = max(furthest, points[-1].x)
        values += [p.y for p in points]
        lines.append(Line(name, tuple(points)))
    shown = [n for n in NINES if -math.log10(1 - n) <= furthest + 0.3]
    x = Axis(
        "share of I/Os that took no longer",
        0.0,
        furthest * 1.03,
        tuple((-math.log10(1 - n), f"{100 * n:.6g} %") for n in shown),
    )
    log = decades("µs or more", values, [show_time(p, 2) for p in powers_of_ten(values)])
    log = Axis("latency", log.low, log.high, log.ticks, log=True)
    linear = from_zero("latency, ms", [v / 1e6 for v in values])
    in_ms = [Line(x_.name, tuple(Point(p.x, p.y / 1e6, p.said) for p in x_.points)) for x_ in lines]
    return LineChart(
        "How long I/Os take",
        (
            View("logarithmic", x, (Panel(log, tuple(lines)),)),
            View("linear", x, (Panel(linear, tuple(in_ms)),)),
        ),
    )


def _percentiles(whole: Latencies) -> list[Point]:
    so_far = np.cumsum(whole.counts) / whole.total
    hit = np.flatnonzero(whole.counts)
    shares = np.minimum(so_far[hit], 1 - 0.5 / whole.total)
    times = np.clip(histogram.MIDDLE_NS[hit], whole.minimum_ns, whole.maximum_ns)
    keep = np.unique(np.linspace(0, len(hit) - 1, min(len(hit), ASKED)).astype(int))
    found = []
    for n in keep:
        share = float(shares[n])
        digits = max(0, math.ceil(-math.log10(max(1 - share, 1e-9))) - 2) if share > 0.9 else 1
        said = f"{100 * share:.{digits + 1}f} % within {show_time(float(times[n]))}"
        found.append(Point(float(-math.log10(1 - share)), float(times[n]), said))
    return found


def long_write_chart(result: StepResult, trace: Trace) -> LineChart:
    """The rate over time and over bytes, its levels, the cliff, and the temperature below."""
    written = trace.slices[: max(len(trace.slices) - 1, 1), 2].astype(float)
    each = max(1, len(written) // POINTS)
    sums = written[: len(written) // each * each].reshape(-1, each).sum(axis=1)
    seconds = (np.arange(len(sums)) + 0.5) * each * SLICE_NS / 1e9
    rates = sums / (each * SLICE_NS / 1e9)
    done = np.cumsum(sums) / 1e9
    found = result.findings.long_write
    cliff = found.cliff if found is not None else None
    warm = trusted_temperatures(trace.environment.temperatures) if trace.environment else []
    so_far = np.concatenate([[0.0], np.cumsum(trace.slices[:, 2])]) / 1e9
    views = []
    for name, at, unit in (("over time", seconds, "seconds"), ("over bytes", done, "GB written")):
        by_time = unit == "seconds"
        curve = Line("rate", _plain(at, rates * per_unit()), asked=False)
        asked = Line("rate", _asked(at, rates, unit), joined=False, quiet=True)
        levels = [
            Line(
                "level, mean",
                tuple(
                    Point(
                        p.start_s
                        if n == 0 and by_time
                        else p.end_s
                        if by_time
                        else (p.start_bytes if n == 0 else p.end_bytes) / 1e9,
                        (end if end is not None else p.rate_bytes_s.median) * per_unit(),
                        f"{show_rate(p.rate_bytes_s.median)} on average, "
                        f"{show_size(p.start_bytes)} to {show_size(p.end_bytes)}",
                    )
                    for n, end in enumerate((p.from_bytes_s, p.to_bytes_s))
                ),
            )
            for p in (found.parts if found is not None else ())
        ]
        top = [float(rates.max(initial=1.0)) * per_unit()]
        panels = [Panel(from_zero(rate_unit(), top), (curve, asked, *levels))]
        if len(warm) > 1:
            moments = np.array([t for t, _ in warm])
            if not by_time:
                moments = np.interp(moments, np.arange(len(so_far)) * SLICE_NS / 1e9, so_far)
            heat = tuple(
                Point(float(x), c, f"{c:.0f} °C") for x, (_, c) in zip(moments, warm, strict=True)
            )
            kept = heat[:: max(1, len(heat) // ASKED)]
            ends = [c for _, c in warm]
            panels.append(
                Panel(between("°C", min(ends) - 5, max(ends) + 5), (Line("temperature", kept),))
            )
        marks: tuple[tuple[float, str], ...] = ()
        if cliff is not None:
            words = (
                f"cliff after {show_size(cliff.at_bytes)}: {show_rate(cliff.before_bytes_s)} to "
                f"{show_rate(cliff.after_bytes_s)}"
            )
            marks = ((cliff.at_s if by_time else cliff.at_bytes / 1e9, words),)
        x = from_zero(unit, [float(at[-1]) if len(at) else 1.0])
        views.append(View(name, x, tuple(panels), marks))
    return LineChart(f"The long write: {parse(result.kind).label}", tuple(views), zooms=True)


def _plain(x: Numbers, y: Numbers) -> tuple[Point, ...]:
    return tuple(Point(float(a), float(b), "") for a, b in zip(x, y, strict=True))


def _asked(x: Numbers, rates: Numbers, unit: str) -> tuple[Point, ...]:
    keep = np.unique(np.linspace(0, len(x) - 1, min(len(x), ASKED)).astype(int))
    word = "s" if unit == "seconds" else "GB"
    return tuple(
        Point(
            float(x[n]),
            float(rates[n]) * per_unit(),
            f"{significant(float(x[n]))} {word}: {show_rate(float(rates[n]))}",
        )
        for n in keep
    )


def surface_chart(result: StepResult, trace: Trace) -> LineChart:
    """Rate and access time from the first address to the last."""
    zones = trace.scan
    assert zones is not None
    at = [b / 1e9 for b in zones.start_bytes]
    rates = [
        Point(
            x,
            r * per_unit(),
            f"at {significant(x)} GB: {show_rate(r)}"
            if not e
            else f"at {significant(x)} GB: not readable",
            doubtful=bool(e),
        )
        for x, r, e in zip(at, zones.rate_bytes_s, zones.errors, strict=True)
    ]
    panels = [Panel(from_zero(rate_unit(), [p.y for p in rates]), (Line("rate", tuple(rates)),))]
    waits = [
        Point(x, t / 1e6, f"at {significant(x)} GB: access {show_time(t)}")
        for x, t in zip(at, zones.access_ns, strict=True)
        if t is not None
    ]
    if waits:
        y = from_zero("access time, ms", [p.y for p in waits])
        panels.append(Panel(y, (Line("access time", tuple(waits), joined=False),)))
    x = from_zero("GB from the first address", at)
    return LineChart("From the first to the last address", (View("", x, tuple(panels)),))


def fullness_chart(pairs: Sequence[FillComparison]) -> BarChart:
    """Each step on the empty drive and on the filled one."""
    level = pairs[0].filled_percent
    rows = [
        BarRow(
            parse(p.kind).label,
            (
                _rate_bar(p.empty, "empty", strong=False),
                _rate_bar(p.full, f"filled to {level} %"),
            ),
            f"{100 * p.share.median:.0f} % of empty, {p.verdict}",
        )
        for p in pairs
    ]
    title = f"Empty, and filled to {level} %; each step to its own scale"
    return BarChart(title, tuple(rows), ("empty", f"filled to {level} %"), own_scale=True)


def upgrade_chart(found: Upgrade) -> BarChart:
    """The drive that is there and the one that would replace it, step by step."""
    rows = [
        BarRow(
            parse(s.kind).label,
            (_rate_bar(s.old, found.old, strong=False), _rate_bar(s.new, found.new)),
            f"{significant(s.times.median)} times, {s.verdict}",
        )
        for s in found.steps
    ]
    title = f"{found.old} and {found.new}; each step to its own scale"
    return BarChart(title, tuple(rows), (found.old, found.new), own_scale=True)


def _rate_bar(value: Interval, name: str, *, strong: bool = True) -> Bar:
    shown = value.scaled(per_unit())
    words = f"{significant(shown.median)} {rate_unit()}"
    said = f"{name}: {figure_words(shown)} {rate_unit()}"
    return Bar(shown.median, words, said, shown.low, shown.high, strong=strong)


def real_work_chart(found: RealWork) -> BarChart:
    """Streams, copies and programs as shares of what the box says."""
    rows = []
    for x in found.shares:
        share, rate = x.share, show_rate(x.rate_bytes_s.median)
        label = parse(x.result.kind).label
        bar = Bar(
            100 * share.median,
            f"{100 * share.median:.3g} %, {rate}",
            f"{WORDS[x.kind]}, {label}: {rate}, {_percent(share)} of what the box says",
            100 * share.low if share.low is not None else None,
            100 * share.high if share.high is not None else None,
            strong=x.kind is not WorkKind.STREAM,
        )
        rows.append(BarRow(label, (bar,), WORDS[x.kind]))
    title = "Real work, as a share of the claimed sequential rate"
    return BarChart(title, tuple(rows), line=(100.0, "the box"))


def instrument_chart(laid: LogBeside) -> LineChart:
    """The rate of a run above, and what an instrument logged below it."""
    log = laid.log
    rates = []
    for p in laid.passes:
        moved = (p.trace.slices[:, 0] + p.trace.slices[:, 2]).astype(float)
        each = max(1, len(moved) * len(laid.passes) // POINTS)
        sums = moved[: max(len(moved) // each, 1) * each].reshape(-1, min(each, len(moved)))
        width = each * SLICE_NS / 1e9
        for n, total in enumerate(sums.sum(axis=1)):
            at, rate = p.start_s + (n + 0.5) * width, float(total) / width
            rates.append(Point(at, rate * per_unit(), f"{p.label}: {show_rate(rate)}"))
    every = max(1, len(log.seconds) // (2 * ASKED))
    shown = tuple(
        Point(s, v, f"{s:.1f} s: {significant(v)} {log.unit}")
        for s, v in list(zip(log.seconds, log.readings, strict=True))[::every]
    )
    low, high = min(log.readings), max(log.readings)
    room = max(high - low, abs(high) * 0.05) * 0.1
    ends = [p.x for p in rates] + [p.x for p in shown]
    panels = (
        Panel(from_zero(rate_unit(), [p.y for p in rates]), (Line("rate", tuple(rates)),)),
        Panel(
            between(
                f"{log.quantity}, {log.unit}",
                max(low - room, 0.0) if low >= 0 else low,
                high + room,
            ),
            (Line(log.quantity, shown),),
        ),
    )
    x = between("seconds since the first pass began", min(ends), max(ends))
    return LineChart(f"{log.quantity} under the rate", (View("", x, panels),), zooms=True)


def rounds_chart(shown: Sequence[Rounds]) -> LineChart:
    """Each tracked step round by round, as a share of its mean in the window."""
    lines, values = [], [0.85, 1.15]
    marks: tuple[tuple[float, str], ...] = ()
    most = 1
    for one in shown:
        steady = one.result.findings.steady
        assert steady is not None
        mean = float(np.mean(steady.window(one.figures)))
        points = tuple(
            Point(
                float(n),
                f / mean,
                f"round {n}: {show_time(f) if one.latency else f'{significant(f)} IOPS'}, "
                f"{100 * f / mean:.1f} % of the window's mean",
            )
            for n, f in enumerate(one.figures, 1)
        )
        values += [p.y for p in points]
        most = max(most, len(points))
        lines.append(Line(parse(one.result.kind).label, points))
        if steady.steady:
            last = steady.first + steady.count - 1
            marks = ((float(steady.first), "steady from here"), (float(last), "to here"))
    rounds = [float(n) for n in range(1, most + 1)]
    x = places("round", rounds, [str(n) for n in range(1, most + 1)])
    y = between("times the mean of the window", min(values), max(values))
    view = View("", x, (Panel(y, tuple(lines)),), marks)
    return LineChart("Round by round, until it is steady", (view,))


def saturation_chart(one: Saturation) -> LineChart:
    """I/Os a second of each minute over what was written, from new to used."""
    points = tuple(
        Point(at, iops, f"after {at:.2g} times the range: {significant(iops)} IOPS")
        for at, iops in zip(one.at_spans, one.iops, strict=True)
    )
    x = from_zero("written, in multiples of the range", list(one.at_spans))
    y = from_zero("I/Os a second", list(one.iops))
    view = View("", x, (Panel(y, (Line("", points),)),))
    return LineChart(f"Write saturation: {parse(one.result.kind).label}", (view,), zooms=True)


def demand_chart(points: Sequence[DemandPoint]) -> LineChart:
    """I/Os a second against the slowest in 100,000, as more is asked at once."""
    told = sorted((p for p in points if p.rare_ns is not None), key=lambda p: p.in_flight)
    shown = tuple(
        Point(
            p.iops.median,
            (p.rare_ns or 0.0),
            f"{p.in_flight} in flight: {figure_words(p.iops)} IOPS, the slowest in 100,000 take "
            f"{show_time(p.rare_ns or 0.0)}",
        )
        for p in told
    )
    values = [p.y for p in shown]
    y = decades("", values, [show_time(v, 2) for v in powers_of_ten(values)])
    y = Axis("the slowest in 100,000", y.low, y.high, y.ticks, log=True)
    x = from_zero("I/Os a second", [p.x for p in shown])
    panel = Panel(y, (Line("", shown, joined=False),))
    return LineChart("What more load buys", (View("", x, (panel,)),))


def mixes_chart(grid: Grid) -> HeatMap:
    """Steady I/Os a second over mix and block, darker for more."""
    values = {at: interval([p.iops for p in r.passes]) for at, r in grid.cells.items() if r.passes}
    logs = [math.log(v.median) for v in values.values() if v.median > 0] or [0.0]
    low, width = min(logs), (max(logs) - min(logs)) or 1.0
    rows = []
    for block in grid.blocks:
        cells: list[Cell | None] = []
        for mix in grid.mixes:
            value, result = values.get((mix, block)), grid.cells.get((mix, block))
            if value is None or result is None:
                cells.append(None)
                continue
            doubt = "" if settled(result) else " ?"
            said = f"{mix} % reads, {spell_size(block)}: {figure_words(value)} IOPS"
            shade = (math.log(max(value.median, 1e-9)) - low) / width
            cells.append(
                Cell(shade, significant(value.median) + doubt, said + ", not steady" * bool(doubt))
            )
        rows.append((spell_size(block), tuple(cells)))
    mixes = tuple(f"{m} %" for m in grid.mixes)
    title = f"Steady I/Os a second: {grid.label}; darker is more, ? is not steady"
    return HeatMap(title, mixes, tuple(rows), "reads")
