"""Latency distributions: the latency that a percentage of I/Os does not exceed."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from jovik.analysis.claims import all_latencies_ns
from jovik.analysis.step_result import StepResult
from jovik.base import histogram
from jovik.base.quantities import show_time, show_time_or_dash
from jovik.base.trace import Latencies
from jovik.charts.chart import (
    About,
    Axis,
    Line,
    LineChart,
    Panel,
    Point,
    View,
    decades,
    from_zero,
    powers_of_ten,
)
from jovik.charts.provenance import LONGEST_NAME, provenance, truncate
from jovik.charts.selection import results_of_each, same_kind
from jovik.shelf.store import Shelf
from jovik.steps import parse

NINES = (0.5, 0.9, 0.99, 0.999, 0.9999, 0.99999, 0.999999)
ASKED = 160
"""Points of a curve that answer when they are asked."""


def latency_of(
    shelf: Shelf, drives: Sequence[str], *, phrase: str = "random read 4KiB"
) -> LineChart:
    """Chart how long I/Os of drives take."""
    by_drive = results_of_each(
        shelf, drives, lambda r: bool(r.latencies), "latencies", phrase, with_latencies=True
    )
    return latency_chart(same_kind(by_drive, phrase, "step"))


def latency_chart(results: Sequence[StepResult]) -> LineChart:
    """Chart how long I/Os take, from half of them to the slowest, on either scale."""
    lines, notes, furthest = [], [], 1.0
    same = len({r.step.label for r in results}) == 1
    for r in results:
        whole = Latencies.merged(r.latencies.values())
        if whole is None or not whole.total:
            continue
        name = r.drive if same else r.step.label
        points = _percentiles(whole)
        furthest = max(furthest, points[-1].x)
        lines.append(Line(name, tuple(points)))
        notes.append((points[-1].x, points[-1].y, f"longest {show_time(whole.maximum_ns)}"))
    values = [p.y for line in lines for p in line.points]
    shown = [n for n in NINES if -math.log10(1 - n) <= furthest + 0.3]
    ticks = tuple((-math.log10(1 - n), f"{100 * n:.6g} %") for n in shown)
    x = Axis("percentage of I/Os that took no longer", 0.0, furthest * 1.03, ticks)
    log = decades("latency", values, [show_time(p, 2) for p in powers_of_ten(values)])
    linear = from_zero("latency, ms", [v / 1e6 for v in values])
    in_ms = [
        Line(one.name, tuple(Point(p.x, p.y / 1e6, p.said) for p in one.points)) for one in lines
    ]
    views = (
        # Beside the marks, the words of several drives would cover each other.
        View(
            "logarithmic",
            x,
            (Panel(log, tuple(lines)),),
            notes=tuple(notes[:1] * (len(notes) == 1)),
        ),
        View("linear", x, (Panel(linear, tuple(in_ms)),)),
    )
    drives = {r.drive for r in results}
    what = parse(results[0].kind).label if same else "several steps"
    short = [(r, s) for r in results if (s := all_latencies_ns(r)) is not None]
    words = [
        f"{r.step.label}: p50 {show_time_or_dash(s['p50'])}, p99 {show_time_or_dash(s['p99'])}"
        for r, s in short
    ]
    finding = "latency"
    of_one = [short[0][1][p] for p in ("p50", "p99")] if len(short) == 1 else [None]
    if None not in of_one:
        p50, p99 = map(show_time_or_dash, of_one)
        finding = f"half within {p50}, 99 % within {p99}"
    about = About(
        f"{truncate(results[0].drive, LONGEST_NAME)}: {finding}" if len(drives) == 1 else "Latency",
        f"{what}; half of all I/Os are left of 50 %, one in a hundred right of 99 %",
        provenance(results),
        f"Curves of how long I/Os take. {'; '.join(words)}",
    )
    return LineChart("How long I/Os take", views, about=about)


def _percentiles(whole: Latencies) -> list[Point]:
    so_far = np.cumsum(whole.counts) / whole.total
    hit = np.flatnonzero(whole.counts)
    shares = np.minimum(so_far[hit], 1 - 0.5 / whole.total)
    times = np.clip(histogram.MIDDLE_NS[hit], whole.minimum_ns, whole.maximum_ns)
    keep = np.unique(np.linspace(0, len(hit) - 1, min(len(hit), ASKED)).astype(int))
    points = []
    for n in keep:
        share = float(shares[n])
        digits = max(0, math.ceil(-math.log10(max(1 - share, 1e-9))) - 2) if share > 0.9 else 1
        words = f"{100 * share:.{digits + 1}f} % within {show_time(float(times[n]))}"
        points.append(Point(float(-math.log10(1 - share)), float(times[n]), words))
    return points
